// Package shaping turns the rows of one file into typed rows of the declared
// columns: it finds the header, puts columns in their declared order, converts
// values, and makes a finding of everything that did not fit.
package shaping

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

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

// Shape reads r as def says and writes typed rows to out. What is wrong with
// the file is in the result's findings; an error is one of reading or writing.
// Result.Sums holds a sum for each column that has a total, in their order.
func Shape(def *definition.Definition, origin Origin, r io.Reader, out *Writer) (Result, error) {
	s := &shaper{def: def, origin: origin, rows: reading.NewDelimited(r)}
	s.rows.Delimiter = def.Delimiter
	err := s.run(out)
	s.result.Delimiter = s.rows.Delimiter
	var broken finding.Finding
	if errors.As(err, &broken) {
		s.result.Findings = append(s.result.Findings, broken)
		err = nil
	}
	return s.result, err
}

type shaper struct {
	def    *definition.Definition
	origin Origin
	rows   *reading.Delimited
	result Result
	fields []field
	width  int
	last   int // cells of the last row
	uneven tally
}

// field is one declared column on its way from a cell to the table.
type field struct {
	column *definition.Column
	cell   int    // index in the row, or -1
	fixed  []byte // for columns that do not come from a cell, ready to be written
	sum    *totals.Sum
	bad    tally
	room   []byte
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

func (s *shaper) run(out *Writer) error {
	s.prepare()
	if len(s.def.Columns) == 0 {
		return s.readThrough()
	}
	pending, err := s.header()
	if err != nil {
		return err
	}
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

// readThrough only checks that an input without columns can be read.
func (s *shaper) readThrough() error {
	for {
		_, err := s.rows.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		s.result.Read++
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
	cells  [][]byte
}

// header finds the row that holds the declared headers: the first with every
// required one, or else the one with most. It returns the rows below it that
// were read on the way.
func (s *shaper) header() ([]keptRow, error) {
	var top []keptRow
	best, bestFit := -1, 0
	for len(top) < headerRows {
		cells, err := s.rows.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		row := keptRow{number: s.rows.Row()}
		for _, c := range cells {
			row.cells = append(row.cells, slices.Clone(c))
		}
		top = append(top, row)
		fit, whole := s.fit(row.cells)
		if fit > bestFit {
			best, bestFit = len(top)-1, fit
		}
		if whole && fit > 0 {
			best = len(top) - 1
			break
		}
	}
	if best < 0 {
		f := finding.New(finding.NoHeader, "looked for %s in the first %d rows", finding.Samples(s.wanted()), len(top))
		return nil, f
	}
	if err := s.bind(top[best]); err != nil {
		return nil, err
	}
	return top[best+1:], nil
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
func (s *shaper) fit(cells [][]byte) (n int, whole bool) {
	plain := make(map[string]bool, len(cells))
	for _, c := range cells {
		plain[definition.Plain(string(c))] = true
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
	taken := make([]bool, len(header.cells))
	plain := make([]string, len(header.cells))
	for i, c := range header.cells {
		plain[i] = definition.Plain(string(c))
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
			written := string(header.cells[at])
			if f.cell >= 0 {
				return inColumn(finding.New(finding.HeaderTwice, "both %q and %q are taken for %s", header.cells[f.cell], written, f.column.Name), f, header.number)
			}
			f.cell, taken[at] = at, true
			if !slices.Contains(f.column.Headers, written) && strings.TrimPrefix(written, "\ufeff") != f.column.Headers[k] {
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
			extra = append(extra, string(c))
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

// row shapes one row and writes it. Rows without any text are dropped.
func (s *shaper) row(out *Writer, cells [][]byte, number int64) error {
	s.result.Read++
	if blank(cells) {
		return nil
	}
	if s.last = len(cells); len(cells) != s.width {
		s.uneven.add(number, fmt.Sprint(len(cells)))
	}
	for i := range s.fields {
		f := &s.fields[i]
		if f.column.Source != definition.FromCell {
			out.Plain(f.fixed)
			continue
		}
		if f.cell < 0 || f.cell >= len(cells) {
			out.Null()
			continue
		}
		f.write(out, cells[f.cell], number)
	}
	s.result.Kept++
	return out.EndRow()
}

func blank(cells [][]byte) bool {
	for _, c := range cells {
		if len(trim(c)) > 0 {
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
func (f *field) write(out *Writer, cell []byte, row int64) {
	text := trim(cell)
	if len(text) == 0 {
		out.Null()
		return
	}
	var value []byte
	ok := true
	switch f.column.Type {
	case definition.Text:
		out.Text(text)
		return
	case definition.Whole:
		value, ok = f.whole(text)
	case definition.Decimal:
		value, ok = f.decimal(text)
	case definition.Date:
		value, ok = text, isDate(text)
	}
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
func (f *field) whole(text []byte) ([]byte, bool) {
	value, ok := f.decimal(text)
	if !ok || slices.Contains(value, '.') {
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
	if s.rows.Open() && s.last < s.width && s.result.Kept > 1 {
		f := finding.New(finding.CutShort, "the last row, %d, has no line end and %d of %d cells", s.rows.Row(), s.last, s.width)
		f.Grade, f.Row = finding.Warning, s.rows.Row()
		s.found(f)
	}
	if s.uneven.count > 0 {
		f := finding.New(finding.UnevenRows, "the header has %d cells; %s differ, the first is row %d with %s", s.width, rows(s.uneven.count), s.uneven.first, s.uneven.samples[0])
		f.Row, f.Count = s.uneven.first, s.uneven.count
		s.found(f)
	}
	for i := range s.fields {
		f := &s.fields[i]
		if f.bad.count == 0 {
			continue
		}
		code := map[definition.Type]finding.Code{definition.Whole: finding.NotWhole, definition.Decimal: finding.NotDecimal, definition.Date: finding.NotDate}[f.column.Type]
		made := inColumn(finding.New(code, "in %s, %s, the first is row %d; for instance %s", f.column.Name, rows(f.bad.count), f.bad.first, finding.Samples(f.bad.samples)), f, f.bad.first)
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
