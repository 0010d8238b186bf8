package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"jorvex/internal/core/receipt"
)

// Receipt returns a receipt by its number, or ErrNotFound.
func (s *Store) Receipt(ctx context.Context, number int64) (receipt.Stored, error) {
	return one[receipt.Stored](s.Pool.Query(ctx, "SELECT number, header, digest, previous FROM receipts WHERE number = $1", number))
}

// LastReceipt returns an input's newest receipt before a number (0 for the
// newest of all), or ErrNotFound.
func (s *Store) LastReceipt(ctx context.Context, input, before int64) (receipt.Stored, error) {
	return one[receipt.Stored](s.Pool.Query(ctx, `SELECT number, header, digest, previous FROM receipts
		WHERE input_id = $1 AND ($2 = 0 OR number < $2) ORDER BY number DESC LIMIT 1`, input, before))
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
