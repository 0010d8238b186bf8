package refresh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/selection"
	"jorvex/internal/core/shaping"
	"jorvex/internal/parts"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// Table is the combined rows of a receipt, file by file.
type Table struct {
	Receipt    receipt.Header
	Definition *definition.Definition
	Files      []TableFile
	runner     *Runner
	where      *condition.Condition
}

// TableFile is a file that feeds a table.
type TableFile struct {
	receipt.File
	origin shaping.Origin
	def    *definition.Definition // by which it is read
	layout string                 // of that
}

// TableAt is a place in a table: a file by its number and how many of its rows
// come before.
type TableAt struct {
	File int
	Row  int64
}

// TableRow is one row of a table.
type TableRow struct {
	File   string
	Row    int64 // in the file; 0 if it is not known
	Values []string
}

// Table opens the combined rows of an input's last receipt. It is
// records.ErrNotFound if there is none.
func (r *Runner) Table(ctx context.Context, in records.Input) (*Table, error) {
	numbers, err := r.Store.LastReceiptNumbers(ctx, []int64{in.ID})
	if err != nil {
		return nil, err
	}
	if numbers[in.ID] == 0 {
		return nil, records.ErrNotFound
	}
	stored, err := r.Store.Receipt(ctx, numbers[in.ID])
	if err != nil {
		return nil, err
	}
	return r.tableOf(ctx, stored, in.ID)
}

// TableOf opens the combined rows of an input as they were for a receipt, or would be
// for a rehearsal. It is records.ErrNotFound if that is not of the input.
func (r *Runner) TableOf(ctx context.Context, stored receipt.Stored, in records.Input) (*Table, error) {
	header, err := receipt.ParseHeader(stored.Header)
	if err != nil {
		return nil, err
	}
	if _, of := header.Of(in.ID); !of {
		return nil, records.ErrNotFound
	}
	return r.tableOf(ctx, stored, in.ID)
}

// tableOf opens the combined rows of an input as they were for a receipt.
func (r *Runner) tableOf(ctx context.Context, stored receipt.Stored, input int64) (*Table, error) {
	t := &Table{runner: r}
	header, err := receipt.ParseHeader(stored.Header)
	if err != nil {
		return nil, err
	}
	t.Receipt, _ = header.Of(input)
	version, err := r.Store.Version(ctx, input, t.Receipt.Definition.Version)
	if err != nil {
		return nil, err
	}
	if t.Definition, err = definition.ParseWith(version.Text, t.Receipt.AsOf, t.Receipt.Parameters); err != nil {
		return nil, err
	}
	layout := t.Definition.LayoutDigest()
	var files []selection.File
	err = watch.ReceiptFiles(r.Watcher, stored, input, func(f receipt.File) error {
		path, err := filename.Parse(f.Path)
		if err == nil && f.Use != receipt.NotUsed {
			one := TableFile{File: f, def: t.Definition.For(entriesOf(f)), layout: layout}
			if one.def != t.Definition {
				one.layout = one.def.LayoutDigest()
			}
			t.Files = append(t.Files, one)
			files = append(files, selection.File{Path: path, Size: f.Size, Modified: f.Modified.UnixNano()})
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	result := selection.New(t.Definition, selection.Surroundings{AsOf: t.Receipt.AsOf}).Judge(files)
	for i := range t.Files {
		t.Files[i].origin = watch.OriginOf(t.Definition, files[i].Path, files[i].Modified, result.Decisions[i].Captures)
	}
	return t, nil
}

// entriesOf are the entries of a hand-made list that name a file.
func entriesOf(f receipt.File) (list []definition.Listed) {
	for _, l := range f.Listed {
		list = append(list, definition.Listed{Path: f.Path, Sheet: l.Sheet, Target: definition.Target{Sheet: l.ToSheet, Table: l.ToTable, Row: l.ToRow}})
	}
	return list
}

// part returns the rows of a file of the table.
func (t *Table) part(ctx context.Context, i int) (*parts.Part, error) {
	f := &t.Files[i]
	part, err := t.runner.partOf(ctx, f.def, f.layout, f.Digest, f.origin, nil)
	if err != nil {
		err = fmt.Errorf("%s: %w", f.Path, err)
	}
	return part, err
}

// Where keeps only rows for which a condition on the columns holds.
func (t *Table) Where(text string) error {
	var fields []condition.Field
	for _, c := range t.Definition.Columns {
		fields = append(fields, c.Field())
	}
	var err error
	t.where, err = condition.Parse(text, fields, nil)
	return err
}

// patience bounds how long rows are looked for that a condition holds for.
const patience = 2 * time.Second

// Rows returns rows from a place on, and where the next ones begin; nil at the
// end. With a condition there may be fewer, or none, before the end.
func (t *Table) Rows(ctx context.Context, at TableAt, most int) (rows []TableRow, next *TableAt, err error) {
	began := time.Now()
	row := tableRow{columns: t.Definition.Columns}
	for ; at.File < len(t.Files); at = (TableAt{File: at.File + 1}) {
		f := &t.Files[at.File]
		part, err := t.part(ctx, at.File)
		if err != nil {
			return nil, nil, err
		}
		n := int64(0)
		err = eachRow(part, func(cells []reading.Cell) error {
			n++
			if n <= at.Row {
				return nil
			}
			if len(rows) == most || n%1000 == 0 && time.Since(began) > patience {
				next = &TableAt{at.File, n - 1}
				return io.EOF
			}
			if row.cells = cells; t.where != nil && !t.where.Holds(&row, condition.Now{At: t.Receipt.AsOf}) {
				return nil
			}
			values := make([]string, len(cells))
			for i, c := range cells {
				values[i] = string(c.Text)
			}
			rows = append(rows, TableRow{f.Path, part.Result.Rows.At(n - 1), values})
			return ctx.Err()
		})
		if err != nil || next != nil {
			return rows, next, err
		}
	}
	return rows, nil, nil
}

// tableRow is a row that a condition is held against.
type tableRow struct {
	columns []definition.Column
	cells   []reading.Cell
}

// Value implements condition.Subject.
func (r *tableRow) Value(i int) condition.Value {
	if i >= len(r.cells) || len(r.cells[i].Text) == 0 {
		return condition.Value{Blank: true}
	}
	v := condition.Value{Text: string(r.cells[i].Text)}
	switch {
	case r.columns[i].Type.Number():
		v.Number, _ = strconv.ParseFloat(v.Text, 64)
	case r.columns[i].Type == definition.Date:
		v.Date, _ = calendar.Parse(v.Text)
	}
	return v
}

// eachRow calls it with the cells of every row of a part, until it returns an
// error; io.EOF ends it without one.
func eachRow(part *parts.Part, it func(cells []reading.Cell) error) error {
	if part.Size == 0 {
		return nil
	}
	content, err := part.Open()
	if err != nil {
		return err
	}
	defer content.Close()
	rows := reading.NewDelimited(content)
	rows.Delimiter = ','
	for {
		cells, err := rows.Next()
		if err == nil {
			err = it(cells)
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// partOf returns the shaped part of some bytes: the kept one, or one made of the
// vault's object, or of what open gives.
func (r *Runner) partOf(ctx context.Context, def *definition.Definition, layout, digest string, origin shaping.Origin, open func(write func(io.Reader) error) error) (*parts.Part, error) {
	origin = origin.Of(def)
	name := parts.Name(digest, layout, origin)
	if part, found := r.Parts.Find(name); found {
		return part, nil
	}
	return r.Parts.Make(name, false, func(w io.Writer) (known parts.Known, err error) {
		shape := func(content io.Reader) error {
			checked, err := watch.Check(def, origin, readerOf(ctx, content), shaping.NewWriter(w))
			known = parts.Known{Kind: string(checked.Kind), Result: checked.Result}
			return err
		}
		if open != nil && !r.Vault.Has(digest) {
			return known, open(shape)
		}
		object, err := r.Vault.Open(digest)
		if err != nil {
			return known, err
		}
		defer object.Close()
		err = shape(object)
		return known, err
	})
}

// Version is one version of a file, by the digest of its bytes.
type Version struct {
	Digest  string
	Broken  string // why it has no rows; else empty
	Headers []string
}

// Differences are what two versions of a file differ in.
type Differences struct {
	shaping.Differences
	Before, After Version
	Columns       []string
}

// Compare tells what two versions of a file of an input differ in: those of the
// given digests, or else the present one and the last one before it that fed a
// delivery.
func (r *Runner) Compare(ctx context.Context, in records.Input, path, before, after string) (d Differences, err error) {
	bench, err := r.Watcher.Bench(ctx, in, "")
	if err != nil {
		return d, err
	}
	def := bench.Definition()
	for _, c := range def.Columns {
		d.Columns = append(d.Columns, c.Name)
	}
	present := bench.Digest(path)
	fed, err := r.Store.FedBy(ctx, in.ID, []byte(path))
	if err != nil {
		return d, err
	}
	if after == "" {
		after = present
	}
	for _, f := range fed {
		if after == "" {
			after = f.Digest
		} else if before == "" && f.Digest != after {
			before = f.Digest
		}
	}
	if before == "" || after == "" {
		return d, ErrOneVersion
	}
	origin, layout := bench.Origin(path), def.LayoutDigest()
	var of [2]*parts.Part
	for i, v := range []struct {
		digest string
		into   *Version
	}{{before, &d.Before}, {after, &d.After}} {
		open := func(write func(io.Reader) error) error { return bench.Content(ctx, path, write) }
		if v.digest != present {
			open = nil
		}
		if of[i], err = r.partOf(ctx, def, layout, v.digest, origin, open); err != nil {
			return d, err
		}
		*v.into = Version{Digest: v.digest, Headers: of[i].Result.Headers}
		if found, broken := of[i].Result.Broken(); broken {
			v.into.Broken = found.Sentence
		}
	}
	d.Differences = shaping.CompareHeaders(d.Before.Headers, d.After.Headers)
	if d.Before.Broken != "" || d.After.Broken != "" {
		return d, nil
	}
	rows, err := shaping.CompareRows(def.Columns, of[0].Open, of[1].Open)
	rows.ColumnsAdded, rows.ColumnsGone, rows.ColumnsRespelt = d.ColumnsAdded, d.ColumnsGone, d.ColumnsRespelt
	d.Differences = rows
	return d, err
}

// ErrOneVersion says that there are no two versions of a file to compare.
var ErrOneVersion = errors.New("there is one version of it alone")

// Find returns the number of the file of a table with a path as it is shown, or -1.
func (t *Table) Find(path string) int {
	return slices.IndexFunc(t.Files, func(f TableFile) bool {
		return f.Path == path || t.Definition.Folder != "" && strings.TrimPrefix(f.Path, t.Definition.Folder+"/") == path
	})
}
