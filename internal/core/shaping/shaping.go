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

	"golang.org/x/text/encoding"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/totals"
)

// Origin is what a file's rows say of the file itself. Texts are already in
// the form they are delivered in.
type Origin struct {
	Name, Folder, Path string
	Modified           string // as a timestamp, in the input's zone
	Captures           map[string]string
}

// Of returns only what the rows of a definition tell of the file.
func (o Origin) Of(def *definition.Definition) Origin {
	var told Origin
	for _, c := range def.Columns {
		switch {
		case c.Source == definition.FromCapture:
			if told.Captures == nil {
				told.Captures = map[string]string{}
			}
			told.Captures[c.From] = o.Captures[c.From]
		case c.Source != definition.FromFile:
		case c.From == "name" || c.From == "stem":
			told.Name = o.Name
		case c.From == "folder":
			told.Folder = o.Folder
		case c.From == "path":
			told.Path = o.Path
		case c.From == "modified":
			told.Modified = o.Modified
		}
	}
	return told
}

// Result is what shaping a file came to.
type Result struct {
	Read     int64 // rows below the header, blank ones included
	Kept     int64 // rows written
	Sums     []totals.Sum
	Findings []finding.Finding
	// Delimiter is the byte that cells were apart by; 0 if none were read.
	Delimiter byte
	// Headers are the cells of the header, without the spaces around them.
	Headers []string
	// Rows are the rows of the file that the written rows come from, as runs.
	Rows Runs
}

// Runs are numbers of rows in the file, in the order they were written: each run
// has one after the other, from its first to its last.
type Runs [][2]int64

// mostRuns is how many runs are kept; of a table with more, none.
const mostRuns = 100_000

// At returns the row in the file of the n-th written row, counted from 0; 0 if it
// is not known.
func (r Runs) At(n int64) int64 {
	if len(r) > mostRuns {
		return 0
	}
	for _, run := range r {
		length := run[1] - run[0] + 1
		if n < length {
			return run[0] + n
		}
		n -= length
	}
	return 0
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

// endRun keeps the run of rows that were written last.
func (s *shaper) endRun() {
	if s.run[0] > 0 && len(s.result.Rows) <= mostRuns {
		s.result.Rows = append(s.result.Rows, s.run)
	}
}

// finish makes what broke the shaping off a finding, where it is one.
func (s *shaper) finish(err error) (Result, error) {
	s.endRun()
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
	keys     keys
	heading  [][]byte
	extra    []int // cells whose headers are not declared
	turned   []int // cells that become rows
	long     []reading.Cell
	width    int
	top      int64 // row of the header
	last     int   // cells of the last row
	uneven   tally
	repeated tally
	now      condition.Now
	current  []reading.Cell // the row that conditions are held against
	trace    *trace         // nil if nobody looks on
	judged   string         // the encoding that text which is not UTF-8 is judged to be in
	ragged   bool           // rows may have more or fewer cells than they should
	measure  string         // what tells how many
	lastRow  int64
	headOnly bool
	run      [2]int64 // of rows written, its first and last
	lost     []int    // the fields of the row that have a text and no value
}

// shape finds the table in a file, and shapes it.
func (s *shaper) shape(f *reading.File, out *Writer) error {
	s.prepare()
	if most := s.layout.MostBytes; most > 0 {
		f.Limit(most)
	}
	f, err := f.Unpacked(s.layout.Member)
	if err != nil {
		return err
	}
	book, err := f.Book()
	if err != nil {
		return err
	}
	if book != nil {
		return s.shapeBook(book, out)
	}
	var area reading.Area
	if s.layout.Range != "" {
		var ok bool
		if area, ok = reading.ParseArea(s.layout.Range); !ok {
			return finding.New(finding.SheetAbsent, "%s is the name of a table or range of a workbook, and this is %s", s.layout.Range, f.Kind)
		}
	}
	var rows reading.Rows
	if f.Kind == reading.JSON || f.Kind == reading.XML {
		rows, err = f.Records(s.layout.Element)
	} else {
		rows, err = s.delimited(f)
	}
	if err == nil {
		s.rows, err = s.arranged(rows, area)
	}
	if err != nil {
		return err
	}
	pending, err := s.header()
	if s.text != nil {
		s.result.Delimiter = s.text.Delimiter
	}
	if err != nil {
		return err
	}
	err = s.table(out, pending)
	s.tellEncoding()
	return err
}

// delimited reads text in its declared encoding, or in the one that it is judged
// to be in if it is not UTF-8.
func (s *shaper) delimited(f *reading.File) (reading.Rows, error) {
	var r io.Reader = f
	if s.layout.Encoding != nil {
		utf8, err := f.LooksUTF8()
		if err != nil {
			return nil, err
		}
		if r = f; !utf8 {
			r = s.layout.Encoding.NewDecoder().Reader(f)
		} else {
			s.found(finding.New(finding.OtherEncoding, "it is declared as %s, and it is UTF-8; it is read as that", s.layout.EncodingName))
		}
	}
	s.text = reading.NewDelimited(r)
	s.text.Delimiter = s.layout.Delimiter
	if s.layout.EncodingName == "" {
		s.text.Other = func(sample []byte) encoding.Encoding {
			e := reading.Judge(sample, s.def.Language.String())
			s.judged = reading.EncodingName(e)
			return e
		}
	}
	return s.text, nil
}

// tellEncoding tells of text that was read in an encoding that nobody declared.
func (s *shaper) tellEncoding() {
	if s.judged == "" {
		return
	}
	s.found(finding.New(finding.EncodingJudged, "by its letters it is %s", s.judged))
	if _, wide := s.text.Turned(); wide > 0 {
		s.found(finding.New(finding.MixedEncodings, "%d of its characters look like UTF-8, the others do not", wide))
	}
}

// arranged skips what is not looked at, and swaps rows and columns if asked to.
func (s *shaper) arranged(rows reading.Rows, area reading.Area) (reading.Rows, error) {
	if area != (reading.Area{}) {
		rows = reading.Crop(rows, area)
	}
	if s.layout.MostRows > 0 || s.layout.MostColumns > 0 {
		rows = &guarded{rows, s.layout, 0}
	}
	if s.layout.Swap {
		var err error
		if rows, err = reading.Swap(rows); err != nil {
			return nil, err
		}
	}
	for range s.layout.SkipTop {
		cells, err := rows.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		s.trace.add(rows.Row(), cells, Above)
	}
	return rows, nil
}

// guarded refuses tables that are larger than the layout allows.
type guarded struct {
	reading.Rows
	layout *definition.Layout
	count  int64
}

func (g *guarded) Next() ([]reading.Cell, error) {
	cells, err := g.Rows.Next()
	if err != nil {
		return nil, err
	}
	g.count++
	if most := g.layout.MostRows; most > 0 && g.count > most {
		return nil, finding.New(finding.BeyondLimit, "it has more than %d rows", most)
	}
	if most := g.layout.MostColumns; most > 0 && int64(len(cells)) > most {
		f := finding.New(finding.BeyondLimit, "row %d has %d cells, more than %d are not allowed", g.Row(), len(cells), most)
		f.Row = g.Row()
		return nil, f
	}
	return cells, nil
}

// shapeBook shapes a sheet of a workbook.
func (s *shaper) shapeBook(book reading.Book, out *Writer) error {
	sheet, pending, err := s.sheet(book)
	if err != nil {
		return err
	}
	defer sheet.Close()
	if err := s.table(out, pending); err != nil {
		return err
	}
	if hidden := sheet.Hidden(); hidden > 0 {
		found := finding.New(finding.HiddenRows, "%d, which are read like the others", hidden)
		found.Count = hidden
		s.found(found)
	}
	if !s.layout.Swap {
		s.tellMerged(sheet.Merged())
	}
	return nil
}

// tellMerged tells of cells that are merged below the header, but for those that
// are carried down.
func (s *shaper) tellMerged(areas []reading.Area) {
	var count int64
	var first reading.Area
	for _, area := range areas {
		carried := area.Left == area.Right && slices.ContainsFunc(s.fields, func(f field) bool { return f.carry && int64(f.cell)+1 == area.Left })
		wanted := slices.ContainsFunc(s.fields, func(f field) bool {
			return f.cell >= 0 && int64(f.cell)+1 >= area.Left && int64(f.cell)+1 <= area.Right && (area.Top < area.Bottom || int64(f.cell)+1 > area.Left)
		})
		if area.Top <= s.top || area.Bottom > s.lastRow || carried || !wanted || s.layout.Range != "" {
			continue
		}
		if count++; count == 1 {
			first = area
		}
	}
	if count > 0 {
		f := finding.New(finding.MergedCells, "%d areas, the first begins in row %d, column %d", count, first.Top, first.Left)
		f.Row, f.Count = first.Top, count
		s.found(f)
	}
}

// sheet opens the sheet that the layout names, or else the first that has the
// required columns, those that are shown before hidden ones.
func (s *shaper) sheet(book reading.Book) (reading.SheetRows, []keptRow, error) {
	sheets := book.Sheets()
	tried, area, err := s.candidates(book)
	if err != nil {
		return nil, nil, err
	}
	best, bestFit, fits := -1, -1, 0
	for _, i := range tried {
		if len(tried) == 1 {
			best = i
			break
		}
		rows, err := book.Open(i)
		if err != nil {
			return nil, nil, err
		}
		at, err := s.tryHeader(rows, area)
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
	if fits > 1 {
		s.found(finding.New(finding.SeveralSheets, "%d, the first is taken: %q", fits, sheets[best].Name))
	}
	if sheets[best].Hidden {
		s.found(finding.New(finding.HiddenSheet, "%q", sheets[best].Name))
	}
	var pending []keptRow
	if s.rows, err = s.arranged(rows, area); err == nil {
		pending, err = s.header()
	}
	if err != nil {
		_ = rows.Close()
		return nil, nil, err
	}
	return rows, pending, nil
}

// tryHeader looks for the header in a sheet, without a trace.
func (s *shaper) tryHeader(rows reading.Rows, area reading.Area) (heading, error) {
	defer func(t *trace) { s.trace = t }(s.trace)
	s.trace = nil
	var err error
	if s.rows, err = s.arranged(rows, area); err != nil {
		return heading{}, err
	}
	_, at, err := s.findHeader()
	return at, err
}

// candidates are the sheets that may be meant, and the area of them.
func (s *shaper) candidates(book reading.Book) (tried []int, area reading.Area, err error) {
	sheets := book.Sheets()
	name := s.layout.Sheet
	if s.layout.Range != "" {
		var isArea bool
		if area, isArea = reading.ParseArea(s.layout.Range); !isArea {
			list, err := book.Named()
			if err != nil {
				return nil, area, err
			}
			named, err := reading.FindNamed(list, s.layout.Range)
			if err != nil {
				return nil, area, err
			}
			name, area = named.Sheet, named.Area
		}
	}
	switch {
	case name != "":
		i, err := reading.FindSheet(sheets, name)
		return []int{i}, area, err
	case s.layout.Position > len(sheets):
		return nil, area, finding.New(finding.SheetAbsent, "number %d; there are %d", s.layout.Position, len(sheets))
	case s.layout.Position > 0:
		return []int{s.layout.Position - 1}, area, nil
	}
	for _, hidden := range []bool{false, true} {
		for i := range sheets {
			if sheets[i].Hidden == hidden {
				tried = append(tried, i)
			}
		}
	}
	return tried, area, nil
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

// table shapes the rows below the header. The last rows wait until it is known
// that they are not to be skipped.
func (s *shaper) table(out *Writer, pending []keptRow) error {
	if s.headOnly {
		return errHead
	}
	s.hasten()
	defer s.conclude()
	var waiting []keptRow
	row := func(cells []reading.Cell, number int64) error {
		if s.layout.SkipBottom == 0 {
			return s.row(out, cells, number)
		}
		if blank(cells) {
			return nil
		}
		waiting = append(waiting, keep(number, cells))
		if len(waiting) <= s.layout.SkipBottom {
			return nil
		}
		next := waiting[0]
		waiting = append(waiting[:0], waiting[1:]...)
		return s.row(out, next.cells, next.number)
	}
	for _, r := range pending {
		if err := row(r.cells, r.number); err != nil {
			return err
		}
	}
	for {
		cells, err := s.rows.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if err := row(cells, s.rows.Row()); err != nil {
			return err
		}
	}
	for _, r := range waiting {
		s.trace.add(r.number, r.cells, Below)
	}
	return nil
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

func inColumn(f finding.Finding, c *field, row int64) finding.Finding {
	f.Column, f.Row = c.column.Name, row
	return f
}

func (s *shaper) found(f finding.Finding) { s.result.Findings = append(s.result.Findings, f) }

// row shapes one row of the file. Rows without any text are dropped, and so are
// repetitions of the header and those that the layout leaves out.
func (s *shaper) row(out *Writer, cells []reading.Cell, number int64) error {
	s.result.Read++
	s.lastRow = number
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
	if s.last = len(cells); s.ragged && len(cells) != s.width {
		if s.width < 0 {
			s.width = len(cells) // without a header, the first row tells
		} else {
			s.uneven.add(number, fmt.Sprint(len(cells)))
		}
	}
	if len(s.turned) == 0 {
		return s.write(out, cells, cells, number)
	}
	// A row for each of the columns that has a value.
	for _, at := range s.turned {
		if at >= len(cells) || len(trim(cells[at].Text)) == 0 {
			continue
		}
		s.long = append(s.long[:0], cells[:min(len(cells), s.width)]...)
		for len(s.long) < s.width {
			s.long = append(s.long, reading.Cell{})
		}
		s.long = append(s.long, reading.Cell{Text: s.heading[at]}, cells[at])
		if err := s.write(out, cells, s.long, number); err != nil {
			return err
		}
	}
	return nil
}

// write writes one row of the table.
func (s *shaper) write(out *Writer, raw, cells []reading.Cell, number int64) error {
	looked := s.trace.wants()
	s.trace.add(number, raw, Kept)
	s.lost = s.lost[:0]
	for i := range s.fields {
		f := &s.fields[i]
		if f.quick != slow {
			row := out.buf
			if i > 0 {
				row = append(row, ',')
			}
			if row, ok := f.quickly(row, cells); ok {
				out.buf, out.begun = row, true
				continue
			}
		}
		f.write(s, out, cells, number)
		if looked && !f.has && f.cell >= 0 && f.cell < len(cells) && len(trim(cells[f.cell].Text)) > 0 {
			s.lost = append(s.lost, i)
		}
	}
	if len(s.keys.of) > 0 {
		s.keys.add(s.fields, number)
	}
	s.result.Kept++
	if number == s.run[1]+1 {
		s.run[1] = number
	} else {
		s.endRun()
		s.run = [2]int64{number, number}
	}
	err := out.EndRow()
	if err == nil && s.trace != nil {
		if !looked {
			s.trace.buf.Reset()
			return nil
		}
		err = s.trace.values(out, s.lost)
	}
	return err
}

// isHeader reports whether a row repeats the last row of the header.
func (s *shaper) isHeader(cells []reading.Cell) bool {
	if len(cells) != len(s.heading) || len(s.heading) == 0 {
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
		date, err := calendar.Parse(string(s.date(nil, text)))
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

// conclude turns the tallies into findings.
func (s *shaper) conclude() {
	if s.ragged && s.text.Open() && s.last < s.width && s.result.Kept > 1 {
		f := finding.New(finding.CutShort, "the last row, %d, has no line end and %d of %d cells", s.rows.Row(), s.last, s.width)
		f.Grade, f.Row = finding.Warning, s.rows.Row()
		s.found(f)
	}
	if s.uneven.count > 0 {
		f := finding.New(finding.UnevenRows, "%s %d cells; not so %s, the first is row %d with %s", s.measure, s.width, rows(s.uneven.count), s.uneven.first, s.uneven.samples[0])
		f.Row, f.Count = s.uneven.first, s.uneven.count
		s.found(f)
	}
	if s.repeated.count > 0 {
		f := finding.New(finding.HeaderRepeated, "%s, the first is row %d; they are dropped", rows(s.repeated.count), s.repeated.first)
		f.Row, f.Count = s.repeated.first, s.repeated.count
		s.found(f)
	}
	for i := range s.fields {
		if f := &s.fields[i]; !f.fixed {
			f.conclude(s)
		}
	}
	s.keys.conclude(s)
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
