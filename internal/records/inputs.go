package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"jorvex/internal/core/finding"
)

// Input is an input with the newest version of its definition.
type Input struct {
	ID      int64
	Name    string
	PlaceID int64
	Place   string // name
	Version int64
	Layout  string
	Text    string
	Digest  string
	SavedAt time.Time
	SavedBy string
	Counts  Counts
	Doubt   *Doubt

	PlaceReachable bool
	PlaceWhy       string
}

// Counts is an input's roster in numbers.
type Counts struct {
	Files    int64            `json:"files"`
	Picked   int64            `json:"picked"`
	LeftOut  int64            `json:"left_out"`
	HeldBack int64            `json:"held_back"`
	ByState  map[string]int64 `json:"by_state"`
	ByReason map[string]int64 `json:"by_reason"`
	Held     int64            `json:"held"`  // files with a hold
	Near     int64            `json:"near"`  // near misses
	Rules    []Rule           `json:"rules"` // in the order they are tried
	Cures    []Cure           `json:"cures"`
	// Coverage counts the expected files by the state of their slot.
	Coverage map[string]int64 `json:"coverage,omitempty"`
	// Findings are about the set: a rule that meets no file, a listed file that
	// is missing.
	Findings []finding.Finding `json:"findings"`
}

// Rule is one rule with the number of files it met.
type Rule struct {
	Kind  string `json:"kind"`
	Text  string `json:"text"`
	Line  int    `json:"line"`
	Off   bool   `json:"off"`
	Files int64  `json:"files"`
}

// Cure is a pattern that takes near misses in.
type Cure struct {
	Near
	Beside string `json:"beside"`
	Line   int    `json:"line"`
	Path   string `json:"path"` // the first of the files, as filename.Show writes it
	Files  int64  `json:"files"`
}

const selectInput = `SELECT i.id, i.name, i.place_id, p.name AS place, p.reachable AS place_reachable, p.why AS place_why,
	i.version, i.layout, d.text, d.digest, d.saved_at, d.saved_by, i.counts, i.doubt
	FROM inputs i JOIN places p ON p.id = i.place_id JOIN definitions d ON d.input_id = i.id AND d.version = i.version `

// Input returns the input of that name, or ErrNotFound.
func (s *Store) Input(ctx context.Context, name string) (Input, error) {
	return one[Input](s.Pool.Query(ctx, selectInput+"WHERE i.name = $1", name))
}

// InputByID returns an input, or ErrNotFound.
func (s *Store) InputByID(ctx context.Context, id int64) (Input, error) {
	return one[Input](s.Pool.Query(ctx, selectInput+"WHERE i.id = $1", id))
}

// Inputs lists inputs by name, those after the name given.
func (s *Store) Inputs(ctx context.Context, after string, limit int) ([]Input, error) {
	return all[Input](s.Pool.Query(ctx, selectInput+"WHERE i.name > $1 ORDER BY i.name LIMIT $2", after, limit))
}

// InputsOf lists the inputs of a place.
func (s *Store) InputsOf(ctx context.Context, place int64) ([]Input, error) {
	return all[Input](s.Pool.Query(ctx, selectInput+"WHERE i.place_id = $1 ORDER BY i.id", place))
}

// NewDefinition is a version of a definition to be saved.
type NewDefinition struct {
	Name, Text, Digest, Layout string
	PlaceID                    int64
	Deliveries                 []Delivery
	At                         time.Time
	By                         string
	Runs                       Runs
}

// Delivery is a file or table that an input delivers. No two inputs may deliver
// the same.
type Delivery struct {
	Kind string // file or table
	Name string
}

// DeliveryTaken says that another input delivers the same.
type DeliveryTaken struct {
	Delivery
	Input string
}

func (e *DeliveryTaken) Error() string {
	return "the " + e.Kind + " " + e.Name + " is delivered by the input " + e.Input + " already"
}

// NameTaken says that a report has the name of an input, or the other way round:
// refreshes are asked for by either.
type NameTaken struct{ Kind, Name string }

func (e *NameTaken) Error() string { return "there is " + e.Kind + " " + e.Name + " already" }

// ownName holds the names of inputs and reports apart.
func ownName(ctx context.Context, tx pgx.Tx, name, table, kind string) error {
	var taken bool
	if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtext('jorvex names'))"); err != nil {
		return err
	}
	err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM "+table+" WHERE name = $1)", name).Scan(&taken)
	if err == nil && taken {
		err = &NameTaken{Kind: kind, Name: name}
	}
	return err
}

// DeliveredFiles lists the names of all files that inputs deliver.
func (s *Store) DeliveredFiles(ctx context.Context) ([]string, error) {
	rows, err := s.Pool.Query(ctx, "SELECT name FROM deliveries WHERE kind = 'file' ORDER BY name")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// CreateInput records a new input. A name that is taken is ErrExists.
func (s *Store) CreateInput(ctx context.Context, d NewDefinition) (int64, error) {
	var id int64
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, "INSERT INTO inputs (name, place_id, version, layout) VALUES ($1, $2, 1, $3) RETURNING id", d.Name, d.PlaceID, d.Layout).Scan(&id)
		if err != nil {
			return err
		}
		return saveVersion(ctx, tx, id, 1, d)
	})
	if isUnique(err) {
		err = ErrExists
	}
	return id, err
}

// SaveInput records a new version of an input's definition over the version
// that was edited. If that is not the newest, it is ErrConflict.
// A new name that is taken is ErrExists.
func (s *Store) SaveInput(ctx context.Context, id, edited int64, d NewDefinition) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE notice_rules SET inputs = array_replace(inputs, i.name, $2) FROM inputs i
			WHERE i.id = $1 AND i.name <> $2 AND i.name = ANY(inputs)`, id, d.Name); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, "UPDATE inputs SET version = version + 1, name = $5, place_id = $3, layout = $4 WHERE id = $1 AND version = $2", id, edited, d.PlaceID, d.Layout, d.Name)
		if isUnique(err) {
			return ErrExists
		}
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrConflict
		}
		return saveVersion(ctx, tx, id, edited+1, d)
	})
}

func saveVersion(ctx context.Context, tx pgx.Tx, id, version int64, d NewDefinition) error {
	if err := ownName(ctx, tx, d.Name, "reports", "a report"); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, "INSERT INTO definitions (input_id, version, text, digest, saved_at, saved_by) VALUES ($1, $2, $3, $4, $5, $6)",
		id, version, d.Text, d.Digest, d.At, d.By)
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "DELETE FROM deliveries WHERE input_id = $1", id); err != nil {
		return err
	}
	for _, delivery := range d.Deliveries {
		var owner int64
		err := tx.QueryRow(ctx, `INSERT INTO deliveries (kind, name, input_id) VALUES ($1, $2, $3)
			ON CONFLICT (kind, name) DO UPDATE SET name = deliveries.name RETURNING input_id`, delivery.Kind, delivery.Name, id).Scan(&owner)
		if err != nil {
			return err
		}
		if owner != id {
			taken := &DeliveryTaken{Delivery: delivery}
			if err := tx.QueryRow(ctx, "SELECT name FROM inputs WHERE id = $1", owner).Scan(&taken.Input); err != nil {
				return err
			}
			return taken
		}
	}
	return saveRuns(ctx, tx, Subject{Input: id}, d.Runs)
}

// Version is one saved version of a definition.
type Version struct {
	Version int64
	Text    string
	Digest  string
	SavedAt time.Time
	SavedBy string
}

// Versions lists the versions of an input's definition before one (0 for the
// newest), the newest first.
func (s *Store) Versions(ctx context.Context, input, before int64, limit int) ([]Version, error) {
	return all[Version](s.Pool.Query(ctx, `SELECT version, text, digest, saved_at, saved_by FROM definitions
		WHERE input_id = $1 AND ($2 = 0 OR version < $2) ORDER BY version DESC LIMIT $3`, input, before, limit))
}

// Version returns one version of an input's definition, or ErrNotFound.
func (s *Store) Version(ctx context.Context, input, version int64) (Version, error) {
	return one[Version](s.Pool.Query(ctx, "SELECT version, text, digest, saved_at, saved_by FROM definitions WHERE input_id = $1 AND version = $2", input, version))
}
