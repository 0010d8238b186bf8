package records

import (
	"context"
	"time"
)

// Hold is a person's override on one file of an input.
type Hold struct {
	ID     int64
	Path   []byte
	In     bool `db:"held_in"`
	Note   string
	By     string     `db:"placed_by"`
	At     time.Time  `db:"placed_at"`
	Until  *time.Time // it lapses then
	Digest string     // it lapses when the file has other bytes, unless empty

	EndedAt  *time.Time
	EndedWhy string
}

const selectHold = "SELECT id, path, held_in, note, placed_by, placed_at, until, digest, ended_at, ended_why FROM holds "

// Holds lists the holds on files of an input that bind, by path.
func (s *Store) Holds(ctx context.Context, input int64) ([]Hold, error) {
	return all[Hold](s.Pool.Query(ctx, selectHold+"WHERE input_id = $1 AND ended_at IS NULL ORDER BY path", input))
}

// EndedHolds lists the last holds of an input that no longer bind.
func (s *Store) EndedHolds(ctx context.Context, input int64, limit int) ([]Hold, error) {
	return all[Hold](s.Pool.Query(ctx, selectHold+"WHERE input_id = $1 AND ended_at IS NOT NULL ORDER BY id DESC LIMIT $2", input, limit))
}

// CreateHold records a hold. A file that has one is ErrExists.
func (s *Store) CreateHold(ctx context.Context, input int64, h Hold) (Hold, error) {
	made, err := one[Hold](s.Pool.Query(ctx, `INSERT INTO holds (input_id, path, held_in, note, placed_by, placed_at, until, digest)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id, path, held_in, note, placed_by, placed_at, until, digest, ended_at, ended_why`,
		input, h.Path, h.In, h.Note, h.By, h.At, h.Until, h.Digest))
	if isUnique(err) {
		err = ErrExists
	}
	return made, err
}

// EndHold ends a hold that binds, or returns ErrNotFound.
func (s *Store) EndHold(ctx context.Context, input, id int64, at time.Time, why string) error {
	tag, err := s.Pool.Exec(ctx, "UPDATE holds SET ended_at = $3, ended_why = $4 WHERE input_id = $1 AND id = $2 AND ended_at IS NULL", input, id, at, why)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}
