package records

import (
	"context"
	"time"
)

// Excuse is a slot that need not be filled.
type Excuse struct {
	Member string
	Period string
	Note   string
	By     string    `db:"excused_by"`
	At     time.Time `db:"excused_at"`
}

// Excuses lists the excused slots of an input.
func (s *Store) Excuses(ctx context.Context, input int64) ([]Excuse, error) {
	return all[Excuse](s.Pool.Query(ctx, "SELECT member, period, note, excused_by, excused_at FROM excuses WHERE input_id = $1 ORDER BY period, member", input))
}

// SaveExcuse excuses a slot, or gives it another note.
func (s *Store) SaveExcuse(ctx context.Context, input int64, e Excuse) error {
	_, err := s.Pool.Exec(ctx, `INSERT INTO excuses (input_id, member, period, note, excused_by, excused_at) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (input_id, member, period) DO UPDATE SET note = $4, excused_by = $5, excused_at = $6`, input, e.Member, e.Period, e.Note, e.By, e.At)
	return err
}

// DropExcuse takes an excuse back, or returns ErrNotFound.
func (s *Store) DropExcuse(ctx context.Context, input int64, member, period string) error {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM excuses WHERE input_id = $1 AND member = $2 AND period = $3", input, member, period)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}
