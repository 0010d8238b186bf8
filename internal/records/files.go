package records

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"jorvex/internal/core/changes"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/places"
)

// File is one file of a place.
type File struct {
	ID       int64
	Path     string // raw bytes
	Mark     places.Mark
	Evidence changes.Evidence
	Digest   string            // empty if it was not computed for this mark
	Fresh    bool              // the file had just been written when it was
	Trouble  []finding.Finding // why it could not be opened, for this mark
	Came     int64             // the modified time it had when it was first seen
}

// EachFile calls each with every file recorded of a place, in no order.
func (s *Store) EachFile(ctx context.Context, place int64, each func(File) error) error {
	rows, err := s.Pool.Query(ctx, `SELECT id, path, size, modified, changed, inode, evidence, coalesce(digest, ''), fresh, trouble, came FROM files WHERE place_id = $1`, place)
	if err != nil {
		return err
	}
	var f File
	var path []byte
	var inode int64
	_, err = pgx.ForEachRow(rows, []any{&f.ID, &path, &f.Mark.Size, &f.Mark.Modified, &f.Mark.Changed, &inode, &f.Evidence, &f.Digest, &f.Fresh, &f.Trouble, &f.Came}, func() error {
		f.Path, f.Mark.Inode = string(path), uint64(inode)
		err := each(f)
		f.Trouble = nil
		return err
	})
	return err
}

// ReserveFileIDs returns the first of n ids that no file has.
func (s *Store) ReserveFileIDs(ctx context.Context, n int) (int64, error) {
	var last int64
	err := s.Pool.QueryRow(ctx, "SELECT setval('file_ids', nextval('file_ids') + $1 - 1)", n).Scan(&last)
	return last - int64(n) + 1, err
}

// SaveFiles records new files and changed ones, in one transaction. What was
// known of a changed file's bytes is forgotten unless it comes along.
func (s *Store) SaveFiles(ctx context.Context, place int64, added, altered []File) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		columns := []string{"id", "place_id", "path", "sort_key", "size", "modified", "changed", "inode", "evidence", "came"}
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"files"}, columns, pgx.CopyFromSlice(len(added), func(i int) ([]any, error) {
			f := &added[i]
			return []any{f.ID, place, []byte(f.Path), filename.SortKey(f.Path), f.Mark.Size, f.Mark.Modified, f.Mark.Changed, int64(f.Mark.Inode), int16(f.Evidence), f.Came}, nil
		}))
		if err != nil {
			return fmt.Errorf("record new files: %w", err)
		}
		if len(altered) == 0 {
			return nil
		}
		if _, err := tx.Exec(ctx, `CREATE TEMP TABLE altered (LIKE files) ON COMMIT DROP`); err != nil {
			return err
		}
		columns = []string{"id", "place_id", "path", "sort_key", "size", "modified", "changed", "inode", "evidence", "digest", "fresh", "trouble", "came"}
		_, err = tx.CopyFrom(ctx, pgx.Identifier{"pg_temp", "altered"}, columns, pgx.CopyFromSlice(len(altered), func(i int) ([]any, error) {
			f := &altered[i]
			var digest, trouble any
			if f.Digest != "" {
				digest = f.Digest
			}
			if f.Trouble != nil {
				trouble = f.Trouble
			}
			return []any{f.ID, place, []byte{}, []byte{}, f.Mark.Size, f.Mark.Modified, f.Mark.Changed, int64(f.Mark.Inode), int16(f.Evidence), digest, f.Fresh, trouble, f.Came}, nil
		}))
		if err != nil {
			return fmt.Errorf("record changed files: %w", err)
		}
		_, err = tx.Exec(ctx, `UPDATE files f SET size = a.size, modified = a.modified, changed = a.changed, inode = a.inode,
			evidence = a.evidence, digest = a.digest, fresh = a.fresh, trouble = a.trouble FROM pg_temp.altered a WHERE f.id = a.id`)
		return err
	})
}

// Check is what reading some bytes under some layout came to.
type Check struct {
	Digest   string
	Layout   string
	RowsRead int64
	RowsKept int64
	Findings []finding.Finding
	Kind     string // of the content
	// Delimiter is the character that cells are apart by, or empty.
	Delimiter string
	Totals    map[string]string // sums by column
	Headers   []string          // as they are written; none if no header was found
}

// SaveChecks records checks; one that is known stays as it is.
func (s *Store) SaveChecks(ctx context.Context, checks []Check) error {
	batch := &pgx.Batch{}
	for _, c := range checks {
		if c.Findings == nil {
			c.Findings = []finding.Finding{}
		}
		_, broken := finding.AnyBroken(c.Findings)
		if c.Totals == nil {
			c.Totals = map[string]string{}
		}
		batch.Queue(`INSERT INTO checks (digest, layout, rows_read, rows_kept, findings, broken, kind, delimiter, totals, headers)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) ON CONFLICT DO NOTHING`,
			c.Digest, c.Layout, c.RowsRead, c.RowsKept, c.Findings, broken, c.Kind, c.Delimiter, c.Totals, c.Headers)
	}
	return s.Pool.SendBatch(ctx, batch).Close()
}

// Known is what is known in short of bytes that were read under a layout.
type Known struct {
	Broken    bool
	Rows      int64 // kept
	Kind      string
	Delimiter string
	Totals    map[string]string
	Why       string // the first finding that makes it broken
	// Headers are shared by all that have the same.
	Headers *[]string
}

// Shared keeps lists of headers once for all files that have the same.
type Shared map[string]*[]string

// Of returns the one list that is like another, or nil for none.
func (s Shared) Of(headers []string) *[]string {
	if headers == nil {
		return nil
	}
	key := strings.Join(headers, "\x00")
	if s[key] == nil {
		s[key] = &headers
	}
	return s[key]
}

// KnownChecks returns what is known of every digest with a check under a
// layout.
func (s *Store) KnownChecks(ctx context.Context, layout string) (map[string]Known, error) {
	rows, err := s.Pool.Query(ctx, `SELECT digest, broken, rows_kept, kind, delimiter, totals, headers,
		CASE WHEN broken THEN coalesce((SELECT f->>'sentence' FROM jsonb_array_elements(findings) f WHERE f->>'grade' = 'broken' LIMIT 1), '') ELSE '' END
		FROM checks WHERE layout = $1`, layout)
	if err != nil {
		return nil, err
	}
	known := map[string]Known{}
	var digest string
	var k Known
	var headers []string
	shared := Shared{}
	_, err = pgx.ForEachRow(rows, []any{&digest, &k.Broken, &k.Rows, &k.Kind, &k.Delimiter, &k.Totals, &headers, &k.Why}, func() error {
		k.Headers = shared.Of(headers)
		known[digest] = k
		k.Totals, headers = nil, nil
		return nil
	})
	return known, err
}

// below returns the range of sort keys that the files below a folder lie in.
// Other folders whose name differs in letter case lie in it too.
func below(folder string) (from, to []byte) {
	if folder == "" {
		return []byte{}, bytes.Repeat([]byte{0xff}, 8)
	}
	natural := filename.SortKey(folder)
	natural = natural[:len(natural)-len(folder)-1]
	from = append(append([]byte{}, natural...), 1)
	to = append(append([]byte{}, natural...), 2)
	return from, to
}
