// Package shaping turns the rows of one file into typed rows of the declared
// columns: it finds the header, puts columns in their declared order, converts
// values, and makes a finding of everything that did not fit.
package shaping

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/nearest"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/totals"
)

// headerRows is how many rows from the top are searched for the header.
const headerRows = 50

// Origin is what a file's rows say of the file itself. Texts are already in
// the form they are delivered in.
type Origin struct {
	Name, Folder, Path string
	Captures           map[string]string
}

// Result is what shaping a file came to.
type Result struct {
	Read     int64 // rows below the header, blank ones included
	Kept     int64 // rows written
	Sums     []totals.Sum
	Findings []finding.Finding
	// Delimiter is the byte that cells were apart by; 0 if none were read.
	Delimiter byte
}

// Broken returns the finding that makes the file unusable, if there is one.
func (r Result) Broken() (finding.Finding, bool) { return finding.AnyBroken(r.Findings) }

// Shape reads f as def says and writes typed rows to out. What is wrong with the
// file is in the result's findings; an error is one of reading or writing.
// Result.Sums holds a sum for each column that has a total, in their order.
func Shape(def *definition.Definition, origin Origin, f *reading.File, out *Writer) (Result, error) {
	s := &shaper{def: def, layout: &def.Layout, origin: origin}
	return s.finish(s.shape(f, out))
}

// finish makes what broke the shaping off a finding, where it is one.
func (s *shaper) finish(err error) (Result, error) {
	var broken finding.Finding
	if errors.As(err, &broken) {
		s.result.Findings = append(s.result.Findings, broken)
		err = nil
	}
	return s.result, err
}

type shaper struct {
	def      *definition.Definition
	layout   *definition.Layout
	origin   Origin
	rows     reading.Rows
	text     *reading.Delimited // nil for other kinds of rows
	result   Result
	fields   []field
	fieldOf  []int // the fields that conditions on rows can ask about
	heading  [][]byte
	width    int
	last     int // cells of the last row
	uneven   tally
	repeated tally
	now      condition.Now
	current  []reading.Cell // the row that conditions are held against
	trace    *trace         // nil if nobody looks on
}

// shape finds the table in a file, and shapes it.
func (s *shaper) shape(f *reading.File, out *Writer) error {
	s.prepare()
	book, err := f.Book()
	if err != nil {
		return err
	}
	if f.Kind == reading.JSON {
		if s.rows, err = f.Objects(); err != nil {
			return err
		}
		pending, err := s.header()
		if err != nil {
			return err
		}
		return s.table(out, pending)
	}
	if book == nil {
		var r io.Reader = f
		if s.layout.Encoding != nil {
			utf8, err := f.LooksUTF8()
			if err != nil {
				return err
			}
			if r = f; !utf8 {
				r = s.layout.Encoding.NewDecoder().Reader(f)
			} else {
				s.found(finding.New(finding.OtherEncoding, "it is declared as %s, and it is UTF-8; it is read as that", s.layout.EncodingName))
			}
		}
		s.text = reading.NewDelimited(r)
		s.text.Delimiter = s.layout.Delimiter
		s.rows = s.text
		pending, err := s.header()
		s.result.Delimiter = s.text.Delimiter
		if err != nil {
			return err
		}
		return s.table(out, pending)
	}
	sheet, pending, err := s.sheet(book)
	if err != nil {
		return err
	}
	defer sheet.Close()
	err = s.table(out, pending)
	if hidden := sheet.Hidden(); hidden > 0 && err == nil {
		found := finding.New(finding.HiddenRows, "%d, which are read like the others", hidden)
		found.Count = hidden
		s.found(found)
	}
	return err
}

// sheet opens the sheet that the layout names, or else the first that has the
// required columns, those that are shown before hidden ones.
func (s *shaper) sheet(book reading.Book) (reading.SheetRows, []keptRow, error) {
	sheets := book.Sheets()
	var tried []int
	switch {
	case s.layout.Sheet != "":
		i, err := reading.FindSheet(sheets, s.layout.Sheet)
		if err != nil {
			return nil, nil, err
		}
		tried = []int{i}
	case s.layout.Position > len(sheets):
		return nil, nil, finding.New(finding.SheetAbsent, "number %d; there are %d", s.layout.Position, len(sheets))
	case s.layout.Position > 0:
		tried = []int{s.layout.Position - 1}
	default:
		for _, hidden := range []bool{false, true} {
			for i := range sheets {
				if sheets[i].Hidden == hidden {
					tried = append(tried, i)
				}
			}
		}
	}
	best, bestFit, fits := -1, -1, 0
	for _, i := range tried {
		rows, err := book.Open(i)
		if err != nil {
			return nil, nil, err
		}
		s.rows = rows
		_, at, err := s.findHeader()
		_ = rows.Close()
		if err != nil {
			return nil, nil, err
		}
		if at.whole {
			fits++
		}
		if at.fit > bestFit || at.whole && fits == 1 {
			best, bestFit = i, at.fit
			if at.whole {
				bestFit = len(s.fields) + 1
			}
		}
	}
	if best < 0 {
		return nil, nil, finding.New(finding.Damaged, "it is no sound workbook: it has no sheet")
	}
	rows, err := book.Open(best)
	if err != nil {
		return nil, nil, err
	}
	s.rows = rows
	if fits > 1 {
		s.found(finding.New(finding.SeveralSheets, "%d, the first is taken: %q", fits, sheets[best].Name))
	}
	if sheets[best].Hidden {
		s.found(finding.New(finding.HiddenSheet, "%q", sheets[best].Name))
	}
	pending, err := s.header()
	if err != nil {
		_ = rows.Close()
		return nil, nil, err
	}
	return rows, pending, nil
}

// field is one declared column on its way from a cell to the table.
type field struct {
	column *definition.Column
	cell   int    // index in the row, or -1
	fixed  []byte // for columns that do not come from a cell, ready to be written
	sum    *totals.Sum
	bad    tally
	faults tally
	room   []byte
	carry  bool // a blank cell repeats the one above
	above  reading.Cell
	marked []byte
}

// tally counts what did not fit, with the first rows and samples.
type tally struct {
	count   int64
	first   int64
	samples []string
}

func (t *tally) add(row int64, sample string) {
	if t.count++; t.count == 1 {
		t.first = row
	}
	if len(t.samples) < 3 && !slices.Contains(t.samples, sample) {
		t.samples = append(t.samples, sample)
	}
}

// table shapes the rows below the header.
func (s *shaper) table(out *Writer, pending []keptRow) error {
	defer s.conclude()
	for _, row := range pending {
		if err := s.row(out, row.cells, row.number); err != nil {
			return err
		}
	}
	for {
		cells, err := s.rows.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if err := s.row(out, cells, s.rows.Row()); err != nil {
			return err
		}
	}
}

func (s *shaper) prepare() {
	sums := 0
	for _, c := range s.def.Columns {
		if c.Total {
			sums++
		}
	}
	s.result.Sums = make([]totals.Sum, sums)
	s.fields = make([]field, len(s.def.Columns))
	next := 0
	for i := range s.def.Columns {
		c := &s.def.Columns[i]
		f := &s.fields[i]
		f.column, f.cell = c, -1
		f.carry = slices.Contains(s.layout.CarryDown, c.Name)
		if c.Source == definition.FromCell {
			s.fieldOf = append(s.fieldOf, i)
		}
		if c.Total {
			f.sum = &s.result.Sums[next]
			next++
		}
		switch {
		case c.Source == definition.FromCapture:
			f.fixed = AppendText(nil, []byte(s.origin.Captures[c.From]))
		case c.Source == definition.FromFile:
			fact := map[string]string{"name": s.origin.Name, "folder": s.origin.Folder, "path": s.origin.Path}[c.From]
			f.fixed = AppendText(nil, []byte(fact))
		}
	}
}

type keptRow struct {
	number int64
	cells  []reading.Cell
}

func keep(number int64, cells []reading.Cell) keptRow {
	row := keptRow{number: number, cells: slices.Clone(cells)}
	for i := range row.cells {
		row.cells[i].Text = slices.Clone(row.cells[i].Text)
	}
	return row
}

// heading is where a header stands.
type heading struct {
	row   int // index of its first row among the first rows
	rows  int // that make it up
	fit   int // declared columns that it has headers for
	whole bool
}

// header finds the header and binds the columns to it. It returns the rows below
// it that were read on the way.
func (s *shaper) header() ([]keptRow, error) {
	top, at, err := s.findHeader()
	if err != nil {
		return nil, err
	}
	for i, row := range top {
		switch {
		case at.fit == 0:
			s.trace.add(row.number, row.cells, Unbound)
		case i < at.row:
			s.trace.add(row.number, row.cells, Above)
		case i < at.row+at.rows:
			s.trace.add(row.number, row.cells, Header)
		}
	}
	if at.fit == 0 {
		return nil, finding.New(finding.NoHeader, "looked for %s in the first %d rows", finding.Samples(s.wanted()), len(top))
	}
	if err := s.bind(keptRow{top[at.row+at.rows-1].number, s.joined(top[at.row : at.row+at.rows])}); err != nil {
		return nil, err
	}
	return top[at.row+at.rows:], nil
}

// findHeader reads the first rows, and finds among them the row, or the few rows
// one below the other, that hold the declared headers: the first with every
// required one, or else those with most.
func (s *shaper) findHeader() (top []keptRow, best heading, err error) {
	least, most := 1, 3
	if n := s.layout.HeaderRows; n > 0 {
		least, most = n, n
	}
	tryRow := func(i int) bool {
		if at := s.layout.HeaderRow; at > 0 && top[i].number != int64(at) {
			return false
		}
		for n := least; n <= most && i+n <= len(top); n++ {
			fit, whole := s.fit(s.joined(top[i : i+n]))
			if fit > best.fit || whole && !best.whole && fit > 0 {
				best = heading{i, n, fit, whole && fit > 0}
			}
		}
		return best.whole && best.row == i
	}
	next := 0 // the first row that may begin a header and was not tried
	limit := max(headerRows, s.layout.HeaderRow+most)
	for len(top) < limit {
		cells, err := s.rows.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, best, err
		}
		top = append(top, keep(s.rows.Row(), cells))
		// A row is judged once the rows that may belong to it are there, too.
		if len(top)-next >= most {
			if tryRow(next) {
				return top, best, nil
			}
			next++
		}
	}
	for ; next < len(top); next++ {
		if tryRow(next) {
			break
		}
	}
	return top, best, nil
}

// joined makes one header of several rows: blank cells of the upper ones repeat
// the cell before, as merged cells do.
func (s *shaper) joined(rows []keptRow) []reading.Cell {
	if len(rows) == 1 {
		return rows[0].cells
	}
	width := 0
	for _, r := range rows {
		width = max(width, len(r.cells))
	}
	join := s.layout.HeaderJoin
	if join == "" {
		join = " "
	}
	header := make([]reading.Cell, width)
	for i, r := range rows {
		var before []byte
		for at := range width {
			var text []byte
			if at < len(r.cells) {
				text = trim(r.cells[at].Text)
			}
			if i < len(rows)-1 {
				if len(text) == 0 {
					text = before
				}
				before = text
			}
			if len(text) == 0 {
				continue
			}
			if len(header[at].Text) > 0 {
				header[at].Text = append(header[at].Text, join...)
			}
			header[at].Text = append(header[at].Text, text...)
		}
	}
	return header
}

func (s *shaper) wanted() []string {
	var names []string
	for _, f := range s.fields {
		if f.column.Source == definition.FromCell {
			names = append(names, f.column.Headers[0])
		}
	}
	return names
}

// fit counts the declared columns a row has headers for, and whether all
// required ones are among them.
func (s *shaper) fit(cells []reading.Cell) (n int, whole bool) {
	plain := make(map[string]bool, len(cells))
	for _, c := range cells {
		plain[definition.Plain(string(c.Text))] = true
	}
	whole = true
	anyRequired := false
	for _, f := range s.fields {
		if f.column.Source != definition.FromCell {
			continue
		}
		has := slices.ContainsFunc(f.column.Headers, func(h string) bool { return plain[definition.Plain(h)] })
		if has {
			n++
		}
		anyRequired = anyRequired || f.column.Required
		whole = whole && (has || !f.column.Required)
	}
	return n, whole && anyRequired
}

// bind ties columns to the cells of the header row.
func (s *shaper) bind(header keptRow) error {
	s.width = len(header.cells)
	s.heading = make([][]byte, len(header.cells))
	for i, c := range header.cells {
		s.heading[i] = trim(c.Text)
	}
	taken := make([]bool, len(header.cells))
	plain := make([]string, len(header.cells))
	for i, c := range header.cells {
		plain[i] = definition.Plain(string(c.Text))
	}
	for i := range s.fields {
		f := &s.fields[i]
		if f.column.Source != definition.FromCell {
			continue
		}
		for at, text := range plain {
			k := slices.IndexFunc(f.column.Headers, func(h string) bool { return definition.Plain(h) == text })
			if k < 0 {
				continue
			}
			written := string(header.cells[at].Text)
			if f.cell >= 0 {
				return inColumn(finding.New(finding.HeaderTwice, "both %q and %q are taken for %s", header.cells[f.cell].Text, written, f.column.Name), f, header.number)
			}
			f.cell, taken[at] = at, true
			implied := len(f.column.Headers) == 1 && f.column.Headers[0] == f.column.Name // no spelling was declared
			if !implied && !slices.Contains(f.column.Headers, written) && strings.TrimPrefix(written, "\ufeff") != f.column.Headers[k] {
				s.found(inColumn(finding.New(finding.HeaderRespelt, "%q was taken as %q", written, f.column.Headers[k]), f, header.number))
			}
		}
		if f.cell < 0 {
			code := finding.ColumnAbsent
			if f.column.Required {
				code = finding.ColumnMissing
			}
			evidence := fmt.Sprintf("%s has none of %s", f.column.Name, finding.Samples(f.column.Headers))
			if near := nearest.Find(definition.Plain(f.column.Headers[0]), plain); near != "" {
				evidence += fmt.Sprintf("; the nearest is %q", near)
			}
			absent := inColumn(finding.New(code, "%s", evidence), f, header.number)
			if f.column.Required {
				return absent
			}
			s.found(absent)
		}
	}
	var extra []string
	for i, c := range header.cells {
		if !taken[i] && plain[i] != "" {
			extra = append(extra, string(c.Text))
		}
	}
	if len(extra) > 0 {
		f := finding.New(finding.ExtraColumns, "%s", finding.Samples(extra[:min(len(extra), 10)]))
		f.Row, f.Count = header.number, int64(len(extra))
		s.found(f)
	}
	return nil
}

func inColumn(f finding.Finding, c *field, row int64) finding.Finding {
	f.Column, f.Row = c.column.Name, row
	return f
}

func (s *shaper) found(f finding.Finding) { s.result.Findings = append(s.result.Findings, f) }

// row shapes one row and writes it. Rows without any text are dropped, and so are
// repetitions of the header and those that the layout leaves out.
func (s *shaper) row(out *Writer, cells []reading.Cell, number int64) error {
	s.result.Read++
	if blank(cells) {
		s.trace.add(number, cells, Blank)
		return nil
	}
	if s.isHeader(cells) {
		s.trace.add(number, cells, Again)
		s.repeated.add(number, "")
		return nil
	}
	if s.isLeftOut(cells) {
		s.trace.add(number, cells, LeftOut)
		return nil
	}
	looked := s.trace.wants()
	s.trace.add(number, cells, Kept)
	if s.last = len(cells); s.text != nil && len(cells) != s.width {
		s.uneven.add(number, fmt.Sprint(len(cells)))
	}
	for i := range s.fields {
		f := &s.fields[i]
		if f.column.Source != definition.FromCell {
			out.Plain(f.fixed)
			continue
		}
		var cell reading.Cell
		if f.cell >= 0 && f.cell < len(cells) {
			cell = cells[f.cell]
		}
		if f.carry {
			if len(trim(cell.Text)) == 0 {
				cell = f.above
			} else {
				f.above = reading.Cell{Text: append(f.above.Text[:0], cell.Text...), Kind: cell.Kind}
			}
		}
		s.write(out, f, cell, number)
	}
	s.result.Kept++
	err := out.EndRow()
	if err == nil && s.trace != nil {
		if !looked {
			s.trace.buf.Reset()
			return nil
		}
		err = s.trace.values(out)
	}
	return err
}

// isHeader reports whether a row repeats the last row of the header.
func (s *shaper) isHeader(cells []reading.Cell) bool {
	if len(cells) != len(s.heading) || s.text == nil && len(s.heading) == 0 {
		return false
	}
	for i, c := range cells {
		if !bytes.Equal(trim(c.Text), s.heading[i]) {
			return false
		}
	}
	return true
}

func (s *shaper) isLeftOut(cells []reading.Cell) bool {
	if len(s.layout.LeaveOut) == 0 {
		return false
	}
	s.current = cells
	for _, c := range s.layout.LeaveOut {
		if c.Holds(s, s.now) {
			return true
		}
	}
	return false
}

// Value implements condition.Subject: what the row at hand has in a column.
func (s *shaper) Value(i int) condition.Value {
	f := &s.fields[s.fieldOf[i]]
	if f.cell < 0 || f.cell >= len(s.current) {
		return condition.Value{Blank: true}
	}
	text := trim(s.current[f.cell].Text)
	v := condition.Value{Blank: len(text) == 0, Text: string(text)}
	switch {
	case f.column.Type.Number():
		number, ok := s.number(f, s.current[f.cell])
		v.Blank, v.Number = v.Blank || !ok, number
	case f.column.Type == definition.Date:
		date, err := calendar.Parse(string(s.date(text)))
		if v.Blank = v.Blank || err != nil; err == nil {
			v.Date = date
		}
	}
	return v
}

func blank(cells []reading.Cell) bool {
	for _, c := range cells {
		if len(trim(c.Text)) > 0 {
			return false
		}
	}
	return true
}

func trim(b []byte) []byte {
	for len(b) > 0 && (b[0] == ' ' || b[0] == '\t') {
		b = b[1:]
	}
	for len(b) > 0 && (b[len(b)-1] == ' ' || b[len(b)-1] == '\t') {
		b = b[:len(b)-1]
	}
	return b
}

// write converts one cell. What does not convert is null and tallied.
func (s *shaper) write(out *Writer, f *field, cell reading.Cell, row int64) {
	text := trim(cell.Text)
	switch {
	case cell.Kind == reading.Fault || cell.Kind == reading.Unstored:
		sample := string(text)
		if cell.Kind == reading.Unstored {
			sample = "a formula without a stored value"
		}
		f.faults.add(row, sample)
		out.Null()
		return
	case len(text) == 0:
		out.Null()
		return
	}
	if f.column.Type == definition.Text {
		out.Text(text)
		return
	}
	value, ok := s.convert(f, text, cell.Kind)
	if !ok {
		f.bad.add(row, string(text))
		out.Null()
		return
	}
	if f.sum != nil {
		f.sum.Add(value)
	}
	out.Plain(value)
}

// whole returns a whole number of 64 bits in canonical form.
func whole(value []byte) ([]byte, bool) {
	if slices.Contains(value, '.') {
		return nil, false
	}
	const most, least = "9223372036854775807", "-9223372036854775808"
	if n := len(value); n >= len(most) {
		if value[0] == '-' && (n > len(least) || string(value) > least) && n >= len(least) {
			return nil, false
		}
		if value[0] != '-' && (n > len(most) || string(value) > most) {
			return nil, false
		}
	}
	return value, true
}

// decimal returns a number in canonical form: no plus, no leading zeros, a
// digit before the point. Numbers that are so already are not copied.
func (f *field) decimal(text []byte) ([]byte, bool) {
	i := 0
	negative := text[0] == '-'
	if negative || text[0] == '+' {
		i++
	}
	digits, point := 0, -1
	for j := i; j < len(text); j++ {
		switch c := text[j]; {
		case '0' <= c && c <= '9':
			digits++
		case c == '.' && point < 0:
			point = j
		default:
			return nil, false
		}
	}
	if digits == 0 || digits > 1000 {
		return nil, false
	}
	from := i
	for from < len(text)-1 && text[from] == '0' && text[from+1] != '.' {
		from++
	}
	zero := true
	for _, c := range text[from:] {
		zero = zero && (c == '0' || c == '.')
	}
	if from == i && text[0] != '+' && point != i && point != len(text)-1 && (!negative || !zero) {
		return text, true
	}
	f.room = f.room[:0]
	if negative && !zero {
		f.room = append(f.room, '-')
	}
	if point == from {
		f.room = append(f.room, '0')
	}
	f.room = append(f.room, text[from:]...)
	if point == len(text)-1 {
		f.room = f.room[:len(f.room)-1]
	}
	return f.room, true
}

// isDate reports whether text is a calendar date in ISO 8601 form.
func isDate(text []byte) bool {
	if len(text) != 10 || text[4] != '-' || text[7] != '-' {
		return false
	}
	for i, c := range text {
		if i != 4 && i != 7 && (c < '0' || c > '9') {
			return false
		}
	}
	number := func(b []byte) (n int) {
		for _, c := range b {
			n = n*10 + int(c-'0')
		}
		return n
	}
	year, month, day := number(text[:4]), number(text[5:7]), number(text[8:])
	if year < 1 || month < 1 || month > 12 || day < 1 {
		return false
	}
	days := [...]int{31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}[month-1]
	if month == 2 && year%4 == 0 && (year%100 != 0 || year%400 == 0) {
		days = 29
	}
	return day <= days
}

// conclude turns the tallies into findings.
func (s *shaper) conclude() {
	if s.text != nil && s.text.Open() && s.last < s.width && s.result.Kept > 1 {
		f := finding.New(finding.CutShort, "the last row, %d, has no line end and %d of %d cells", s.rows.Row(), s.last, s.width)
		f.Grade, f.Row = finding.Warning, s.rows.Row()
		s.found(f)
	}
	if s.uneven.count > 0 {
		f := finding.New(finding.UnevenRows, "the header has %d cells; not so %s, the first is row %d with %s", s.width, rows(s.uneven.count), s.uneven.first, s.uneven.samples[0])
		f.Row, f.Count = s.uneven.first, s.uneven.count
		s.found(f)
	}
	if s.repeated.count > 0 {
		f := finding.New(finding.HeaderRepeated, "%s, the first is row %d; they are dropped", rows(s.repeated.count), s.repeated.first)
		f.Row, f.Count = s.repeated.first, s.repeated.count
		s.found(f)
	}
	for i := range s.fields {
		f := &s.fields[i]
		if f.faults.count > 0 {
			made := inColumn(finding.New(finding.ErrorValues, "in %s, %s, the first is row %d: %s", f.column.Name, rows(f.faults.count), f.faults.first, finding.Samples(f.faults.samples)), f, f.faults.first)
			made.Count = f.faults.count
			s.found(made)
		}
		if f.bad.count == 0 {
			continue
		}
		made := inColumn(finding.New(notA[f.column.Type], "in %s, %s, the first is row %d; for instance %s", f.column.Name, rows(f.bad.count), f.bad.first, finding.Samples(f.bad.samples)), f, f.bad.first)
		made.Count = f.bad.count
		s.found(made)
	}
	if s.result.Kept == 0 {
		s.found(finding.New(finding.NoRows, ""))
	}
}

func rows(n int64) string {
	if n == 1 {
		return "1 row"
	}
	return fmt.Sprintf("%d rows", n)
}
