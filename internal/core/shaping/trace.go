package shaping

import (
	"bytes"
	"encoding/csv"
	"errors"
	"slices"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/reading"
)

// Traced is one row of a file beside what became of it.
type Traced struct {
	Row    int64    // in the file, counted from 1
	Cells  []string // as they were read
	Became string   // above the header, header, kept, blank, header again, left out, below the table
	Values []string // of the declared columns, for a row that was kept; blank ones are empty
	// Lost are the declared columns, by number, whose cells have a text of which no
	// value came.
	Lost []int
}

// What becomes of rows.
const (
	Above    = "above the header"
	Head     = "header"
	Kept     = "kept"
	Blank    = "blank"
	Again    = "header again"
	LeftOut  = "left out"
	Below    = "below the table"
	Unbound  = "no header found"
	mostWide = 200 // cells of a row that are told
)

// trace keeps the first rows.
type trace struct {
	most int
	rows []Traced
	buf  bytes.Buffer
}

func (t *trace) wants() bool { return t != nil && len(t.rows) < t.most }

func (t *trace) add(row int64, cells []reading.Cell, became string) {
	if !t.wants() {
		return
	}
	traced := Traced{Row: row, Became: became}
	for _, c := range cells[:min(len(cells), mostWide)] {
		traced.Cells = append(traced.Cells, string(c.Text))
	}
	t.rows = append(t.rows, traced)
}

// values takes what was written for the row added last.
func (t *trace) values(out *Writer, lost []int) error {
	if err := out.Flush(); err != nil {
		return err
	}
	values, err := csv.NewReader(bytes.NewReader(t.buf.Bytes())).Read()
	t.rows[len(t.rows)-1].Values = values
	t.rows[len(t.rows)-1].Lost = slices.Clone(lost)
	t.buf.Reset()
	return err
}

// Trace is what shaping made of the first rows of a file.
type Trace struct {
	Result
	Rows []Traced
	// Bound are the cells that the declared columns are read from, counted from 0;
	// -1 for those that do not come from one.
	Bound []int
}

// ShapeTraced shapes a whole file, and returns its first rows beside what became
// of them.
func ShapeTraced(def *definition.Definition, origin Origin, f *reading.File, most int) (Trace, error) {
	t := &trace{most: most}
	s := &shaper{def: def, layout: &def.Layout, origin: origin, trace: t}
	result, err := s.finish(s.shape(f, NewWriter(&t.buf)))
	traced := Trace{Result: result, Rows: t.rows}
	for i := range s.fields {
		cell := s.fields[i].cell
		if cell >= s.width && s.width > 0 {
			cell = -1 // it is made
		}
		traced.Bound = append(traced.Bound, cell)
	}
	return traced, err
}

// HeadersIn reads a file as far as its header, and returns that. An error may be
// a finding.Finding.
func HeadersIn(def *definition.Definition, f *reading.File) ([]string, error) {
	s := &shaper{def: def, layout: &def.Layout, headOnly: true}
	err := s.shape(f, nil)
	if errors.Is(err, errHead) || len(s.result.Headers) > 0 {
		err = nil
	}
	return s.result.Headers, err
}

// errHead ends the reading of a file whose header alone is wanted.
var errHead = errors.New("only the header is wanted")
