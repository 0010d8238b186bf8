package deliver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/shaping"
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
		fmt.Fprintf(sum, "%s %q\n", hex.EncodeToString(one.Sum(nil)), belowFolder(source.Path, below))
		return nil
	})
	return hex.EncodeToString(sum.Sum(nil)), err
}

func belowFolder(path, folder string) string {
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

// DeliveredFile is a file whose rows a delivered table holds.
type DeliveredFile struct {
	Path string // raw bytes
	Rows int64
}

// DigestOfTable recomputes the digest of a delivered table from its rows. They lie in
// the order in which they were loaded.
func DigestOfTable(ctx context.Context, pool *pgxpool.Pool, name string, columns []definition.Column, files []DeliveredFile) (string, error) {
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return "", err
	}
	defer conn.Release()
	var byFile bool
	err = conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM information_schema.columns WHERE table_schema = $1 AND table_name = $2 AND column_name = $3)", Schema, name, FileColumn).Scan(&byFile)
	if err != nil {
		return "", err
	}
	var names []string
	for _, c := range columns {
		names = append(names, pgx.Identifier{c.Name}.Sanitize())
	}
	if byFile {
		names = append(names, FileColumn)
	}
	table := pgx.Identifier{Schema, name}.Sanitize()
	r, w := io.Pipe()
	done := make(chan error, 1)
	go func() {
		_, err := conn.Conn().PgConn().CopyTo(ctx, w, fmt.Sprintf("COPY (SELECT %s FROM %s ORDER BY ctid) TO STDOUT (FORMAT csv)", strings.Join(names, ", "), table))
		_ = w.CloseWithError(err)
		done <- err
	}()
	sums := newPartSums(columns, files, byFile)
	err = rows(r, sums.add)
	_ = r.CloseWithError(err)
	if errCopy := <-done; errCopy != nil {
		err = errCopy
	}
	if err != nil {
		return "", err
	}
	return sums.digest()
}

// partSums hashes the rows of a table file by file.
type partSums struct {
	columns []definition.Column
	files   []DeliveredFile
	byFile  bool
	sums    []hash.Hash
	writers []*shaping.Writer
	counts  []int64
	at      map[string]int
	now     int
}

func newPartSums(columns []definition.Column, files []DeliveredFile, byFile bool) *partSums {
	s := &partSums{columns: columns, files: files, byFile: byFile, counts: make([]int64, len(files)), at: map[string]int{}}
	for i, f := range files {
		sum := sha256.New()
		s.sums = append(s.sums, sum)
		s.writers = append(s.writers, shaping.NewWriter(sum))
		s.at[filename.Show(f.Path)] = i
	}
	return s
}

var errOtherRows = errors.New("it was changed: it has other rows")

func (s *partSums) add(cells []reading.Cell) error {
	i := s.now
	if s.byFile {
		known := false
		if i, known = s.at[string(cells[len(s.columns)].Text)]; !known {
			return errOtherRows
		}
	} else {
		for i < len(s.files) && s.counts[i] == s.files[i].Rows {
			i++
		}
		if s.now = i; i == len(s.files) {
			return errOtherRows
		}
	}
	s.counts[i]++
	out := s.writers[i]
	for c, col := range s.columns {
		switch v := cells[c].Text; {
		case len(v) == 0:
			out.Null()
		case col.Type == definition.YesNo:
			out.Plain(map[byte][]byte{'t': []byte("true"), 'f': []byte("false")}[v[0]])
		default:
			out.Text(v)
		}
	}
	return out.EndRow()
}

func (s *partSums) digest() (string, error) {
	var parts []string
	for i, f := range s.files {
		if s.counts[i] != f.Rows {
			return "", errOtherRows
		}
		if err := s.writers[i].Flush(); err != nil {
			return "", err
		}
		parts = append(parts, hex.EncodeToString(s.sums[i].Sum(nil)))
	}
	return TableDigest(s.columns, parts), nil
}
