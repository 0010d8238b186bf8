package reading

import (
	"archive/zip"
	"bytes"
	"io"
	"strconv"
	"strings"
)

// odsBook reads the tables of an OpenDocument spreadsheet (ISO/IEC 26300-1,
// clause 9), row by row.
type odsBook struct {
	Workbook // for its parts, and what is named
	sheets   []Sheet
}

const odsContent = "content.xml"

func newODS(archive *zip.Reader) (*odsBook, error) {
	b := &odsBook{Workbook: Workbook{archive: archive}}
	style, hidden := "", map[string]bool{}
	err := b.each(odsContent, func(e *elements) error {
		switch string(e.name) {
		case "style":
			style = string(e.attr("name"))
		case "table-properties":
			hidden[style] = string(e.attr("display")) == "false"
		case "named-range", "database-range":
			address := string(e.attr("cell-range-address")) + string(e.attr("target-range-address"))
			if named, ok := refersToODS(string(e.attr("name")), address); ok {
				b.named = append(b.named, named)
			}
		case "table":
			b.sheets = append(b.sheets, Sheet{Name: string(e.attr("name")), Hidden: hidden[string(e.attr("style-name"))]})
		}
		return nil
	})
	return b, err
}

// Sheets implements Book.
func (b *odsBook) Sheets() []Sheet { return b.sheets }

// Named implements Book (9.4.12, 9.4.15).
func (b *odsBook) Named() ([]Named, error) { return b.named, nil }

// refersToODS reads an address such as $'Fuel 2026'.$A$1:.$C$9 (9.2.3).
func refersToODS(name, address string) (Named, bool) {
	from, to, two := strings.Cut(address, ":")
	dot := strings.LastIndexByte(from, '.')
	if dot < 0 {
		return Named{}, false
	}
	sheet, cells := strings.TrimPrefix(from[:dot], "$"), from[dot+1:]
	if two {
		cells += ":" + to[strings.LastIndexByte(to, '.')+1:]
	}
	return refersTo(name, sheet+"!"+cells)
}

// Open implements Book.
func (b *odsBook) Open(sheet int) (SheetRows, error) {
	f, err := b.open(odsContent)
	if err != nil {
		return nil, err
	}
	s := &odsRows{file: f, e: newElements(f)}
	for n := -1; n < sheet; {
		if err := s.e.next(); err != nil {
			_ = f.Close()
			return nil, s.e.truncated(err)
		}
		if s.e.kind == startElement && string(s.e.name) == "table" {
			n++
		}
	}
	s.depth = s.e.depth
	return s, nil
}

type odsRows struct {
	file   io.Closer
	e      *elements
	depth  int // of the table
	row    int64
	repeat int64 // how often the row is to be returned again
	hidden int64
	ended  bool
	merged []Area
	cells  []Cell
	spans  []span
	room   []byte
}

// Merged implements SheetRows (19.675, 19.678).
func (s *odsRows) Merged() []Area { return s.merged }

func (s *odsRows) Close() error  { return s.file.Close() }
func (s *odsRows) Row() int64    { return s.row }
func (s *odsRows) Hidden() int64 { return s.hidden }

// mostRepeated is how often a row with content may be repeated.
const mostRepeated = 1 << 21

// Next implements Rows.
func (s *odsRows) Next() ([]Cell, error) {
	if s.repeat > 0 {
		s.repeat--
		s.row++
		return s.cells, nil
	}
	for !s.ended {
		if err := s.e.next(); err != nil {
			return nil, s.e.truncated(err)
		}
		if s.e.kind == endElement && s.e.depth < s.depth {
			s.ended = true // other sheets follow
			break
		}
		if s.e.kind != startElement || string(s.e.name) != "table-row" {
			continue
		}
		times := repeated(s.e, "number-rows-repeated")
		shown := s.e.attr("visibility")
		collapsed := len(shown) > 0 && string(shown) != "visible"
		if err := s.readRow(); err != nil {
			return nil, err
		}
		if len(s.spans) == 0 {
			s.row += times
			continue
		}
		if times > mostRepeated {
			return nil, damaged("a row is repeated %d times", times)
		}
		s.row++
		s.repeat = times - 1
		if collapsed {
			s.hidden += times
		}
		s.cells = s.cells[:0]
		for _, at := range s.spans {
			s.cells = append(s.cells, Cell{s.room[at.from:at.to:at.to], at.kind})
		}
		return s.cells, nil
	}
	return nil, io.EOF
}

func repeated(e *elements, name string) int64 {
	n, err := strconv.ParseInt(string(e.attr(name)), 10, 64)
	if err != nil || n < 1 {
		return 1
	}
	return n
}

func (s *odsRows) readRow() error {
	s.spans, s.room = s.spans[:0], s.room[:0]
	blanks := int64(0)
	for depth := s.e.depth - 1; s.e.depth > depth; {
		if err := s.e.next(); err != nil {
			return s.e.truncated(err)
		}
		if s.e.kind != startElement {
			continue
		}
		if name := string(s.e.name); name != "table-cell" && name != "covered-table-cell" {
			continue
		}
		times := repeated(s.e, "number-columns-repeated")
		if down, right := repeated(s.e, "number-rows-spanned"), repeated(s.e, "number-columns-spanned"); down*right > 1 && len(s.merged) < mostMerged {
			row, column := s.row+1, int64(len(s.spans))+blanks+1
			s.merged = append(s.merged, Area{row, column, row + down - 1, column + right - 1})
		}
		cell, err := s.cell()
		if err != nil {
			return err
		}
		if cell.from == cell.to && cell.kind == Plain {
			blanks += times
			continue
		}
		if int64(len(s.spans))+blanks+times > mostColumns {
			return damaged("row %d has more than %d columns", s.row+1, mostColumns)
		}
		for ; blanks > 0; blanks-- {
			s.spans = append(s.spans, span{})
		}
		for range times {
			s.spans = append(s.spans, cell)
		}
	}
	return nil
}

// cell reads a cell to its end (9.1.4): its value where it has one that is typed,
// or else its text.
func (s *odsRows) cell() (span, error) {
	cell := span{from: uint64(len(s.room))}
	e := s.e
	kind := string(e.attr("value-type"))
	formula := len(e.attr("formula")) > 0
	typed := ""
	fault := bytes.Contains(e.attrs, []byte(`calcext:value-type="error"`))
	switch kind {
	case "float", "percentage", "currency":
		typed = string(e.attr("value"))
	case "date":
		typed = string(e.attr("date-value"))
	case "time":
		typed = string(e.attr("time-value"))
	case "boolean":
		typed = string(e.attr("boolean-value"))
	case "string":
		typed = string(e.attr("string-value"))
	}
	text, err := s.text()
	if err != nil {
		return cell, err
	}
	switch {
	case fault || formula && strings.HasPrefix(string(text), "#") && kind != "float" || formula && strings.HasPrefix(string(text), "Err:"):
		cell.kind = Fault
		s.room = append(s.room, text...)
	case kind == "float" || kind == "percentage" || kind == "currency":
		cell.kind = Number
		s.room = number(s.room, []byte(typed))
	case kind == "date":
		cell.kind = Moment
		s.room = append(s.room, strings.TrimSuffix(typed, "T00:00:00")...)
	case kind == "time":
		cell.kind = Moment
		s.room = duration(s.room, typed)
	case kind == "boolean":
		cell.kind = Logical
		s.room = append(s.room, typed...)
	case typed != "":
		s.room = append(s.room, typed...)
	default:
		s.room = append(s.room, text...)
		if formula && kind == "" && len(text) == 0 {
			cell.kind = Unstored
		}
	}
	cell.to = uint64(len(s.room))
	return cell, nil
}

// text gathers a cell's paragraphs, up to its end; notes are left out (6.1).
func (s *odsRows) text() ([]byte, error) {
	var text []byte
	paragraphs, inside := 0, 0
	for depth := s.e.depth - 1; s.e.depth > depth; {
		if err := s.e.next(); err != nil {
			return nil, s.e.truncated(err)
		}
		switch s.e.kind {
		case charData:
			if inside > 0 {
				if text = append(text, s.e.text...); len(text) > mostToken {
					return nil, malformed("a cell is longer than %d MiB", mostToken>>20)
				}
			}
		case endElement:
			if string(s.e.name) == "p" {
				inside--
			}
		case startElement:
			switch string(s.e.name) {
			case "p":
				if paragraphs++; paragraphs > 1 {
					text = append(text, '\n')
				}
				inside++
			case "s":
				for range min(repeated(s.e, "c"), 1000) {
					text = append(text, ' ')
				}
			case "tab":
				text = append(text, '\t')
			case "line-break":
				text = append(text, '\n')
			case "annotation":
				if err := s.e.skip(); err != nil {
					return nil, err
				}
			}
		}
	}
	return text, nil
}

// duration turns a time as PT06H30M00S into one of the clock, where it is less
// than a day.
func duration(into []byte, text string) []byte {
	rest, ok := strings.CutPrefix(text, "PT")
	if !ok {
		return append(into, text...)
	}
	seconds := 0.0
	for _, unit := range []struct {
		letter string
		worth  float64
	}{{"H", 3600}, {"M", 60}, {"S", 1}} {
		number, after, has := strings.Cut(rest, unit.letter)
		if !has {
			continue
		}
		n, err := strconv.ParseFloat(strings.ReplaceAll(number, ",", "."), 64)
		if err != nil {
			return append(into, text...)
		}
		seconds, rest = seconds+n*unit.worth, after
	}
	if at, ok := moment(nil, seconds/86_400, asTime, false); ok && rest == "" {
		return append(into, at...)
	}
	return append(into, text...)
}
