package deliver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"jorvex/internal/core/definition"
)

// Schema is the schema that tables are delivered to.
const Schema = "delivered"

// marker is the comment by which a delivered table is known as Jorvex's own.
const marker = "Delivered by Jorvex"

// A Table is a table delivery on its way.
type Table struct {
	Name   string
	staged string
}

// NewTable returns the delivery of a table by a refresh.
func NewTable(name string, refresh int64, position int) *Table {
	return &Table{Name: name, staged: fmt.Sprintf("jorvex_staged_%d_%d", refresh, position)}
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
	return fmt.Sprintf("the table %s.%s cannot be replaced: %s", Schema, e.Name, e.Why)
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

// Stage loads the table under a name of its own.
func (t *Table) Stage(ctx context.Context, pool *pgxpool.Pool, table Combined) (Staged, error) {
	var s Staged
	definitions := make([]string, len(table.Columns))
	names := make([]string, len(table.Columns))
	for i, c := range table.Columns {
		names[i] = pgx.Identifier{c.Name}.Sanitize()
		definitions[i] = names[i] + " " + sqlTypes[c.Type]
	}
	target := pgx.Identifier{Schema, t.staged}.Sanitize()
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return s, err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, fmt.Sprintf("DROP TABLE IF EXISTS %s", target)); err != nil {
		return s, err
	}
	if _, err := conn.Exec(ctx, fmt.Sprintf("CREATE TABLE %s (%s)", target, strings.Join(definitions, ", "))); err != nil {
		return s, fmt.Errorf("make the table %s: %w", t.Name, err)
	}
	r, w := io.Pipe()
	done := make(chan error, 1)
	go func() {
		_, err := table.WriteTo(w)
		_ = w.CloseWithError(err)
		done <- err
	}()
	tag, err := conn.Conn().PgConn().CopyFrom(ctx, r, fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT csv)", target, strings.Join(names, ", ")))
	_ = r.CloseWithError(err)
	if errRead := <-done; errRead != nil && !errors.Is(errRead, io.ErrClosedPipe) {
		return s, errRead
	}
	if err != nil {
		return s, fmt.Errorf("load the table %s: %w", t.Name, err)
	}
	s.Rows = tag.RowsAffected()
	_, err = conn.Exec(ctx, fmt.Sprintf("ANALYZE %s", target))
	return s, err
}

// Publish puts the staged table in the place of the one before, whose grants
// it takes over. It waits at most five seconds for those who read it, and
// refuses if views or other objects depend on it.
func (t *Table) Publish(ctx context.Context, tx pgx.Tx) error {
	there, err := t.existing(ctx, tx)
	if err != nil {
		return err
	}
	staged, final := pgx.Identifier{Schema, t.staged}.Sanitize(), pgx.Identifier{Schema, t.Name}.Sanitize()
	statements := []string{}
	if there {
		if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '5s'"); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "LOCK TABLE "+final+" IN ACCESS EXCLUSIVE MODE"); err != nil {
			return t.cannot(err)
		}
		grants, err := t.grants(ctx, tx, staged)
		if err != nil {
			return err
		}
		statements = append(grants, "DROP TABLE "+final)
	}
	statements = append(statements,
		"ALTER TABLE "+staged+" RENAME TO "+pgx.Identifier{t.Name}.Sanitize(),
		"COMMENT ON TABLE "+final+" IS '"+marker+"'")
	for _, sql := range statements {
		if _, err := tx.Exec(ctx, sql); err != nil {
			return t.cannot(err)
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

func (t *Table) cannot(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code {
		case "55P03":
			return &InUse{t.Name, "another session holds it locked; end that session or refresh again later"}
		case "2BP01":
			return &InUse{t.Name, "other objects depend on it (" + strings.ReplaceAll(pg.Detail, "\n", "; ") + "); drop them first"}
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
