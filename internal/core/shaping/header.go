package shaping

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/nearest"
	"jorvex/internal/core/reading"
)

// headerRows is how many rows from the top are searched for the header.
const headerRows = 50

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
	s.ragged, s.measure, s.width = s.text != nil && !s.layout.Swap && s.layout.Range == "", "the header has", -1
	if s.layout.HeaderRow == definition.NoHeader {
		s.measure = "the first row has"
		for i := range s.fields {
			s.fields[i].cell = s.fields[i].column.Position - 1
		}
		return nil, nil
	}
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
			s.trace.add(row.number, row.cells, Head)
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
		if f.byHeader() {
			names = append(names, f.column.Headers[0])
		}
	}
	return names
}

// byHeader reports whether the column is found by its header.
func (f *field) byHeader() bool {
	return f.column.Source == definition.FromCell && f.column.Position == 0
}

// implied reports whether no spelling of the header was declared.
func (f *field) implied() bool {
	return len(f.column.Headers) == 1 && f.column.Headers[0] == f.column.Name
}

// accepts returns the number of the first header that the column accepts a cell
// for, or -1.
func (f *field) accepts(written, plain string) int {
	return slices.IndexFunc(f.column.Headers, func(h string) bool {
		if f.column.Exact {
			return h == written
		}
		return definition.Plain(h) == plain
	})
}

// named is what a header's cells say, as written and as compared, with those that
// the turned columns will have behind them.
func (s *shaper) named(cells []reading.Cell) (written, plain []string) {
	for _, c := range cells {
		text := strings.TrimPrefix(string(trim(c.Text)), "\ufeff")
		written = append(written, text)
		plain = append(plain, definition.Plain(text))
	}
	if turn := s.layout.Turn; len(s.turns(written)) > 0 {
		written = append(written, turn.Name, turn.Value)
		plain = append(plain, definition.Plain(turn.Name), definition.Plain(turn.Value))
	}
	return written, plain
}

// turns are the cells whose columns become rows.
func (s *shaper) turns(written []string) (cells []int) {
	for i, text := range written {
		if text != "" && slices.ContainsFunc(s.layout.Turn.Headers, func(h string) bool {
			return reading.Like(definition.Plain(h), definition.Plain(text))
		}) {
			cells = append(cells, i)
		}
	}
	return cells
}

// fit counts the declared columns a row has headers for, and whether all
// required ones are among them.
func (s *shaper) fit(cells []reading.Cell) (n int, whole bool) {
	written, plain := s.named(cells)
	whole = true
	anyRequired := false
	for i := range s.fields {
		f := &s.fields[i]
		if !f.byHeader() {
			continue
		}
		has := false
		for at := range written {
			has = has || f.accepts(written[at], plain[at]) >= 0
		}
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
	s.width, s.top = len(header.cells), header.number
	written, plain := s.named(header.cells)
	s.heading = make([][]byte, len(header.cells))
	for i, c := range header.cells {
		s.heading[i] = trim(c.Text)
	}
	s.result.Headers = written[:len(header.cells):len(header.cells)]
	s.turned = s.turns(s.result.Headers)
	taken := make([]bool, len(written))
	for _, at := range s.turned {
		taken[at] = true
	}
	for i := range s.fields {
		f := &s.fields[i]
		if f.column.Position > 0 {
			if f.cell = f.column.Position - 1; f.cell < len(taken) {
				taken[f.cell] = true
			}
			continue
		}
		if !f.byHeader() {
			continue
		}
		for at := range written {
			k := f.accepts(written[at], plain[at])
			if k < 0 {
				continue
			}
			if f.cell >= 0 {
				return inColumn(finding.New(finding.HeaderTwice, "both %q and %q are taken for %s", written[f.cell], written[at], f.column.Name), f, header.number)
			}
			f.cell, taken[at] = at, true
			if !f.implied() && at < s.width && !slices.Contains(f.column.Headers, strings.TrimPrefix(string(header.cells[at].Text), "\ufeff")) {
				s.found(inColumn(finding.New(finding.HeaderRespelt, "%q was taken as %q", header.cells[at].Text, f.column.Headers[k]), f, header.number))
			}
		}
		if f.cell < 0 {
			if err := s.absent(f, plain, header.number); err != nil {
				return err
			}
		}
	}
	return s.tellExtra(written, taken, header.number)
}

// absent tells that a column is not in the header; that is an error if it must be.
func (s *shaper) absent(f *field, plain []string, row int64) error {
	code := finding.ColumnAbsent
	if f.column.Required {
		code = finding.ColumnMissing
	}
	evidence := fmt.Sprintf("%s has none of %s", f.column.Name, finding.Samples(f.column.Headers))
	if near := nearest.Find(definition.Plain(f.column.Headers[0]), plain); near != "" {
		evidence += fmt.Sprintf("; the nearest is %q", near)
	}
	absent := inColumn(finding.New(code, "%s", evidence), f, row)
	if f.column.Required {
		return absent
	}
	s.found(absent)
	return nil
}

// tellExtra tells of the columns that are not declared.
func (s *shaper) tellExtra(written []string, taken []bool, row int64) error {
	var extra []string
	for i, text := range written {
		if !taken[i] && text != "" && i < s.width {
			extra = append(extra, text)
			s.extra = append(s.extra, i)
		}
	}
	if len(extra) == 0 || s.layout.Extra == definition.KeepExtra {
		return nil
	}
	f := finding.New(finding.ExtraColumns, "%s", finding.Samples(extra[:min(len(extra), 10)]))
	if s.layout.Extra == definition.WarnExtra {
		f.Grade = finding.Warning
	}
	f.Row, f.Count = row, int64(len(extra))
	s.found(f)
	return nil
}
