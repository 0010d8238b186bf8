package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"jorvex/internal/core/receipt"
)

// Retention is how long the bytes that fed receipts are kept: those of receipts that
// are younger than Days, and those of the newest Count of each input. Zero for both
// keeps all.
type Retention struct {
	Days  int
	Count int
}

// None reports whether everything is kept.
func (r Retention) None() bool { return r == Retention{} }

// Retention returns what was set.
func (s *Store) Retention(ctx context.Context) (r Retention, err error) {
	return one[Retention](s.Pool.Query(ctx, "SELECT days, count FROM retention"))
}

// SetRetention sets how long bytes are kept.
func (s *Store) SetRetention(ctx context.Context, r Retention) error {
	_, err := s.Pool.Exec(ctx, "UPDATE retention SET days = $1, count = $2", r.Days, r.Count)
	return err
}

// Droppable is bytes that a retention does not keep.
type Droppable struct {
	Digest  string
	Through int64 // the newest receipt that names them
}

// Unreplayable is an input with receipts that can no longer be replayed.
type Unreplayable struct {
	Input    string
	Receipts int64
	Last     int64 // the newest of them
}

// keepFrom is, for each input, the first receipt whose bytes are kept: at least the
// newest with each set of parameters, and those that files which were handed over fed
// last.
const keepFrom = `WITH kept AS (
	SELECT i.input_id, min(i.number) AS first FROM (
		SELECT ri.input_id, ri.number, f.ended, row_number() OVER (PARTITION BY ri.input_id ORDER BY ri.number DESC) AS nth,
			row_number() OVER (PARTITION BY ri.input_id, ri.parameters ORDER BY ri.number DESC) AS nth_alike
		FROM receipt_inputs ri JOIN receipts r ON r.number = ri.number JOIN refreshes f ON f.id = r.refresh_id) i
	WHERE $1 = 0 AND $2 = 0 OR $1 > 0 AND i.ended >= $3::timestamptz - $1 * interval '1 day' OR $2 > 0 AND i.nth <= $2 OR i.nth_alike = 1 GROUP BY i.input_id),
	droppable AS (SELECT f.digest, max(f.last) AS through FROM fed f JOIN kept k ON k.input_id = f.input_id
		WHERE f.digest NOT IN (SELECT digest FROM handed_over WHERE feeds) GROUP BY f.digest HAVING bool_and(f.last < k.first)) `

// Freed tells which bytes a retention would not keep at a moment, and which receipts
// could then no longer be replayed.
func (s *Store) Freed(ctx context.Context, r Retention, now time.Time) (droppable []Droppable, lost []Unreplayable, err error) {
	droppable, err = all[Droppable](s.Pool.Query(ctx, keepFrom+"SELECT digest, through FROM droppable", r.Days, r.Count, now))
	if err != nil {
		return nil, nil, err
	}
	lost, err = all[Unreplayable](s.Pool.Query(ctx, keepFrom+`SELECT i.name AS input, count(DISTINCT ri.number) AS receipts, max(ri.number) AS last
		FROM receipt_inputs ri JOIN inputs i ON i.id = ri.input_id WHERE EXISTS (SELECT FROM fed f JOIN droppable d ON d.digest = f.digest
			WHERE f.input_id = ri.input_id AND ri.number BETWEEN f.first AND f.last) GROUP BY i.name ORDER BY i.name`, r.Days, r.Count, now))
	return droppable, lost, err
}

// NoteFreed records what is about to go, so that it is not taken for lost.
func (s *Store) NoteFreed(ctx context.Context, list []Droppable) error {
	digests, through := make([]string, len(list)), make([]int64, len(list))
	for i, d := range list {
		digests[i], through[i] = d.Digest, d.Through
	}
	_, err := s.Pool.Exec(ctx, `INSERT INTO freed (digest, through) SELECT * FROM unnest($1::text[], $2::bigint[])
		ON CONFLICT (digest) DO UPDATE SET through = excluded.through`, digests, through)
	return err
}

// WasFreed reports whether no receipt names bytes since they were let go of.
func (s *Store) WasFreed(ctx context.Context, digest string) (freed bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT coalesce((SELECT through FROM freed WHERE digest = $1) >= (SELECT max(last) FROM fed WHERE digest = $1), false)", digest).Scan(&freed)
	return freed, err
}

// Needs is how many receipts need some bytes.
type Needs struct{ Receipts, First, Last int64 }

// NeededBy tells which receipts some bytes fed.
func (s *Store) NeededBy(ctx context.Context, digest string) (Needs, error) {
	return one[Needs](s.Pool.Query(ctx, `SELECT count(DISTINCT ri.number) AS receipts, coalesce(min(ri.number), 0) AS first, coalesce(max(ri.number), 0) AS last
		FROM fed f JOIN receipt_inputs ri ON ri.input_id = f.input_id AND ri.number BETWEEN f.first AND f.last WHERE f.digest = $1`, digest))
}

// EachReceipt calls each with every receipt, in order.
func (s *Store) EachReceipt(ctx context.Context, each func(receipt.Stored) error) error {
	rows, err := s.Pool.Query(ctx, "SELECT number, header, digest, previous FROM receipts ORDER BY number")
	if err != nil {
		return err
	}
	var r receipt.Stored
	_, err = pgx.ForEachRow(rows, []any{&r.Number, &r.Header, &r.Digest, &r.Previous}, func() error { return each(r) })
	return err
}

// EachRehearsal calls each with what every rehearsal came to.
func (s *Store) EachRehearsal(ctx context.Context, each func(header []byte) error) error {
	rows, err := s.Pool.Query(ctx, "SELECT rehearsal FROM refreshes WHERE rehearsal IS NOT NULL")
	if err != nil {
		return err
	}
	var header []byte
	_, err = pgx.ForEachRow(rows, []any{&header}, func() error { return each(header) })
	return err
}

// EachFed calls each with the versions of files that fed receipts, each digest once.
func (s *Store) EachFed(ctx context.Context, each func(path []byte, digest string, first, last int64) error) error {
	rows, err := s.Pool.Query(ctx, "SELECT DISTINCT ON (digest) path, digest, first, last FROM fed ORDER BY digest, first")
	if err != nil {
		return err
	}
	var path []byte
	var digest string
	var first, last int64
	_, err = pgx.ForEachRow(rows, []any{&path, &digest, &first, &last}, func() error { return each(path, digest, first, last) })
	return err
}

// LastDeliveries lists every file, folder and table that is delivered, with the last receipt
// that did.
func (s *Store) LastDeliveries(ctx context.Context) ([]Made, error) {
	return all[Made](s.Pool.Query(ctx, "SELECT DISTINCT ON (kind, name) * FROM delivered WHERE kind IN ('file', 'folder', 'table') ORDER BY kind, name, receipt DESC"))
}

// LastDelivery returns the last receipt that delivered a file, a folder or a table.
func (s *Store) LastDelivery(ctx context.Context, kind, name string) (Made, error) {
	return one[Made](s.Pool.Query(ctx, "SELECT * FROM delivered WHERE kind = $1 AND name = $2 ORDER BY receipt DESC LIMIT 1", kind, name))
}
