package deliver

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/nearest"
)

// Ready is the delivery of rows into a table that somebody else made, in the
// service's own database or another.
type Ready struct {
	Table
	schema     string
	connection string // empty for the service's own database
	takeOver   bool
	mapped     []mapped
}

// mapped is a column of the table with the one that it takes its values from.
type mapped struct {
	theirs string
	ours   definition.Column
	typ    string // of the table's column, as the catalogue writes it
	length int    // of a text that it holds; 0 for any
	digits int    // of a number before the point; 0 for any
}

// NewReady returns the delivery of a ready-made table by a refresh.
func NewReady(d definition.Delivery, columns []definition.Column, refresh, position int64) *Ready {
	schema, name, _ := strings.Cut(d.Into, ".")
	r := &Ready{schema: schema, connection: d.Connection, takeOver: d.TakeOver,
		Table: Table{Name: name, staged: fmt.Sprintf("jorvex_staged_%d_%d", refresh, position), refresh: refresh}}
	for _, c := range columns {
		theirs := c.Name
		for t, ours := range d.Columns {
			if strings.EqualFold(ours, c.Name) {
				theirs = t
			}
		}
		if _, named := d.Columns[theirs]; named || len(d.Columns) == 0 {
			r.mapped = append(r.mapped, mapped{theirs: theirs, ours: c})
		}
	}
	return r
}

// Unfit says why a ready-made table cannot take the rows.
type Unfit struct {
	Table, Why, Next string
}

func (e *Unfit) Error() string {
	return fmt.Sprintf("the table %s cannot take the rows: %s", e.Table, e.Why)
}

func (r *Ready) unfit(next, why string, args ...any) error {
	return &Unfit{r.schema + "." + r.Name, fmt.Sprintf(why, args...), next}
}

// fits are the types of the table's columns that take a type of ours.
var fits = map[definition.Type][]string{
	definition.Text:      {"text", "character varying", "character"},
	definition.Whole:     {"bigint", "integer", "smallint", "numeric", "text"},
	definition.Decimal:   {"numeric", "double precision", "real", "text"},
	definition.Money:     {"numeric", "double precision", "real", "text"},
	definition.Percent:   {"numeric", "double precision", "real", "text"},
	definition.Date:      {"date", "timestamp without time zone", "text"},
	definition.Time:      {"time without time zone", "text"},
	definition.Timestamp: {"timestamp without time zone", "timestamp with time zone", "text"},
	definition.YesNo:     {"boolean", "text"},
}

// Check tells, before the work is done, whether the table can take the rows by its
// columns. made says that it was delivered to before.
func (r *Ready) Check(ctx context.Context, pool *pgxpool.Pool, made bool) error {
	if r.connection == "" {
		var ours bool
		err := pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_tables WHERE schemaname = $1 AND tablename = 'receipts')", r.schema).Scan(&ours)
		if err != nil {
			return err
		}
		if ours || r.schema == Schema {
			return r.unfit("choose a table in another schema", "the schema %s is Jorvex's own", r.schema)
		}
	}
	rows, err := pool.Query(ctx, `SELECT column_name, data_type, coalesce(character_maximum_length, 0), CASE WHEN data_type = 'numeric' THEN coalesce(numeric_precision - numeric_scale, 0) ELSE 0 END,
		is_nullable = 'NO' AND column_default IS NULL AND is_identity = 'NO' AND is_generated = 'NEVER' FROM information_schema.columns WHERE table_schema = $1 AND table_name = $2 ORDER BY ordinal_position`, r.schema, r.Name)
	if err != nil {
		return err
	}
	var name, typ string
	var length, digits int
	var required bool
	var names, missing []string
	_, err = pgx.ForEachRow(rows, []any{&name, &typ, &length, &digits, &required}, func() error {
		names = append(names, name)
		i := slices.IndexFunc(r.mapped, func(m mapped) bool { return m.theirs == name })
		if i >= 0 {
			r.mapped[i].typ, r.mapped[i].length, r.mapped[i].digits = typ, length, digits
		} else if required {
			missing = append(missing, name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	switch {
	case len(names) == 0:
		return r.unfit("make the table, or deliver to a table of Jorvex's own (table)", "it is not there")
	case len(missing) > 0:
		return r.unfit("map columns to them, or let them be null", "its columns %s must have values, and nothing is mapped to them", strings.Join(missing, ", "))
	}
	for _, m := range r.mapped {
		if m.typ == "" {
			return r.unfit("name the table's columns in columns", "it has no column %q; %s", m.theirs, nearest.Hint(m.theirs, names))
		}
		if !slices.Contains(fits[m.ours.Type], m.typ) {
			return r.unfit("map another column, or change one of the two", "its column %s is %s, and %s is %s", m.theirs, m.typ, m.ours.Name, m.ours.Type)
		}
	}
	if made || r.takeOver {
		return nil
	}
	var filled bool
	if err := pool.QueryRow(ctx, fmt.Sprintf("SELECT EXISTS (SELECT FROM %s)", r.target())).Scan(&filled); err != nil {
		return err
	}
	if filled {
		return r.unfit("empty it, or say take_over: true to have its rows replaced", "it has rows that Jorvex did not put there")
	}
	return nil
}

func (r *Ready) target() string      { return pgx.Identifier{r.schema, r.Name}.Sanitize() }
func (r *Ready) stagedTable() string { return pgx.Identifier{r.schema, r.staged}.Sanitize() }

// Stage loads the rows beside the table, and sees that each fits.
func (r *Ready) Stage(ctx context.Context, pool *pgxpool.Pool, table Combined) (s Staged, err error) {
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return s, err
	}
	defer conn.Release()
	var definitions, names []string
	for _, c := range table.Columns {
		name := pgx.Identifier{c.Name}.Sanitize()
		names = append(names, name)
		definitions = append(definitions, name+" "+sqlTypes[c.Type])
	}
	definitions = append(definitions, FileColumn+" text NOT NULL")
	for _, sql := range []string{"DROP TABLE IF EXISTS " + r.stagedTable(), fmt.Sprintf("CREATE TABLE %s (%s)", r.stagedTable(), strings.Join(definitions, ", "))} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return s, fmt.Errorf("stage beside the table %s.%s: %w", r.schema, r.Name, err)
		}
	}
	statement := fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT csv)", r.stagedTable(), strings.Join(names, ", "))
	if err := r.loadByFile(ctx, conn, &s, r.stagedTable(), statement, table); err != nil {
		return s, err
	}
	return s, r.conflicts(ctx, conn)
}

// ranges are the least and the most that whole numbers of a type hold.
var ranges = map[string][2]string{"integer": {"-2147483648", "2147483647"}, "smallint": {"-32768", "32767"}}

// conflicts finds values that the table's columns cannot hold, before it is touched.
func (r *Ready) conflicts(ctx context.Context, conn *pgxpool.Conn) error {
	for _, m := range r.mapped {
		column := pgx.Identifier{m.ours.Name}.Sanitize()
		var where, holds string
		switch {
		case m.length > 0:
			where, holds = fmt.Sprintf("char_length(%s::text) > %d", column, m.length), fmt.Sprintf("%d characters", m.length)
		case m.digits > 0:
			where, holds = fmt.Sprintf("abs(%s) >= 1e%d", column, m.digits), fmt.Sprintf("%d digits before the point", m.digits)
		case ranges[m.typ][0] != "":
			where, holds = fmt.Sprintf("%s NOT BETWEEN %s AND %s", column, ranges[m.typ][0], ranges[m.typ][1]), ranges[m.typ][0]+" to "+ranges[m.typ][1]
		default:
			continue
		}
		var value, file string
		err := conn.QueryRow(ctx, fmt.Sprintf("SELECT %s::text, %s FROM %s WHERE %s LIMIT 1", column, FileColumn, r.stagedTable(), where)).Scan(&value, &file)
		if errors.Is(err, pgx.ErrNoRows) {
			continue
		}
		if err != nil {
			return err
		}
		return r.unfit("widen the column, or cut the values in the definition", "its column %s holds %s, and %s has %q", m.theirs, holds, file, value)
	}
	return nil
}

// Publication is what makes a staged ready-made table count, as the journal keeps
// it.
type Publication struct {
	Connection string `json:"connection"`
	Staged     string `json:"staged"`
	Target     string `json:"target"`
	Columns    string `json:"columns"`
	Values     string `json:"values"`
	Rows       int64  `json:"rows"`
}

// Publication returns it.
func (r *Ready) Publication(rows int64) Publication {
	var columns, values []string
	for _, m := range r.mapped {
		columns = append(columns, pgx.Identifier{m.theirs}.Sanitize())
		value := pgx.Identifier{m.ours.Name}.Sanitize()
		if m.typ == "text" && m.ours.Type != definition.Text {
			value += "::text"
		}
		values = append(values, value)
	}
	return Publication{Connection: r.connection, Staged: r.stagedTable(), Target: r.target(), Columns: strings.Join(columns, ", "), Values: strings.Join(values, ", "), Rows: rows}
}

// readyPrefix begins the entry of a ready-made table in the journal.
const readyPrefix = "!"

// String is the entry of the journal, which ParsePublication reads.
func (p Publication) String() string {
	b, err := json.Marshal(p)
	if err != nil {
		panic(err) // texts alone
	}
	return readyPrefix + string(b)
}

// ParsePublication reads an entry of the journal. It reports whether it is that of a
// ready-made table.
func ParsePublication(text string) (p Publication, is bool, err error) {
	rest, is := strings.CutPrefix(text, readyPrefix)
	if is {
		err = json.Unmarshal([]byte(rest), &p)
	}
	return p, is, err
}

// Publish replaces the rows of the table by those that are staged, in one
// transaction. It may be called again after it was done.
func (p Publication) Publish(ctx context.Context, tx pgx.Tx) error {
	var there bool
	if err := tx.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL", p.Staged).Scan(&there); err != nil || !there {
		return err
	}
	if _, err := tx.Exec(ctx, patience); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "DELETE FROM "+p.Target); err != nil {
		return inUse(p.Target, err)
	}
	tag, err := tx.Exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", p.Target, p.Columns, p.Values, p.Staged))
	if err != nil {
		return inUse(p.Target, err)
	}
	if tag.RowsAffected() != p.Rows {
		return &Missing{p.Target, tag.RowsAffected(), p.Rows}
	}
	_, err = tx.Exec(ctx, "DROP TABLE "+p.Staged)
	return err
}

// Drop takes the staged rows of a refresh that was not delivered away.
func (r *Ready) Drop(ctx context.Context, pool *pgxpool.Pool) error {
	_, err := pool.Exec(ctx, "DROP TABLE IF EXISTS "+r.stagedTable())
	return err
}
