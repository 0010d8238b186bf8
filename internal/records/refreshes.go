package records

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/receipt"
)

// Outcome is how a refresh ended, or that it did not end yet.
type Outcome string

// The outcomes.
const (
	Waiting     Outcome = "waiting"
	Running     Outcome = "running"
	Delivered   Outcome = "delivered"
	Stopped     Outcome = "stopped"     // a gate stopped it
	Failed      Outcome = "failed"      // something outside the files went wrong
	Interrupted Outcome = "interrupted" // the service ended while it ran
	Asking      Outcome = "asking"      // a gate waits for a person
	Cancelled   Outcome = "cancelled"   // a person gave it up
	Rehearsed   Outcome = "rehearsed"   // it was a rehearsal, and came to its end
)

// Refresh is one run. The row is the truth of it; a job is only the means.
type Refresh struct {
	ID        int64
	InputID   int64  // 0 of a report
	ReportID  int64  // 0 of an input
	Input     string // name of the input or report
	Inputs    []int64
	Outcome   Outcome
	AskedBy   string
	AskedAt   time.Time
	AsOf      time.Time
	Started   *time.Time
	Ended     *time.Time
	Stage     string
	Files     int64
	FilesDone int64
	Bytes     int64
	BytesDone int64
	Rows      int64
	Problem   string
	Next      string
	StoppedBy []StoppingFile
	Fence     int64
	Receipt   int64 // 0 if it has none
	Request   Request
	Asks      []string // causes that a person may have it go on with
	Rehearsal []byte   // header of the receipt that there would be
}

// Request is what is asked of a refresh beside the input.
type Request struct {
	Set  definition.Values `json:"set,omitempty"`
	AsOf *time.Time        `json:"as_of,omitempty"`
	Only []string          `json:"only,omitempty"` // paths, as filename.Show writes them
	// Accept is the causes that a person has the refresh go on with.
	Accept []string `json:"accept,omitempty"`
	// Rehearse has everything done but the delivery.
	Rehearse bool `json:"rehearse,omitempty"`
}

// StoppingFile is a file that stopped a refresh.
type StoppingFile struct {
	Path    string          `json:"path"` // as filename.Show writes it
	Finding finding.Finding `json:"finding"`
}

// A committed refresh whose files are not yet in their places still runs, for
// whoever asks: delivered is announced once everything is there.
const selectRefresh = `SELECT f.id, coalesce(f.input_id, 0) AS input_id, coalesce(f.report_id, 0) AS report_id, CASE WHEN f.outcome = 'delivered' AND f.problem = ''
	AND EXISTS (SELECT FROM publications p WHERE p.refresh_id = f.id) THEN 'running' ELSE f.outcome END AS outcome, f.asked_by, f.asked_at, f.as_of, f.started, f.ended, f.stage, f.files, f.files_done,
	f.bytes, f.bytes_done, f.rows, f.problem, f.next, f.stopped_by, f.fence, f.request, f.asks, f.rehearsal, coalesce(i.name, p.name) AS input, coalesce(r.number, 0) AS receipt,
	ARRAY(SELECT m.input_id FROM refresh_inputs m WHERE m.refresh_id = f.id ORDER BY m.input_id) AS inputs
	FROM refreshes f LEFT JOIN inputs i ON i.id = f.input_id LEFT JOIN reports p ON p.id = f.report_id LEFT JOIN receipts r ON r.refresh_id = f.id `

// Refresh returns a refresh, or ErrNotFound.
func (s *Store) Refresh(ctx context.Context, id int64) (Refresh, error) {
	return one[Refresh](s.Pool.Query(ctx, selectRefresh+"WHERE f.id = $1", id))
}

// Refreshes lists refreshes before an id (0 for the newest), the newest first,
// of one input, alone or with a report, or of all.
func (s *Store) Refreshes(ctx context.Context, input *int64, before int64, limit int) ([]Refresh, error) {
	return all[Refresh](s.Pool.Query(ctx, selectRefresh+`WHERE ($1::bigint IS NULL OR f.id IN (SELECT refresh_id FROM refresh_inputs WHERE input_id = $1 AND ($2 = 0 OR refresh_id < $2) ORDER BY refresh_id DESC LIMIT $3))
		AND ($2 = 0 OR f.id < $2) ORDER BY f.id DESC LIMIT $3`, input, before, limit))
}

// LastRefreshes returns the newest refresh of each input, alone or with a report;
// rehearsals do not count.
func (s *Store) LastRefreshes(ctx context.Context, inputs []int64) (map[int64]Refresh, error) {
	list, err := all[Refresh](s.Pool.Query(ctx, selectRefresh+`WHERE f.id IN (
		SELECT (SELECT m.refresh_id FROM refresh_inputs m JOIN refreshes r ON r.id = m.refresh_id WHERE m.input_id = i.id AND NOT r.request ? 'rehearse'
			ORDER BY m.refresh_id DESC LIMIT 1) FROM inputs i WHERE i.id = ANY($1))`, inputs))
	last := map[int64]Refresh{}
	for _, r := range list {
		for _, input := range r.Inputs {
			if known, is := last[input]; slices.Contains(inputs, input) && (!is || known.ID < r.ID) {
				last[input] = r
			}
		}
	}
	return last, err
}

// Subject is what a refresh is asked of: an input, or a report and its inputs.
type Subject struct {
	Input, Report int64 // one of them
	Inputs        []int64
}

// AskRefresh records a waiting refresh and the job that will run it, in one
// transaction. If one waits already for the same subject and request it is joined.
func (s *Store) AskRefresh(ctx context.Context, of Subject, request Request, by string, at time.Time, job func(tx pgx.Tx, id int64) error) (int64, error) {
	var id int64
	err := s.Tx(ctx, func(tx pgx.Tx) (err error) {
		var joined bool
		if id, joined, err = askRefresh(ctx, tx, of, request, by, at); err != nil || joined {
			return err
		}
		return job(tx, id)
	})
	return id, err
}

func askRefresh(ctx context.Context, tx pgx.Tx, of Subject, request Request, by string, at time.Time) (id int64, joined bool, err error) {
	err = tx.QueryRow(ctx, `INSERT INTO refreshes (input_id, report_id, outcome, asked_by, asked_at, as_of, stage, request)
		VALUES (nullif($1::bigint, 0), nullif($2::bigint, 0), 'waiting', $3, $4, $4, 'waiting', $5)
		ON CONFLICT (coalesce(input_id, 0), coalesce(report_id, 0), request) WHERE outcome = 'waiting' DO NOTHING RETURNING id`, of.Input, of.Report, by, at, request).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		err = tx.QueryRow(ctx, `SELECT id FROM refreshes WHERE coalesce(input_id, 0) = $1 AND coalesce(report_id, 0) = $2 AND outcome = 'waiting' AND request = $3`,
			of.Input, of.Report, request).Scan(&id)
		return id, true, err
	}
	if err == nil {
		_, err = tx.Exec(ctx, "INSERT INTO refresh_inputs (input_id, refresh_id) SELECT DISTINCT unnest($1::bigint[]), $2::bigint", of.Inputs, id)
	}
	return id, false, err
}

// Lease is how long a running refresh is believed to run without a sign.
const Lease = 15 * time.Second

// ClaimRefresh makes a waiting refresh a running one and returns its fencing
// number. ErrConflict says that it does not wait, or that another refresh of
// an input of it runs; that one will see to it when it ends. All inputs are taken
// at once, in the order of their ids.
func (s *Store) ClaimRefresh(ctx context.Context, id int64, at time.Time) (fence int64, err error) {
	err = s.Tx(ctx, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `UPDATE refreshes SET outcome = 'running', stage = 'looking', started = $2,
			as_of = coalesce((request->>'as_of')::timestamptz, $2), fence = fence + 1, lease_until = now() + $3 WHERE id = $1 AND outcome = 'waiting' RETURNING fence`, id, at, Lease).Scan(&fence)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "INSERT INTO running (input_id, refresh_id) SELECT input_id, refresh_id FROM refresh_inputs WHERE refresh_id = $1 ORDER BY input_id", id); err != nil {
			return err
		}
		// One that asks is overtaken.
		_, err = tx.Exec(ctx, `UPDATE refreshes a SET outcome = 'stopped', next = a.next || '; refresh ' || $1::text || ' overtook the question'
			FROM refreshes f WHERE f.id = $1 AND NOT f.request ? 'rehearse' AND a.outcome = 'asking' AND a.id < $1
			AND coalesce(a.input_id, 0) = coalesce(f.input_id, 0) AND coalesce(a.report_id, 0) = coalesce(f.report_id, 0)`, id)
		return err
	})
	if isUnique(err) || errors.Is(err, pgx.ErrNoRows) {
		err = ErrConflict
	}
	return fence, err
}

// AnswerRefresh ends a refresh that asks, and has another go on if the answer is
// to. Its id is that of the other. One that does not ask is ErrConflict.
func (s *Store) AnswerRefresh(ctx context.Context, id int64, goOn bool, by string, at time.Time, job func(tx pgx.Tx, id int64) error) (int64, error) {
	answered := id
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		word := "stop"
		if goOn {
			word = "go on"
		}
		var request Request
		var asks []string
		var of Subject
		err := tx.QueryRow(ctx, `UPDATE refreshes SET outcome = 'stopped', next = $2 WHERE id = $1 AND outcome = 'asking'
			RETURNING request, asks, coalesce(input_id, 0), coalesce(report_id, 0), ARRAY(SELECT input_id FROM refresh_inputs WHERE refresh_id = $1)`,
			id, by+" answered: "+word).Scan(&request, &asks, &of.Input, &of.Report, &of.Inputs)
		if errors.Is(err, pgx.ErrNoRows) {
			err = ErrConflict
		}
		if err != nil || !goOn {
			return err
		}
		request.Accept = append(request.Accept, asks...)
		var joined bool
		if answered, joined, err = askRefresh(ctx, tx, of, request, fmt.Sprintf("%s, answering refresh %d", by, id), at); err != nil || joined {
			return err
		}
		return job(tx, answered)
	})
	return answered, err
}

// CancelRefresh ends a refresh that waits or asks. One that runs is ErrConflict.
func (s *Store) CancelRefresh(ctx context.Context, id int64, by string, at time.Time) error {
	tag, err := s.Pool.Exec(ctx, `UPDATE refreshes SET outcome = 'cancelled', problem = $2, next = '', ended = $3, stage = 'done'
		WHERE id = $1 AND outcome IN ('waiting', 'asking')`, id, CancelledBy(by), at)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrConflict
	}
	return err
}

// CancelledBy says that somebody cancelled a refresh.
func CancelledBy(by string) string { return "cancelled by " + by }

// Claimed is a running refresh.
type Claimed struct{ ID, Fence int64 }

// Unattended returns the refreshes that wait though none of their input runs
// and no job for them does, and those that run without a sign of life.
func (s *Store) Unattended(ctx context.Context) (waiting []int64, lost []Claimed, err error) {
	rows, err := s.Pool.Query(ctx, `SELECT id FROM refreshes w WHERE outcome = 'waiting'
		AND NOT EXISTS (SELECT FROM running r JOIN refresh_inputs m ON m.input_id = r.input_id WHERE m.refresh_id = w.id)
		AND NOT EXISTS (SELECT FROM river_job j WHERE j.kind = 'refresh' AND j.state = 'available' AND (j.args->>'refresh')::bigint = w.id)`)
	if err != nil {
		return nil, nil, err
	}
	if waiting, err = pgx.CollectRows(rows, pgx.RowTo[int64]); err != nil {
		return nil, nil, err
	}
	lost, err = all[Claimed](s.Pool.Query(ctx, "SELECT id, fence FROM refreshes WHERE outcome = 'running' AND lease_until < now()"))
	return waiting, lost, err
}

// Progress is how far a running refresh is.
type Progress struct {
	Stage                                    string
	Files, FilesDone, Bytes, BytesDone, Rows int64
}

// SaveProgress records progress and renews the lease, or returns ErrLostLease.
func (s *Store) SaveProgress(ctx context.Context, id, fence int64, p Progress) error {
	tag, err := s.Pool.Exec(ctx, `UPDATE refreshes SET stage = $3, files = $4, files_done = $5, bytes = $6, bytes_done = $7, rows = $8,
		lease_until = now() + $9 WHERE id = $1 AND fence = $2 AND outcome = 'running'`,
		id, fence, p.Stage, p.Files, p.FilesDone, p.Bytes, p.BytesDone, p.Rows, Lease)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrLostLease
	}
	return err
}

// Ending is how a refresh that delivered nothing ended.
type Ending struct {
	Outcome   Outcome
	Progress  Progress // how far it was
	Problem   string
	Next      string
	StoppedBy []StoppingFile
	Asks      []string
	Rehearsal []byte
}

// EndRefresh records that a running refresh ended without a delivery, and has
// the next that waits for the input run.
func (s *Store) EndRefresh(ctx context.Context, id, fence int64, at time.Time, e Ending, job func(tx pgx.Tx, id int64) error) error {
	if e.StoppedBy == nil {
		e.StoppedBy = []StoppingFile{}
	}
	if e.Asks == nil {
		e.Asks = []string{}
	}
	return s.Tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `UPDATE refreshes SET outcome = $3, problem = $4, next = $5, stopped_by = $6, ended = $7, stage = 'done',
			files = $8, files_done = $9, bytes = $10, bytes_done = $11, rows = $12, asks = $13, rehearsal = $14
			WHERE id = $1 AND fence = $2 AND outcome = 'running'`, id, fence, e.Outcome, e.Problem, e.Next, e.StoppedBy, at,
			e.Progress.Files, e.Progress.FilesDone, e.Progress.Bytes, e.Progress.BytesDone, e.Progress.Rows, e.Asks, e.Rehearsal)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrLostLease
		}
		return nextWaiting(ctx, tx, id, job)
	})
}

// nextWaiting lets go of the inputs of a refresh that ended. For each, the first
// that waits for it, and for nothing that runs, is run.
func nextWaiting(ctx context.Context, tx pgx.Tx, id int64, job func(tx pgx.Tx, id int64) error) error {
	if _, err := tx.Exec(ctx, "DELETE FROM running WHERE refresh_id = $1", id); err != nil {
		return err
	}
	rows, err := tx.Query(ctx, `SELECT DISTINCT first FROM (SELECT min(w.id) AS first FROM refresh_inputs ended JOIN refresh_inputs m ON m.input_id = ended.input_id
		JOIN refreshes w ON w.id = m.refresh_id WHERE ended.refresh_id = $1 AND w.outcome = 'waiting'
		AND NOT EXISTS (SELECT FROM running r JOIN refresh_inputs also ON also.input_id = r.input_id WHERE also.refresh_id = w.id) GROUP BY ended.input_id) f ORDER BY first`, id)
	if err != nil {
		return err
	}
	waiting, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return err
	}
	for _, next := range waiting {
		if err := job(tx, next); err != nil {
			return err
		}
	}
	return nil
}

// Publication is a staged file of a committed refresh that has yet to take its
// place. Both paths are below the delivery folder.
type Publication struct {
	RefreshID int64
	Staged    string
	Final     string
}

// Commit is all that makes a refresh count, in one transaction.
type Commit struct {
	Refresh, Fence int64
	Ended          time.Time
	Progress       Progress
	Header         receipt.Header // Number and Previous are filled in
	Inputs         []InputCommit
	Publish        []func(ctx context.Context, tx pgx.Tx) error
	Files          []Publication
	Job            func(tx pgx.Tx, id int64) error
}

// InputCommit is what a refresh came to for one input.
type InputCommit struct {
	InputID    int64
	Parameters string // canonical JSON of the parameters' values
	Deliveries []receipt.Delivery
	Copies     []string // files of folders that are delivered
	Fed        []FedFile
	Gone       []string // files of the last delivery that are certainly gone
	Handover   []NewHandover
}

// Delivered tells whether a refresh is committed. It waits for a commit that is
// under way, whose answer may have been lost.
func (s *Store) Delivered(ctx context.Context, id int64) (delivered bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	err = s.Pool.QueryRow(ctx, "SELECT outcome = 'delivered' FROM refreshes WHERE id = $1 FOR SHARE", id).Scan(&delivered)
	return delivered, err
}

// CommitRefresh publishes tables, appends the receipt to the chain, and records
// the files that have to be put in place: the moment a refresh counts.
func (s *Store) CommitRefresh(ctx context.Context, c Commit) (receipt.Stored, error) {
	var stored receipt.Stored
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `UPDATE refreshes SET outcome = 'delivered', stage = 'done', ended = $3, files = $4, files_done = $4, bytes = $5, bytes_done = $5, rows = $6
			WHERE id = $1 AND fence = $2 AND outcome = 'running'`, c.Refresh, c.Fence, c.Ended, c.Progress.Files, c.Progress.Bytes, c.Progress.Rows)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrLostLease
		}
		for _, publish := range c.Publish {
			if err := publish(ctx, tx); err != nil {
				return err
			}
		}
		for _, f := range c.Files {
			if _, err := tx.Exec(ctx, "INSERT INTO publications (refresh_id, staged, final) VALUES ($1, $2, $3)", c.Refresh, f.Staged, f.Final); err != nil {
				return err
			}
		}
		h := c.Header
		if err := tx.QueryRow(ctx, "SELECT number + 1, digest FROM chain FOR UPDATE").Scan(&h.Number, &h.Previous); err != nil {
			return err
		}
		header, err := receipt.Canonical(h)
		if err != nil {
			return err
		}
		stored = receipt.Stored{Number: h.Number, Header: header, Digest: receipt.Digest(header), Previous: h.Previous}
		if _, err := tx.Exec(ctx, "INSERT INTO receipts (number, refresh_id, header, digest, previous) VALUES ($1, $2, $3, $4, $5)",
			stored.Number, c.Refresh, stored.Header, stored.Digest, stored.Previous); err != nil {
			return err
		}
		for _, in := range c.Inputs {
			if err := recordInput(ctx, tx, in, stored.Number, len(h.Only) > 0); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "UPDATE chain SET number = $1, digest = $2", stored.Number, stored.Digest); err != nil {
			return err
		}
		return nextWaiting(ctx, tx, c.Refresh, c.Job)
	})
	return stored, err
}

// recordInput records what a receipt is of one input.
func recordInput(ctx context.Context, tx pgx.Tx, in InputCommit, number int64, once bool) error {
	if _, err := tx.Exec(ctx, "INSERT INTO receipt_inputs (input_id, number, parameters, once) VALUES ($1, $2, $3, $4)", in.InputID, number, in.Parameters, once); err != nil {
		return err
	}
	for _, d := range in.Deliveries {
		if _, err := tx.Exec(ctx, "INSERT INTO delivered (receipt, kind, name, input_id, size, digest) VALUES ($1, $2, $3, $4, $5, $6)",
			number, d.Kind, d.Name, in.InputID, d.Bytes, d.Digest); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(ctx, "INSERT INTO delivered (receipt, kind, name, input_id, size, digest) SELECT $1, 'copy', unnest($2::text[]), $3, 0, ''",
		number, in.Copies, in.InputID); err != nil {
		return err
	}
	if err := recordFed(ctx, tx, in, number); err != nil {
		return fmt.Errorf("record which files fed it: %w", err)
	}
	return recordHandovers(ctx, tx, in, number)
}

// Publications lists the files that committed refreshes have yet to put in
// their places, in the order of the refreshes.
func (s *Store) Publications(ctx context.Context) ([]Publication, error) {
	return all[Publication](s.Pool.Query(ctx, "SELECT refresh_id, staged, final FROM publications ORDER BY refresh_id, staged"))
}

// PublicationFailed notes on a committed refresh why its files are not yet in
// their places.
func (s *Store) PublicationFailed(ctx context.Context, id int64, problem, next string) error {
	_, err := s.Pool.Exec(ctx, "UPDATE refreshes SET problem = $2, next = $3 WHERE id = $1", id, problem, next)
	return err
}

// PublicationDone takes a publication off the list, and the note that it failed with
// the last of its refresh.
func (s *Store) PublicationDone(ctx context.Context, p Publication) error {
	_, err := s.Pool.Exec(ctx, `WITH done AS (DELETE FROM publications WHERE refresh_id = $1 AND staged = $2)
		UPDATE refreshes SET problem = '', next = '' WHERE id = $1 AND outcome = 'delivered' AND problem <> ''
		AND NOT EXISTS (SELECT FROM publications WHERE refresh_id = $1 AND staged <> $2)`, p.RefreshID, p.Staged)
	return err
}

// InterruptRefreshes ends the refreshes that a service before this one left
// running, and returns how many there were and those that wait.
func (s *Store) InterruptRefreshes(ctx context.Context, at time.Time) (interrupted int64, waiting []int64, err error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE refreshes SET outcome = 'interrupted', stage = 'done', ended = $1, fence = fence + 1,
		problem = 'the service ended while it ran', next = 'refresh again; the last delivery stands' WHERE outcome = 'running'`, at)
	if err != nil {
		return 0, nil, err
	}
	if _, err := s.Pool.Exec(ctx, "DELETE FROM running r USING refreshes f WHERE f.id = r.refresh_id AND f.outcome <> 'running'"); err != nil {
		return 0, nil, err
	}
	rows, err := s.Pool.Query(ctx, "SELECT id FROM refreshes WHERE outcome = 'waiting' ORDER BY id")
	if err != nil {
		return 0, nil, err
	}
	waiting, err = pgx.CollectRows(rows, pgx.RowTo[int64])
	return tag.RowsAffected(), waiting, err
}
