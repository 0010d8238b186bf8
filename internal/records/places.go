package records

import (
	"context"
	"time"
)

// Place is one row of places.
type Place struct {
	ID        int64
	Name      string
	Kind      string
	Directory string
	Reachable bool
	Why       string
	Since     *time.Time
	EveryMS   int64 // between two looks; 0 is the service's own
	Mounted   bool  // its directory was a mounted file system
	SettleMS  int64 // that a file must be left alone for; 0 is the service's own
	Writable  bool  // files in it may be handed over
}

// Every is the time between two looks, and Settle the time a file must be left
// alone for; 0 is the service's own.
func (p Place) Every() time.Duration  { return time.Duration(p.EveryMS) * time.Millisecond }
func (p Place) Settle() time.Duration { return time.Duration(p.SettleMS) * time.Millisecond }

// Look is one pass over a place.
type Look struct {
	Started, Ended     time.Time
	Reachable          bool
	Why                string
	Files, Folders     int64
	New, Changed, Gone int64
	Skipped            []Skipped
}

// Skipped is a folder or link that could not be looked at.
type Skipped struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// CreatePlace records a place. A name that is taken is ErrExists.
func (s *Store) CreatePlace(ctx context.Context, p Place) (Place, error) {
	p, err := one[Place](s.Pool.Query(ctx, "INSERT INTO places (name, kind, directory, every_ms, settle_ms) VALUES ($1, $2, $3, $4, $5) RETURNING *",
		p.Name, p.Kind, p.Directory, p.EveryMS, p.SettleMS))
	if isUnique(err) {
		err = ErrExists
	}
	return p, err
}

// PacePlace sets how often a place is looked at, and how long files in it must
// be left alone for.
func (s *Store) PacePlace(ctx context.Context, id, everyMS, settleMS int64) (Place, error) {
	return one[Place](s.Pool.Query(ctx, "UPDATE places SET every_ms = $2, settle_ms = $3 WHERE id = $1 RETURNING *", id, everyMS, settleMS))
}

// OpenPlace records whether files in a place may be handed over.
func (s *Store) OpenPlace(ctx context.Context, id int64, writable bool) (Place, error) {
	return one[Place](s.Pool.Query(ctx, "UPDATE places SET writable = $2 WHERE id = $1 RETURNING *", id, writable))
}

// MountPlace records whether a place's directory is a mounted file system.
func (s *Store) MountPlace(ctx context.Context, id int64, mounted bool) error {
	_, err := s.Pool.Exec(ctx, "UPDATE places SET mounted = $2 WHERE id = $1", id, mounted)
	return err
}

// Places lists all places by name.
func (s *Store) Places(ctx context.Context) ([]Place, error) {
	return all[Place](s.Pool.Query(ctx, "SELECT * FROM places ORDER BY name"))
}

// Place returns the place of that name, or ErrNotFound.
func (s *Store) Place(ctx context.Context, name string) (Place, error) {
	return one[Place](s.Pool.Query(ctx, "SELECT * FROM places WHERE name = $1", name))
}

// LastLook returns the last look at a place, or ErrNotFound.
func (s *Store) LastLook(ctx context.Context, place int64) (Look, error) {
	return one[Look](s.Pool.Query(ctx, "SELECT started, ended, reachable, why, files, folders, new, changed, gone, skipped FROM looks WHERE place_id = $1 ORDER BY id DESC LIMIT 1", place))
}

// SaveLook records a look and what it says of the place. Of looks that saw
// nothing new, only the last is kept.
func (s *Store) SaveLook(ctx context.Context, place int64, l Look) error {
	if l.Skipped == nil {
		l.Skipped = []Skipped{}
	}
	_, err := s.Pool.Exec(ctx, `
		WITH place AS (
			UPDATE places SET reachable = $4, why = $5, since = CASE WHEN $4 THEN NULL ELSE coalesce(since, $2) END WHERE id = $1
		), idle AS (
			DELETE FROM looks WHERE id = (SELECT max(id) FROM looks WHERE place_id = $1)
				AND new + changed + gone = 0 AND reachable = $4 AND why = $5
		)
		INSERT INTO looks (place_id, started, ended, reachable, why, files, folders, new, changed, gone, skipped)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`,
		place, l.Started, l.Ended, l.Reachable, l.Why, l.Files, l.Folders, l.New, l.Changed, l.Gone, l.Skipped)
	return err
}
