package records

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"jorvex/internal/core/receipt"
)

// Receipt returns a receipt by its number, or ErrNotFound.
func (s *Store) Receipt(ctx context.Context, number int64) (receipt.Stored, error) {
	return one[receipt.Stored](s.Pool.Query(ctx, "SELECT number, header, digest, previous FROM receipts WHERE number = $1", number))
}

// LastReceipt returns an input's newest receipt with some parameters, as
// canonical JSON, before a number (0 for the newest of all), or ErrNotFound.
// Receipts of named files alone do not count.
func (s *Store) LastReceipt(ctx context.Context, input int64, parameters string, before int64) (receipt.Stored, error) {
	return one[receipt.Stored](s.Pool.Query(ctx, `SELECT number, header, digest, previous FROM receipts
		WHERE number = (SELECT number FROM receipt_inputs WHERE input_id = $1 AND parameters = $2 AND NOT once AND ($3 = 0 OR number < $3) ORDER BY number DESC LIMIT 1)`, input, parameters, before))
}

// LastReportReceipt returns the newest receipt, before a number (0 for the newest of
// all), of the report that a refresh is of, or ErrNotFound.
func (s *Store) LastReportReceipt(ctx context.Context, refresh, before int64) (receipt.Stored, error) {
	return one[receipt.Stored](s.Pool.Query(ctx, `SELECT r.number, r.header, r.digest, r.previous FROM receipts r JOIN refreshes f ON f.id = r.refresh_id
		WHERE f.report_id = (SELECT report_id FROM refreshes WHERE id = $1) AND ($2 = 0 OR r.number < $2) ORDER BY r.number DESC LIMIT 1`, refresh, before))
}

// LastReceiptNumbers returns the number of each input's newest receipt, whatever
// its parameters.
func (s *Store) LastReceiptNumbers(ctx context.Context, inputs []int64) (map[int64]int64, error) {
	rows, err := s.Pool.Query(ctx, "SELECT input_id, max(number) FROM receipt_inputs WHERE input_id = ANY($1) GROUP BY input_id", inputs)
	if err != nil {
		return nil, err
	}
	last := map[int64]int64{}
	var input, number int64
	_, err = pgx.ForEachRow(rows, []any{&input, &number}, func() error { last[input] = number; return nil })
	return last, err
}

// Made is one thing that was delivered.
type Made struct {
	Receipt int64
	Kind    string
	Name    string
	InputID int64
	Size    int64
	Digest  string
}

// MadeSince lists the files that were delivered after a receipt, and the copies of
// files that fed.
func (s *Store) MadeSince(ctx context.Context, receipt int64) ([]Made, error) {
	return all[Made](s.Pool.Query(ctx, "SELECT * FROM delivered WHERE receipt > $1 AND kind IN ('file', 'copy') ORDER BY receipt", receipt))
}

// MadeBy returns the name of another input that delivered to a file or table
// last, or ErrNotFound.
func (s *Store) MadeBy(ctx context.Context, input int64, kind, name string) (string, error) {
	type other struct{ Name string }
	o, err := one[other](s.Pool.Query(ctx, `SELECT i.name FROM (SELECT input_id FROM delivered WHERE kind = $1 AND name = $2 ORDER BY receipt DESC LIMIT 1) d
		JOIN inputs i ON i.id = d.input_id WHERE i.id <> $3`, kind, name, input))
	return o.Name, err
}

// LastMade returns the newest receipt of an input that delivered something, or
// ErrNotFound.
func (s *Store) LastMade(ctx context.Context, input int64, kind, name string) (receipt.Stored, error) {
	return one[receipt.Stored](s.Pool.Query(ctx, `SELECT r.number, r.header, r.digest, r.previous FROM delivered d JOIN receipts r ON r.number = d.receipt
		WHERE d.kind = $1 AND d.name = $2 AND d.input_id = $3 ORDER BY d.receipt DESC LIMIT 1`, kind, name, input))
}

// LastCopies lists the files of a folder that an input delivered last.
func (s *Store) LastCopies(ctx context.Context, input int64, folder string) ([]string, error) {
	rows, err := s.Pool.Query(ctx, `SELECT c.name FROM delivered c WHERE c.kind = 'copy' AND c.input_id = $1 AND starts_with(c.name, $2 || '/')
		AND c.receipt = (SELECT max(receipt) FROM delivered WHERE kind = 'folder' AND name = $2 AND input_id = $1)`, input, folder)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// EverMade reports whether a file or table was delivered before, by any input.
func (s *Store) EverMade(ctx context.Context, kind, name string) (is bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM delivered WHERE kind = $1 AND name = $2)", kind, name).Scan(&is)
	return is, err
}

// Verify recomputes the whole chain. The error is a *receipt.BrokenLink if it
// does not hold.
func (s *Store) Verify(ctx context.Context) (receipt.Chain, error) {
	var chain receipt.Chain
	err := pgx.BeginTxFunc(ctx, s.Pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT number, header, digest, previous FROM receipts ORDER BY number")
		if err != nil {
			return err
		}
		var r receipt.Stored
		if _, err := pgx.ForEachRow(rows, []any{&r.Number, &r.Header, &r.Digest, &r.Previous}, func() error { return chain.Check(r) }); err != nil {
			return err
		}
		var number int64
		var digest string
		if err := tx.QueryRow(ctx, "SELECT number, digest FROM chain").Scan(&number, &digest); err != nil {
			return err
		}
		if number != chain.Checked || digest != chain.Head() {
			return &receipt.BrokenLink{Number: chain.Checked + 1, Why: "it is not there, and the chain's head says there is one"}
		}
		return nil
	})
	return chain, err
}

// CreateSession records a browser's session by the digest of its secret.
func (s *Store) CreateSession(ctx context.Context, digest string, expires time.Time) error {
	_, err := s.Pool.Exec(ctx, "INSERT INTO sessions (digest, expires) VALUES ($1, $2)", digest, expires)
	return err
}

// Session reports whether a session is known and not over.
func (s *Store) Session(ctx context.Context, digest string, now time.Time) (bool, error) {
	var known bool
	err := s.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM sessions WHERE digest = $1 AND expires > $2)", digest, now).Scan(&known)
	return known, err
}

// ReceiptBefore returns the receipt that one is compared with, for an input: the
// newest before it with the same parameters; nil if there is none.
func (s *Store) ReceiptBefore(ctx context.Context, number, input int64) (*receipt.Stored, error) {
	before, err := one[receipt.Stored](s.Pool.Query(ctx, `SELECT number, header, digest, previous FROM receipts WHERE number = (
		SELECT b.number FROM receipt_inputs r JOIN receipt_inputs b ON b.input_id = r.input_id AND b.parameters = r.parameters AND NOT b.once AND b.number < r.number
		WHERE r.number = $1 AND r.input_id = $2 ORDER BY b.number DESC LIMIT 1)`, number, input))
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return &before, err
}
