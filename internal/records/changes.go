package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Change is one transition of a file of an input.
type Change struct {
	ID             int64
	Path           []byte
	At             time.Time
	State          string
	BeforeState    string
	Verdict        string
	BeforeVerdict  string
	Sentence       string
	Size           int64
	BeforeSize     int64
	Modified       int64
	BeforeModified int64
	Digest         string
	BeforeDigest   string
}

var changeColumns = []string{"input_id", "path", "at", "state", "before_state", "verdict", "before_verdict", "sentence",
	"size", "before_size", "modified", "before_modified", "digest", "before_digest"}

func copyChanges(ctx context.Context, tx pgx.Tx, input int64, log []Change) error {
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"changes"}, changeColumns, pgx.CopyFromSlice(len(log), func(i int) ([]any, error) {
		c := &log[i]
		return []any{input, c.Path, c.At, c.State, c.BeforeState, c.Verdict, c.BeforeVerdict, c.Sentence,
			c.Size, c.BeforeSize, c.Modified, c.BeforeModified, c.Digest, c.BeforeDigest}, nil
	}))
	return err
}

// Changes lists the transitions of an input's files before one (0 for the
// newest), the newest first; of one file alone unless path is nil.
func (s *Store) Changes(ctx context.Context, input, before int64, path []byte, limit int) ([]Change, error) {
	return all[Change](s.Pool.Query(ctx, `SELECT id, path, at, state, before_state, verdict, before_verdict, sentence, size, before_size,
		modified, before_modified, digest, before_digest FROM changes
		WHERE input_id = $1 AND ($2 = 0 OR id < $2) AND ($3::bytea IS NULL OR path = $3) ORDER BY id DESC LIMIT $4`, input, before, path, limit))
}

// Recent is what became of files of an input at one moment.
type Recent struct {
	Input string
	Text  string // the definition
	State string
	At    time.Time
	Files int
	Path  []byte // of the first
}

// RecentChanges lists what changed last, whatever the input, the newest first.
// Files that merely stayed are not told.
func (s *Store) RecentChanges(ctx context.Context, limit int) ([]Recent, error) {
	return all[Recent](s.Pool.Query(ctx, `SELECT i.name AS input, d.text, c.state, c.at, count(*) AS files, (array_agg(c.path ORDER BY c.id))[1] AS path
		FROM (SELECT * FROM changes WHERE state <> 'same' ORDER BY id DESC LIMIT 2000) c
		JOIN inputs i ON i.id = c.input_id JOIN definitions d ON d.input_id = i.id AND d.version = i.version
		GROUP BY i.name, d.text, c.state, c.at ORDER BY c.at DESC, i.name LIMIT $1`, limit))
}

// EarlierVersions returns the digests that some files of an input had before,
// the newest first and at most mostVersions of each.
func (s *Store) EarlierVersions(ctx context.Context, input int64, paths [][]byte) (map[string][]string, error) {
	if len(paths) == 0 {
		return nil, nil
	}
	rows, err := s.Pool.Query(ctx, `SELECT p.path, v.digest FROM unnest($2::bytea[]) AS p(path) CROSS JOIN LATERAL (
		SELECT digest FROM fed WHERE input_id = $1 AND path = p.path ORDER BY last DESC LIMIT $3) v`, input, paths, mostVersions)
	if err != nil {
		return nil, err
	}
	versions := map[string][]string{}
	var path []byte
	var digest string
	_, err = pgx.ForEachRow(rows, []any{&path, &digest}, func() error {
		versions[string(path)] = append(versions[string(path)], digest)
		return nil
	})
	return versions, err
}

// mostVersions is how many earlier versions of a file it is compared with.
const mostVersions = 24

// Departed returns the files of an input that were removed as of a delivered
// refresh and did not come back since.
func (s *Store) Departed(ctx context.Context, input int64) (map[string]bool, error) {
	rows, err := s.Pool.Query(ctx, "SELECT path FROM departed WHERE input_id = $1", input)
	if err != nil {
		return nil, err
	}
	departed := map[string]bool{}
	var path []byte
	_, err = pgx.ForEachRow(rows, []any{&path}, func() error { departed[string(path)] = true; return nil })
	return departed, err
}

// Fed is a run of receipts that one version of a file fed without a break.
type Fed struct {
	Path   []byte
	Digest string
	First  int64
	Last   int64
}

// FedBy lists the receipts of an input that a file fed, the newest first.
func (s *Store) FedBy(ctx context.Context, input int64, path []byte) ([]Fed, error) {
	return all[Fed](s.Pool.Query(ctx, "SELECT path, digest, first, last FROM fed WHERE input_id = $1 AND path = $2 ORDER BY last DESC LIMIT 200", input, path))
}

// LastFed is the version of a file that fed an input last, and the receipt it did.
type LastFed struct {
	Digest  string
	Receipt int64
}

// LastFed returns the version of a file that fed an input last, or ErrNotFound.
func (s *Store) LastFed(ctx context.Context, input int64, path []byte) (LastFed, error) {
	return one[LastFed](s.Pool.Query(ctx, "SELECT digest, last AS receipt FROM fed WHERE input_id = $1 AND path = $2 ORDER BY last DESC LIMIT 1", input, path))
}

// Traced is a run of receipts of an input that a file fed.
type Traced struct {
	Input string
	Place string
	Fed
}

// Trace lists the receipts of all inputs that some bytes fed, or, without a digest,
// that a file at a path did, the newest first.
func (s *Store) Trace(ctx context.Context, digest string, path []byte) ([]Traced, error) {
	return all[Traced](s.Pool.Query(ctx, `SELECT i.name AS input, p.name AS place, f.path, f.digest, f.first, f.last
		FROM fed f JOIN inputs i ON i.id = f.input_id JOIN places p ON p.id = i.place_id
		WHERE CASE WHEN $1 <> '' THEN f.digest = $1 ELSE f.path = $2 END ORDER BY f.last DESC, i.name, f.path LIMIT 500`, digest, path))
}

// FedFile is a file that a refresh used.
type FedFile struct {
	Path   string // raw bytes
	Digest string
}

// recordFed lengthens the runs of the files that fed the receipt before, too,
// and begins one for the others.
func recordFed(ctx context.Context, tx pgx.Tx, c InputCommit, receipt int64) error {
	for _, sql := range []string{"CREATE TEMP TABLE IF NOT EXISTS feeding (path bytea NOT NULL, digest text NOT NULL) ON COMMIT DROP", "DELETE FROM pg_temp.feeding"} {
		if _, err := tx.Exec(ctx, sql); err != nil {
			return err
		}
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"pg_temp", "feeding"}, []string{"path", "digest"}, pgx.CopyFromSlice(len(c.Fed), func(i int) ([]any, error) {
		return []any{[]byte(c.Fed[i].Path), c.Fed[i].Digest}, nil
	}))
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `WITH before AS (SELECT coalesce(max(number), 0) AS number FROM receipt_inputs WHERE input_id = $1 AND number < $2),
		longer AS (UPDATE fed f SET last = $2 FROM pg_temp.feeding n, before WHERE f.input_id = $1 AND f.path = n.path AND f.digest = n.digest
			AND f.last = before.number RETURNING f.path, f.digest)
		INSERT INTO fed (input_id, path, digest, first, last) SELECT DISTINCT $1::bigint, n.path, n.digest, $2::bigint, $2::bigint FROM pg_temp.feeding n
			WHERE NOT EXISTS (SELECT FROM longer l WHERE l.path = n.path AND l.digest = n.digest)`, c.InputID, receipt)
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "DELETE FROM departed d USING pg_temp.feeding n WHERE d.input_id = $1 AND d.path = n.path", c.InputID); err != nil {
		return err
	}
	gone := make([][]byte, len(c.Gone))
	for i, path := range c.Gone {
		gone[i] = []byte(path)
	}
	_, err = tx.Exec(ctx, "INSERT INTO departed (input_id, path, receipt) SELECT $1, unnest($2::bytea[]), $3 ON CONFLICT DO NOTHING", c.InputID, gone, receipt)
	return err
}

// Doubt says that so many files of an input are gone that it is not believed.
type Doubt struct {
	Since     time.Time `json:"since"`
	Gone      int       `json:"gone"`
	Had       int       `json:"had"`
	Confirmed bool      `json:"confirmed"` // that they are gone
	By        string    `json:"by,omitempty"`
}

// SaveDoubt records an input's doubt, or that there is none.
func (s *Store) SaveDoubt(ctx context.Context, input int64, d *Doubt) error {
	_, err := s.Pool.Exec(ctx, "UPDATE inputs SET doubt = $2 WHERE id = $1", input, d)
	return err
}
