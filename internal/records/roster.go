package records

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
)

// RosterRow is an input's own row for a file.
type RosterRow struct {
	FileID   int64
	Path     string // raw bytes; not read back by Roster
	Verdict  string
	Reason   string
	Sentence string
	Rule     string
	Line     int
	Captures map[string]string
	State    string
	Near     *Near
	Entries  []definition.Listed // of a hand-made list
	Findings []finding.Finding   // of the file beside others, its name, or the time

	// The version of the file that was told of.
	Size     int64
	Modified int64
	Digest   string
}

// Near is a small difference that keeps a file from being picked.
type Near struct {
	Kind    string `json:"kind"`
	Says    string `json:"says"`
	Pattern string `json:"pattern"`
}

// Equal reports whether two rows say the same of a file.
func (r RosterRow) Equal(o RosterRow) bool {
	if r.Verdict != o.Verdict || r.Reason != o.Reason || r.Sentence != o.Sentence || r.Rule != o.Rule || r.State != o.State || r.Line != o.Line || r.Size != o.Size || r.Modified != o.Modified || r.Digest != o.Digest || len(r.Captures) != len(o.Captures) || (r.Near == nil) != (o.Near == nil) {
		return false
	}
	if r.Near != nil && *r.Near != *o.Near || !slices.Equal(r.Entries, o.Entries) || !slices.Equal(r.Findings, o.Findings) {
		return false
	}
	for name, value := range r.Captures {
		if o.Captures[name] != value {
			return false
		}
	}
	return true
}

// Roster returns all own rows of an input by file.
func (s *Store) Roster(ctx context.Context, input int64) (map[int64]RosterRow, error) {
	rows, err := s.Pool.Query(ctx, "SELECT file_id, verdict, reason, sentence, rule, line, captures, state, near, entries, findings, size, modified, digest FROM roster WHERE input_id = $1", input)
	if err != nil {
		return nil, err
	}
	roster := map[int64]RosterRow{}
	var r RosterRow
	var captures, near, entries, findings []byte
	_, err = pgx.ForEachRow(rows, []any{&r.FileID, &r.Verdict, &r.Reason, &r.Sentence, &r.Rule, &r.Line, &captures, &r.State, &near, &entries, &findings, &r.Size, &r.Modified, &r.Digest}, func() error {
		r.Captures, r.Near, r.Entries, r.Findings = nil, nil, nil, nil
		for _, part := range []struct {
			text []byte
			into any
		}{{near, &r.Near}, {entries, &r.Entries}, {findings, &r.Findings}} {
			if part.text != nil {
				if err := json.Unmarshal(part.text, part.into); err != nil {
					return err
				}
			}
		}
		if len(captures) > 2 {
			if err := json.Unmarshal(captures, &r.Captures); err != nil {
				return err
			}
		}
		roster[r.FileID] = r
		return nil
	})
	return roster, err
}

// SaveRoster brings an input's rows up to date: put replaces or adds rows, gone
// takes them away, log tells what became of the files.
func (s *Store) SaveRoster(ctx context.Context, input int64, put []RosterRow, gone []int64, log []Change, counts Counts) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		stale := gone
		for _, r := range put {
			stale = append(stale, r.FileID)
		}
		if _, err := tx.Exec(ctx, "DELETE FROM roster WHERE input_id = $1 AND file_id = ANY($2)", input, stale); err != nil {
			return err
		}
		columns := []string{"input_id", "file_id", "sort_key", "verdict", "reason", "sentence", "rule", "captures", "state", "line", "near", "entries", "findings", "size", "modified", "digest"}
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"roster"}, columns, pgx.CopyFromSlice(len(put), func(i int) ([]any, error) {
			r := &put[i]
			captures := r.Captures
			if captures == nil {
				captures = map[string]string{}
			}
			var near, entries, findings any
			if r.Near != nil {
				near = r.Near
			}
			if r.Entries != nil {
				entries = r.Entries
			}
			if r.Findings != nil {
				findings = r.Findings
			}
			return []any{input, r.FileID, filename.SortKey(r.Path), r.Verdict, r.Reason, r.Sentence, r.Rule, captures, r.State, r.Line, near, entries, findings, r.Size, r.Modified, r.Digest}, nil
		}))
		if err != nil {
			return fmt.Errorf("record the roster: %w", err)
		}
		if err := copyChanges(ctx, tx, input, log); err != nil {
			return fmt.Errorf("record the changes: %w", err)
		}
		_, err = tx.Exec(ctx, "UPDATE inputs SET counts = $2 WHERE id = $1", input, counts)
		return err
	})
}

// Listed is a file as a roster page shows it. Verdict is empty for a file that
// the input has no row for.
type Listed struct {
	ID       int64
	Path     []byte
	SortKey  []byte
	Size     int64
	Modified int64
	Digest   string
	Verdict  string
	Reason   string
	Sentence string
	Rule     string
	Line     int
	Captures map[string]string
	State    string
	Near     *Near
	Entries  []definition.Listed
	Findings []finding.Finding
	Hold     *Hold
}

// FilesQuery asks for a page of a roster, in natural order.
type FilesQuery struct {
	Input   Input
	Folder  string
	After   []byte // sort key
	Limit   int
	Verdict string
	State   string
	Reason  string
	Near    bool // only near misses
	Held    bool // only files with a hold
	Changed bool // only files whose state is not the same as before
}

const selectListed = `SELECT f.id, f.path, f.sort_key, f.size, f.modified, coalesce(f.digest, '') AS digest,
	coalesce(r.verdict, '') AS verdict, coalesce(r.reason, '') AS reason, coalesce(r.sentence, '') AS sentence,
	coalesce(r.rule, '') AS rule, coalesce(r.line, 0) AS line, r.captures, coalesce(r.state, '') AS state, r.near, r.entries,
	coalesce(f.trouble, c.findings, '[]') || coalesce(r.findings, '[]') AS findings,
	CASE WHEN h.id IS NOT NULL THEN jsonb_build_object('ID', h.id, 'In', h.held_in, 'Note', h.note, 'By', h.placed_by, 'At', h.placed_at,
		'Until', h.until, 'Digest', h.digest) END AS hold `

const joinHold = ` LEFT JOIN holds h ON h.input_id = @input AND h.path = f.path AND h.ended_at IS NULL`

// ruleless is the reason of files without a row.
const ruleless = "no_pattern"

// ListFiles returns a page of an input's roster.
func (s *Store) ListFiles(ctx context.Context, q FilesQuery) ([]Listed, error) {
	from, to := below(q.Folder)
	var b strings.Builder
	args := pgx.NamedArgs{"input": q.Input.ID, "place": q.Input.PlaceID, "layout": q.Input.Layout, "from": from, "to": to,
		"after": q.After, "limit": q.Limit, "verdict": q.Verdict, "state": q.State, "reason": q.Reason}
	b.WriteString(selectListed)
	own := q.State != "" || q.Changed || q.Near || q.Held || q.Reason != "" && q.Reason != ruleless || q.Verdict != "" && q.Verdict != "left_out"
	if own {
		b.WriteString(`FROM roster r JOIN files f ON f.id = r.file_id
			LEFT JOIN checks c ON c.digest = f.digest AND c.layout = @layout AND r.verdict = 'picked'` + joinHold + `
			WHERE r.input_id = @input AND r.sort_key > @after`)
	} else {
		b.WriteString(`FROM files f LEFT JOIN roster r ON r.file_id = f.id AND r.input_id = @input
			LEFT JOIN checks c ON c.digest = f.digest AND c.layout = @layout AND r.verdict = 'picked'` + joinHold + `
			WHERE f.place_id = @place AND f.sort_key > @after AND f.sort_key >= @from AND f.sort_key < @to
			AND (f.evidence <> 2 OR r.file_id IS NOT NULL)`)
	}
	for condition, set := range map[string]bool{
		" AND r.near IS NOT NULL":                             q.Near,
		" AND h.id IS NOT NULL":                               q.Held,
		" AND r.state = @state":                               q.State != "",
		" AND r.state NOT IN ('', 'same')":                    q.Changed,
		" AND r.verdict = @verdict":                           q.Verdict != "" && own,
		" AND (r.file_id IS NULL OR r.verdict = 'left_out')":  q.Verdict == "left_out" && !own,
		" AND r.reason = @reason":                             q.Reason != "" && own,
		" AND (r.file_id IS NULL OR r.reason = 'no_pattern')": q.Reason == ruleless && !own,
	} {
		if set {
			b.WriteString(condition)
		}
	}
	if own {
		b.WriteString(" ORDER BY r.sort_key LIMIT @limit")
	} else {
		b.WriteString(" ORDER BY f.sort_key LIMIT @limit")
	}
	return all[Listed](s.Pool.Query(ctx, b.String(), args))
}

// ListedFile returns one file of a roster by its raw path, or ErrNotFound.
func (s *Store) ListedFile(ctx context.Context, in Input, path string) (Listed, error) {
	return one[Listed](s.Pool.Query(ctx, selectListed+`FROM files f LEFT JOIN roster r ON r.file_id = f.id AND r.input_id = @input
		LEFT JOIN checks c ON c.digest = f.digest AND c.layout = @layout AND r.verdict = 'picked'`+joinHold+`
		WHERE f.place_id = @place AND f.sort_key = @key AND (f.evidence <> 2 OR r.file_id IS NOT NULL)`,
		pgx.NamedArgs{"input": in.ID, "layout": in.Layout, "place": in.PlaceID, "key": filename.SortKey(path)}))
}
