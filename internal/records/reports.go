package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Report is a report with the newest version of its definition.
type Report struct {
	ID      int64
	Name    string
	Version int64
	Inputs  []int64
	Text    string
	Digest  string
	SavedAt time.Time
	SavedBy string
}

const selectReport = `SELECT r.id, r.name, r.version, r.inputs, d.text, d.digest, d.saved_at, d.saved_by
	FROM reports r JOIN report_definitions d ON d.report_id = r.id AND d.version = r.version `

// Reports lists the reports in the order of their names.
func (s *Store) Reports(ctx context.Context) ([]Report, error) {
	return all[Report](s.Pool.Query(ctx, selectReport+"ORDER BY r.name"))
}

// Report returns a report by its name, or ErrNotFound.
func (s *Store) Report(ctx context.Context, name string) (Report, error) {
	return one[Report](s.Pool.Query(ctx, selectReport+"WHERE r.name = $1", name))
}

// ReportByID returns a report, or ErrNotFound.
func (s *Store) ReportByID(ctx context.Context, id int64) (Report, error) {
	return one[Report](s.Pool.Query(ctx, selectReport+"WHERE r.id = $1", id))
}

// SaveReport records a new report (id 0), or a new version over the one that was
// edited: else it is ErrConflict. A name that is taken is ErrExists.
func (s *Store) SaveReport(ctx context.Context, id, edited int64, r Report, runs Runs) (int64, error) {
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		if err := ownName(ctx, tx, r.Name, "inputs", "an input"); err != nil {
			return err
		}
		version := edited + 1
		if id == 0 {
			version = 1
			if err := tx.QueryRow(ctx, "INSERT INTO reports (name, version, inputs) VALUES ($1, 1, $2) RETURNING id", r.Name, r.Inputs).Scan(&id); err != nil {
				return err
			}
		} else {
			tag, err := tx.Exec(ctx, "UPDATE reports SET name = $3, version = version + 1, inputs = $4 WHERE id = $1 AND version = $2", id, edited, r.Name, r.Inputs)
			if err == nil && tag.RowsAffected() == 0 {
				err = ErrConflict
			}
			if err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "INSERT INTO report_definitions (report_id, version, text, digest, saved_at, saved_by) VALUES ($1, $2, $3, $4, $5, $6)",
			id, version, r.Text, r.Digest, r.SavedAt, r.SavedBy); err != nil {
			return err
		}
		return saveRuns(ctx, tx, Subject{Report: id}, runs)
	})
	if isUnique(err) {
		err = ErrExists
	}
	return id, err
}
