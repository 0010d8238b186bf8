package deliver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
)

// Schema is the schema that tables are delivered to.
const Schema = "delivered"

// marker is the comment by which a delivered table is known as Jorvex's own.
const marker = "Delivered by Jorvex"

// FileColumn is the column that tells the file of each row of a table that is
// loaded by changed files.
const FileColumn = "jorvex_file"

// A Table is a table delivery on its way.
type Table struct {
	Name    string
	Changed bool // only the rows of changed files are loaded, where that can be
	staged  string
	refresh int64
	before  Before
	some    bool     // some files' rows are loaded, into the table that is there
	gone    []string // files whose rows go
}

// Before is what a table held after its last delivery.
type Before struct {
	Refresh int64
	Files   map[string]BeforeFile // by path, raw bytes
}

// BeforeFile is one file of it.
type BeforeFile struct {
	Part string // digest of its rows
	Rows int64
}

// NewTable returns the delivery of a table by a refresh.
func NewTable(d definition.Delivery, refresh, position int64, before Before) *Table {
	return &Table{Name: d.Table, Changed: d.Load == definition.LoadChanged, staged: fmt.Sprintf("jorvex_staged_%d_%d", refresh, position), refresh: refresh, before: before}
}

var sqlTypes = map[definition.Type]string{
	definition.Text: "text", definition.Whole: "bigint", definition.Decimal: "numeric", definition.Date: "date",
	definition.Money: "numeric", definition.Percent: "numeric", definition.Time: "time", definition.Timestamp: "timestamp", definition.YesNo: "boolean",
}

// NotOurs says that a table that was not delivered by Jorvex has the name.
type NotOurs struct{ Name string }

func (e *NotOurs) Error() string {
	return fmt.Sprintf("the table %s.%s was not delivered by Jorvex; it is left alone", Schema, e.Name)
}

// InUse says that the table cannot be replaced.
type InUse struct {
	Name string
	Why  string
}

func (e *InUse) Error() string {
	return fmt.Sprintf("the table %s cannot be replaced: %s", strings.ReplaceAll(e.Name, `"`, ""), e.Why)
}

// Check tells, before the work is done, whether the table may be replaced.
func (t *Table) Check(ctx context.Context, pool *pgxpool.Pool) error {
	_, err := t.existing(ctx, pool)
	return err
}

type querier interface {
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

func (t *Table) existing(ctx context.Context, q querier) (bool, error) {
	var kind, comment string
	err := q.QueryRow(ctx, `SELECT c.relkind::text, coalesce(obj_description(c.oid, 'pg_class'), '') FROM pg_class c
		JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2`, Schema, t.Name).Scan(&kind, &comment)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	if err == nil && (kind != "r" || !strings.HasPrefix(comment, marker)) {
		err = &NotOurs{t.Name}
	}
	return true, err
}

// Stage loads the table, or the rows of the files that changed, under a name of
// its own.
func (t *Table) Stage(ctx context.Context, pool *pgxpool.Pool, table Combined) (Staged, error) {
	var s Staged
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return s, err
	}
	defer conn.Release()
	if t.Changed {
		// The sources are there once all parts are; until then nothing is decided.
		sources, err := table.sources()
		if err != nil {
			return s, err
		}
		if t.some, err = t.same(ctx, conn, table.Columns, sources); err != nil {
			return s, err
		}
	}
	definitions := make([]string, len(table.Columns))
	names := make([]string, len(table.Columns))
	for i, c := range table.Columns {
		names[i] = pgx.Identifier{c.Name}.Sanitize()
		definitions[i] = names[i] + " " + sqlTypes[c.Type]
	}
	if t.Changed {
		definitions = append(definitions, FileColumn+" text NOT NULL")
	}
	target := pgx.Identifier{Schema, t.staged}.Sanitize()
	if _, err := conn.Exec(ctx, fmt.Sprintf("DROP TABLE IF EXISTS %s", target)); err != nil {
		return s, err
	}
	if _, err := conn.Exec(ctx, fmt.Sprintf("CREATE TABLE %s (%s)", target, strings.Join(definitions, ", "))); err != nil {
		return s, fmt.Errorf("make the table %s: %w", t.Name, err)
	}
	statement := fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT csv)", target, strings.Join(names, ", "))
	if t.Changed {
		err = t.loadByFile(ctx, conn, &s, target, statement, table)
	} else {
		s.Rows, err = t.load(ctx, conn, statement, func(w io.Writer) error {
			_, err := table.WriteTo(w)
			return err
		})
	}
	if err != nil || t.some {
		return s, err
	}
	if t.Changed {
		if _, err := conn.Exec(ctx, fmt.Sprintf("CREATE INDEX ON %s (%s)", target, FileColumn)); err != nil {
			return s, err
		}
	}
	_, err = conn.Exec(ctx, fmt.Sprintf("ANALYZE %s", target))
	return s, err
}

// load streams rows into a table.
func (t *Table) load(ctx context.Context, conn *pgxpool.Conn, statement string, write func(w io.Writer) error) (int64, error) {
	r, w := io.Pipe()
	done := make(chan error, 1)
	go func() {
		err := write(w)
		_ = w.CloseWithError(err)
		done <- err
	}()
	tag, err := conn.Conn().PgConn().CopyFrom(ctx, r, statement)
	_ = r.CloseWithError(err)
	if errRead := <-done; errRead != nil && !errors.Is(errRead, io.ErrClosedPipe) {
		return 0, errRead
	}
	if err != nil {
		return 0, fmt.Errorf("load the table %s: %w", t.Name, err)
	}
	return tag.RowsAffected(), nil
}

// loadByFile loads file after file. The file's name stands as the default of its
// column meanwhile.
func (t *Table) loadByFile(ctx context.Context, conn *pgxpool.Conn, s *Staged, target, statement string, table Combined) error {
	return table.Parts(func(source *Source, part io.Reader) error {
		if t.some && t.kept(source) {
			s.Kept += source.Rows
			return nil
		}
		name := strings.ReplaceAll(filename.Show(source.Path), "'", "''")
		if _, err := conn.Exec(ctx, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET DEFAULT E'%s'", target, FileColumn, strings.ReplaceAll(name, `\`, `\\`))); err != nil {
			return err
		}
		n, err := t.load(ctx, conn, statement, func(w io.Writer) error {
			_, err := io.Copy(onlyWriter{w}, onlyReader{part})
			return err
		})
		s.Rows += n
		return err
	})
}

func (t *Table) kept(s *Source) bool {
	before, there := t.before.Files[s.Path]
	return there && s.Part != "" && before.Part == s.Part
}

// same reports whether the table is as the last delivery left it, so that it takes
// only what changed, and notes whose rows go.
func (t *Table) same(ctx context.Context, conn *pgxpool.Conn, columns []definition.Column, sources []*Source) (bool, error) {
	if t.before.Refresh == 0 {
		return false, nil
	}
	var comment string
	var has []string
	err := conn.QueryRow(ctx, `SELECT coalesce(obj_description(c.oid, 'pg_class'), ''),
		(SELECT array_agg(a.attname || ' ' || format_type(a.atttypid, a.atttypmod) ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2`, Schema, t.Name).Scan(&comment, &has)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	var want []string
	for _, c := range columns {
		want = append(want, c.Name+" "+formatted[sqlTypes[c.Type]])
	}
	if err != nil || comment != markedBy(t.before.Refresh) || !slices.Equal(has, append(want, FileColumn+" text")) {
		return false, err
	}
	now := map[string]*Source{}
	for _, s := range sources {
		now[s.Path] = s
	}
	var rows int64
	for path, before := range t.before.Files {
		if s := now[path]; s == nil || !t.kept(s) {
			t.gone = append(t.gone, filename.Show(path))
			rows += before.Rows
		}
	}
	// The files' rows must be those that were loaded.
	var there int64
	err = conn.QueryRow(ctx, fmt.Sprintf("SELECT count(*) FROM %s WHERE %s = ANY($1)", pgx.Identifier{Schema, t.Name}.Sanitize(), FileColumn), t.gone).Scan(&there)
	return err == nil && there == rows, err
}

// formatted are the types as the catalogue writes them.
var formatted = map[string]string{"text": "text", "bigint": "bigint", "numeric": "numeric", "date": "date", "time": "time without time zone",
	"timestamp": "timestamp without time zone", "boolean": "boolean"}

// markedBy is the comment of a table that a refresh delivered.
func markedBy(refresh int64) string { return fmt.Sprintf("%s, refresh %d", marker, refresh) }

// Publish puts the staged table in the place of the one before, whose grants
// it takes over, or what changed into it. It waits at most five seconds for those who read it, and
// refuses if views or other objects depend on it.
func (t *Table) Publish(ctx context.Context, tx pgx.Tx) error {
	there, err := t.existing(ctx, tx)
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, patience); err != nil {
		return err
	}
	staged, final := pgx.Identifier{Schema, t.staged}.Sanitize(), pgx.Identifier{Schema, t.Name}.Sanitize()
	comment := "COMMENT ON TABLE " + final + " IS '" + markedBy(t.refresh) + "'"
	if t.some {
		if _, err := tx.Exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s = ANY($1)", final, FileColumn), t.gone); err != nil {
			return inUse(Schema+"."+t.Name, err)
		}
		for _, sql := range []string{"INSERT INTO " + final + " SELECT * FROM " + staged, "DROP TABLE " + staged, comment} {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return inUse(Schema+"."+t.Name, err)
			}
		}
		return nil
	}
	statements := []string{}
	if there {
		if _, err := tx.Exec(ctx, "LOCK TABLE "+final+" IN ACCESS EXCLUSIVE MODE"); err != nil {
			return inUse(Schema+"."+t.Name, err)
		}
		grants, err := t.grants(ctx, tx, staged)
		if err != nil {
			return err
		}
		statements = append(grants, "DROP TABLE "+final)
	}
	statements = append(statements,
		"ALTER TABLE "+staged+" RENAME TO "+pgx.Identifier{t.Name}.Sanitize(),
		comment)
	for _, sql := range statements {
		if _, err := tx.Exec(ctx, sql); err != nil {
			return inUse(Schema+"."+t.Name, err)
		}
	}
	return nil
}

// grants returns the statements that give the staged table the grants of the
// one it replaces.
func (t *Table) grants(ctx context.Context, tx pgx.Tx, staged string) ([]string, error) {
	rows, err := tx.Query(ctx, `SELECT CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(a.grantee)) END, a.privilege_type, a.is_grantable
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace, aclexplode(c.relacl) a
		WHERE n.nspname = $1 AND c.relname = $2 AND a.grantee <> c.relowner`, Schema, t.Name)
	if err != nil {
		return nil, err
	}
	var statements []string
	var grantee, privilege string
	var grantable bool
	_, err = pgx.ForEachRow(rows, []any{&grantee, &privilege, &grantable}, func() error {
		sql := fmt.Sprintf("GRANT %s ON %s TO %s", privilege, staged, grantee)
		if grantable {
			sql += " WITH GRANT OPTION"
		}
		statements = append(statements, sql)
		return nil
	})
	return statements, err
}

// patience is how long a table that others hold locked is waited for.
const patience = "SET LOCAL lock_timeout = '5s'"

// inUse tells what holds a table.
func inUse(name string, err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code {
		case "55P03":
			return &InUse{name, "another session holds it locked; end that session or refresh again later"}
		case "2BP01":
			return &InUse{name, "other objects depend on it (" + strings.ReplaceAll(pg.Detail, "\n", "; ") + "); drop them first"}
		}
	}
	return err
}

// Drop takes the staged table of a refresh that was not delivered away.
func (t *Table) Drop(ctx context.Context, pool *pgxpool.Pool) error {
	_, err := pool.Exec(ctx, "DROP TABLE IF EXISTS "+pgx.Identifier{Schema, t.staged}.Sanitize())
	return err
}

// ClearStaged drops the staged tables that interrupted refreshes left.
func ClearStaged(ctx context.Context, pool *pgxpool.Pool) error {
	rows, err := pool.Query(ctx, `SELECT tablename FROM pg_tables WHERE schemaname = $1 AND tablename LIKE 'jorvex\_staged\_%'`, Schema)
	if err != nil {
		return err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, name := range names {
		if _, err := pool.Exec(ctx, "DROP TABLE IF EXISTS "+pgx.Identifier{Schema, name}.Sanitize()); err != nil {
			return err
		}
	}
	return nil
}

// TableDigest covers the columns and the ordered digests of the parts.
func TableDigest(columns []definition.Column, parts []string) string {
	h := sha256.New()
	for _, c := range columns {
		fmt.Fprintf(h, "%q %s\n", c.Name, c.Type)
	}
	for _, p := range parts {
		fmt.Fprintln(h, p)
	}
	return hex.EncodeToString(h.Sum(nil))
}
