package records

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"jorvex/internal/core/receipt"
)

// NewHandover is a file that is to be handed over once its refresh counts.
type NewHandover struct {
	PlaceID, FileID int64
	Path            string // raw bytes
	Size, Modified  int64
	Digest          string
	Action          string
	Folder          string // that it goes to, raw bytes
	Keep            bool
}

// Handover is one entry of the journal.
type Handover struct {
	ID, Receipt, InputID, PlaceID, FileID int64
	Path                                  []byte
	Size, Modified                        int64
	Digest                                string
	Action                                string
	Folder, Target                        []byte
	Keep                                  bool
	State                                 string // due, done or failed
	Problem                               string
	Ended                                 *time.Time
	Recorded                              *int64
}

func recordHandovers(ctx context.Context, tx pgx.Tx, in InputCommit, number int64) error {
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"handovers"}, []string{"receipt", "input_id", "place_id", "file_id", "path", "size", "modified", "digest", "action", "folder", "keep"},
		pgx.CopyFromSlice(len(in.Handover), func(i int) ([]any, error) {
			h := in.Handover[i]
			return []any{number, in.InputID, h.PlaceID, h.FileID, []byte(h.Path), h.Size, h.Modified, h.Digest, h.Action, []byte(h.Folder), h.Keep}, nil
		}))
	return err
}

// Copied lists the files of an input that were copied by a handover: the digests by
// path.
func (s *Store) Copied(ctx context.Context, input int64) (map[string]map[string]bool, error) {
	rows, err := s.Pool.Query(ctx, "SELECT DISTINCT path, digest FROM handovers WHERE input_id = $1 AND action = 'copy' AND state <> 'failed'", input)
	if err != nil {
		return nil, err
	}
	copied := map[string]map[string]bool{}
	var path []byte
	var digest string
	_, err = pgx.ForEachRow(rows, []any{&path, &digest}, func() error {
		if copied[string(path)] == nil {
			copied[string(path)] = map[string]bool{}
		}
		copied[string(path)][digest] = true
		return nil
	})
	return copied, err
}

// DueHandovers lists what is still to be handed over, in order.
func (s *Store) DueHandovers(ctx context.Context) ([]Handover, error) {
	return all[Handover](s.Pool.Query(ctx, "SELECT * FROM handovers WHERE state = 'due' ORDER BY id"))
}

// Handovers lists what was, or is to be, handed over of a receipt.
func (s *Store) Handovers(ctx context.Context, receipt int64) ([]Handover, error) {
	return all[Handover](s.Pool.Query(ctx, "SELECT * FROM handovers WHERE receipt = $1 ORDER BY id", receipt))
}

// AimHandover notes the name that a file will have, before it has it.
func (s *Store) AimHandover(ctx context.Context, id int64, target string) error {
	_, err := s.Pool.Exec(ctx, "UPDATE handovers SET target = $2 WHERE id = $1", id, []byte(target))
	return err
}

// EndHandover notes what came of one. A file that is taken away is known from then
// on.
func (s *Store) EndHandover(ctx context.Context, h Handover, at time.Time, problem string) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		state := "done"
		if problem != "" {
			state = "failed"
		}
		tag, err := tx.Exec(ctx, "UPDATE handovers SET state = $2, problem = $3, ended = $4 WHERE id = $1 AND state = 'due'", h.ID, state, problem, at)
		if err != nil || tag.RowsAffected() == 0 || problem != "" || h.Action == "copy" {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO handed_over (input_id, path, file_id, size, modified, digest, receipt, feeds) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
			ON CONFLICT (input_id, path) DO UPDATE SET file_id = excluded.file_id, size = excluded.size, modified = excluded.modified, digest = excluded.digest,
			receipt = excluded.receipt, feeds = excluded.feeds`, h.InputID, h.Path, h.FileID, h.Size, h.Modified, h.Digest, h.Receipt, h.Keep)
		return err
	})
}

// HandedOver is a file that was moved or deleted by a handover.
type HandedOver struct {
	Path           []byte
	FileID         int64
	Size, Modified int64
	Digest         string
	Receipt        int64
	Feeds          bool
}

// HandedOver lists the files of an input that were handed over, by path.
func (s *Store) HandedOver(ctx context.Context, input int64) (map[string]HandedOver, error) {
	list, err := all[HandedOver](s.Pool.Query(ctx, "SELECT path, file_id, size, modified, digest, receipt, feeds FROM handed_over WHERE input_id = $1", input))
	byPath := make(map[string]HandedOver, len(list))
	for _, h := range list {
		byPath[string(h.Path)] = h
	}
	return byPath, err
}

// HandoverTargets lists the paths in a place that files were handed over to.
func (s *Store) HandoverTargets(ctx context.Context, directory string) ([]string, error) {
	rows, err := s.Pool.Query(ctx, "SELECT DISTINCT h.target FROM handovers h JOIN places p ON p.id = h.place_id WHERE p.directory = $1 AND h.target <> ''", directory)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (path string, err error) {
		var raw []byte
		err = row.Scan(&raw)
		return string(raw), err
	})
}

// VerifyHandovers recomputes the chain of handover records. It returns how many
// there are.
func (s *Store) VerifyHandovers(ctx context.Context) (int64, error) {
	var chain receipt.HandoverChain
	rows, err := s.Pool.Query(ctx, "SELECT number, record, digest, previous FROM handover_records ORDER BY number")
	if err != nil {
		return 0, err
	}
	var r receipt.Stored
	_, err = pgx.ForEachRow(rows, []any{&r.Number, &r.Header, &r.Digest, &r.Previous}, func() error { return chain.Check(r) })
	return chain.Checked, err
}

// RecordHandovers appends a record of what came of handovers to their chain, for
// each receipt of which nothing is due any more.
func (s *Store) RecordHandovers(ctx context.Context, make func(number int64, previous string, list []Handover) ([]byte, error)) error {
	for {
		var number int64
		err := s.Pool.QueryRow(ctx, `SELECT receipt FROM handovers h WHERE recorded IS NULL
			AND NOT EXISTS (SELECT FROM handovers d WHERE d.receipt = h.receipt AND d.state = 'due') ORDER BY id LIMIT 1`).Scan(&number)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		err = s.Tx(ctx, func(tx pgx.Tx) error {
			list, err := all[Handover](tx.Query(ctx, "SELECT * FROM handovers WHERE receipt = $1 AND recorded IS NULL ORDER BY id FOR UPDATE", number))
			if err != nil || len(list) == 0 {
				return err
			}
			last := receipt.Stored{Digest: receipt.None}
			err = tx.QueryRow(ctx, "SELECT number, digest FROM handover_records ORDER BY number DESC LIMIT 1").Scan(&last.Number, &last.Digest)
			if err != nil && !errors.Is(err, pgx.ErrNoRows) {
				return err
			}
			record, err := make(last.Number+1, last.Digest, list)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, "INSERT INTO handover_records (number, receipt, record, digest, previous) VALUES ($1, $2, $3, $4, $5)",
				last.Number+1, number, record, receipt.Digest(record), last.Digest); err != nil {
				return err
			}
			_, err = tx.Exec(ctx, "UPDATE handovers SET recorded = $2 WHERE receipt = $1 AND recorded IS NULL", number, last.Number+1)
			return err
		})
		if err != nil {
			return err
		}
	}
}
