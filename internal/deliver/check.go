package deliver

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/reading"
)

// FilesDigest is the digest of a folder delivery that is not made.
func FilesDigest(below string, table Combined) (string, error) {
	sum := sha256.New()
	err := table.Parts(func(source *Source, _ io.Reader) error {
		content, err := source.Open()
		if err != nil {
			return err
		}
		defer content.Close()
		one := sha256.New()
		if _, err := io.Copy(one, content); err != nil {
			return err
		}
		fmt.Fprintf(sum, "%s %q\n", hex.EncodeToString(one.Sum(nil)), BelowFolder(source.Path, below))
		return nil
	})
	return hex.EncodeToString(sum.Sum(nil)), err
}

func BelowFolder(path, folder string) string {
	return strings.TrimPrefix(strings.TrimPrefix(path, folder), "/")
}

// Digest returns the digest of a delivered file as it lies there.
func (f *Folder) Digest(name string) (string, error) {
	file, err := f.root.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return "", errors.New("it is not there")
	}
	if err != nil {
		return "", err
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// RowSum sums rows up whatever their order: a table has no order of its own.
type RowSum struct {
	Rows int64
	sum  [4]uint64
	row  []byte
}

// add adds a row: its values, and the file that it is of, if that is told.
func (s *RowSum) add(columns []definition.Column, cells []reading.Cell, file string, postgres bool) {
	s.row = s.row[:0]
	for i, c := range columns {
		v := cells[i].Text
		if postgres && c.Type == definition.YesNo && len(v) == 1 {
			v = map[byte][]byte{'t': []byte("true"), 'f': []byte("false")}[v[0]]
		}
		s.row = append(binary.AppendUvarint(s.row, uint64(len(v))), v...)
	}
	s.row = append(s.row, file...)
	hash := sha256.Sum256(s.row)
	for i := range s.sum {
		s.sum[i] += binary.BigEndian.Uint64(hash[8*i:])
	}
	s.Rows++
}

// AddPart adds the rows of a part. file is how the table names it; empty if it does
// not.
func (s *RowSum) AddPart(columns []definition.Column, part io.Reader, file string) error {
	return rows(part, func(cells []reading.Cell) error {
		s.add(columns, cells, file, false)
		return nil
	})
}

// Equal reports whether two sums are of the same rows.
func (s *RowSum) Equal(other *RowSum) bool { return s.Rows == other.Rows && s.sum == other.sum }

// SumOfTable sums up the rows of a delivered table. byFile says that it tells the file
// of each.
func SumOfTable(ctx context.Context, pool *pgxpool.Pool, name string, columns []definition.Column) (sum *RowSum, byFile bool, err error) {
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return nil, false, err
	}
	defer conn.Release()
	err = conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM information_schema.columns WHERE table_schema = $1 AND table_name = $2 AND column_name = $3)", Schema, name, FileColumn).Scan(&byFile)
	if err != nil {
		return nil, false, err
	}
	var names []string
	for _, c := range columns {
		names = append(names, pgx.Identifier{c.Name}.Sanitize())
	}
	if byFile {
		names = append(names, FileColumn)
	}
	r, w := io.Pipe()
	done := make(chan error, 1)
	go func() {
		_, err := conn.Conn().PgConn().CopyTo(ctx, w, fmt.Sprintf("COPY (SELECT %s FROM %s) TO STDOUT (FORMAT csv)", strings.Join(names, ", "), pgx.Identifier{Schema, name}.Sanitize()))
		_ = w.CloseWithError(err)
		done <- err
	}()
	sum = &RowSum{}
	err = rows(r, func(cells []reading.Cell) error {
		file := ""
		if byFile {
			file = string(cells[len(columns)].Text)
		}
		sum.add(columns, cells, file, true)
		return nil
	})
	_ = r.CloseWithError(err)
	if errCopy := <-done; errCopy != nil {
		err = errCopy
	}
	return sum, byFile, err
}
