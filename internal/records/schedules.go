package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Runs is when an input or report is refreshed without a person asking.
type Runs struct {
	NextDue  *time.Time // by its schedule; nil for none
	Arrivals time.Duration
	Complete bool
}

// Due is an input or report whose refresh is due.
type Due struct {
	ID       int64
	InputID  int64 // 0 of a report
	ReportID int64
	NextDue  *time.Time
	// Arrived is since when files changed, if it was quiet for long enough since.
	Arrived *time.Time
	// Complete are the periods that became complete.
	Complete []string
}

// saveRuns records when a subject is refreshed. What arrived or is complete stays
// known.
func saveRuns(ctx context.Context, tx pgx.Tx, of Subject, runs Runs) error {
	if runs == (Runs{}) {
		_, err := tx.Exec(ctx, "DELETE FROM schedules WHERE coalesce(input_id, 0) = $1 AND coalesce(report_id, 0) = $2", of.Input, of.Report)
		return err
	}
	_, err := tx.Exec(ctx, `INSERT INTO schedules (input_id, report_id, next_due, arrivals_ms, on_complete) VALUES (nullif($1::bigint, 0), nullif($2::bigint, 0), $3, $4, $5)
		ON CONFLICT (coalesce(input_id, 0), coalesce(report_id, 0)) DO UPDATE SET next_due = excluded.next_due, arrivals_ms = excluded.arrivals_ms, on_complete = excluded.on_complete`,
		of.Input, of.Report, runs.NextDue, runs.Arrivals.Milliseconds(), runs.Complete)
	return err
}

// Due returns what is due at a moment.
func (s *Store) Due(ctx context.Context, at time.Time) ([]Due, error) {
	return all[Due](s.Pool.Query(ctx, `SELECT id, coalesce(input_id, 0) AS input_id, coalesce(report_id, 0) AS report_id,
		CASE WHEN next_due <= $1 THEN next_due END AS next_due,
		CASE WHEN arrivals_ms > 0 AND changed + arrivals_ms * interval '1 millisecond' <= $1 THEN arrived END AS arrived,
		CASE WHEN on_complete THEN fresh ELSE '{}' END AS complete
		FROM schedules WHERE next_due <= $1 OR arrivals_ms > 0 AND changed + arrivals_ms * interval '1 millisecond' <= $1 OR on_complete AND fresh <> '{}' ORDER BY id`, at))
}

// TakeDue asks for the refresh that is due, and notes when the next is, in one
// transaction. It returns the refresh.
func (s *Store) TakeDue(ctx context.Context, d Due, of Subject, by string, at time.Time, next *time.Time, job func(tx pgx.Tx, id int64) error) (id int64, err error) {
	err = s.Tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `UPDATE schedules SET next_due = CASE WHEN $2::timestamptz IS NULL THEN next_due ELSE $3 END,
			arrived = CASE WHEN $4::timestamptz IS NULL THEN arrived END, changed = CASE WHEN $4::timestamptz IS NULL THEN changed END, fresh = '{}'
			WHERE id = $1 AND ($2::timestamptz IS NULL OR next_due = $2)`, d.ID, d.NextDue, next, d.Arrived)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		var joined bool
		if id, joined, err = askRefresh(ctx, tx, of, Request{}, by, at); err != nil || joined {
			return err
		}
		return job(tx, id)
	})
	return id, err
}

// NoteArrivals notes that files of an input changed, for it and its reports.
func (s *Store) NoteArrivals(ctx context.Context, input int64, at time.Time) error {
	_, err := s.Pool.Exec(ctx, `UPDATE schedules SET arrived = coalesce(arrived, $2), changed = $2
		WHERE arrivals_ms > 0 AND (input_id = $1 OR report_id IN (SELECT id FROM reports WHERE $1 = ANY(inputs)))`, input, at)
	return err
}

// NoteComplete notes which periods of an input are complete. Those that were when it
// is told first are no news.
func (s *Store) NoteComplete(ctx context.Context, input int64, periods []string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE schedules SET complete = $2,
		fresh = fresh || ARRAY(SELECT p FROM unnest($2::text[]) p WHERE complete IS NOT NULL AND NOT p = ANY(complete) AND NOT p = ANY(fresh))
		WHERE input_id = $1 AND on_complete AND complete IS DISTINCT FROM $2`, input, periods)
	return err
}

// NextRuns returns when inputs are refreshed next by their schedules, alone or with
// a report.
func (s *Store) NextRuns(ctx context.Context, inputs []int64) (map[int64]time.Time, error) {
	rows, err := s.Pool.Query(ctx, `SELECT i, min(s.next_due) FROM unnest($1::bigint[]) i JOIN schedules s
		ON s.input_id = i OR s.report_id IN (SELECT id FROM reports WHERE i = ANY(inputs)) WHERE s.next_due IS NOT NULL GROUP BY i`, inputs)
	if err != nil {
		return nil, err
	}
	next := map[int64]time.Time{}
	var input int64
	var at time.Time
	_, err = pgx.ForEachRow(rows, []any{&input, &at}, func() error { next[input] = at; return nil })
	return next, err
}

// ReportRuns returns when a report is refreshed next by its schedule.
func (s *Store) ReportRuns(ctx context.Context) (map[int64]time.Time, error) {
	rows, err := s.Pool.Query(ctx, "SELECT report_id, next_due FROM schedules WHERE report_id IS NOT NULL AND next_due IS NOT NULL")
	if err != nil {
		return nil, err
	}
	next := map[int64]time.Time{}
	var report int64
	var at time.Time
	_, err = pgx.ForEachRow(rows, []any{&report, &at}, func() error { next[report] = at; return nil })
	return next, err
}
