package reading

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/nearest"
)

// Workbook reads the sheets of a workbook in Office Open XML (ECMA-376, part 1,
// clause 18; strict and transitional), row by row.
type Workbook struct {
	archive  *zip.Reader
	sheets   []Sheet
	texts    []byte   // the shared strings, one after the other
	ends     []uint64 // where each ends
	formats  []shown  // by the number of the cell's style
	from1904 bool
	named    []Named
}

// Sheet is one sheet of a workbook.
type Sheet struct {
	Name   string
	Hidden bool
	part   string
}

// Limits of a workbook.
const (
	mostStrings = 20_000_000
	mostTexts   = 1 << 30 // bytes of the shared texts, which are in memory
	mostColumns = 16_384  // the form's own limit
	mostPart    = 64 << 30
	mostMerged  = 10_000 // areas that are told
)

func damaged(format string, args ...any) error {
	return finding.New(finding.Damaged, "it is no sound workbook: "+format, args...)
}

// OpenWorkbook reads what a workbook consists of.
func OpenWorkbook(r io.ReaderAt, size int64) (*Workbook, error) {
	archive, err := zip.NewReader(r, size)
	if err != nil {
		return nil, damaged("%s", err)
	}
	return newWorkbook(archive)
}

func newWorkbook(archive *zip.Reader) (*Workbook, error) {
	w := &Workbook{archive: archive}
	type sheet struct {
		name, id string
		hidden   bool
	}
	var sheets []sheet
	err := w.each("xl/workbook.xml", func(e *elements) error {
		switch string(e.name) {
		case "definedName":
			name := string(e.attr("name"))
			refers, err := e.content(nil, "")
			if named, ok := refersTo(name, string(refers)); ok && err == nil {
				w.named = append(w.named, named)
			}
			return err
		case "workbookPr":
			on := string(e.attr("date1904"))
			w.from1904 = on == "1" || on == "true" || on == "on"
		case "sheet":
			state := string(e.attr("state"))
			sheets = append(sheets, sheet{string(e.attr("name")), string(e.attr("id")), state == "hidden" || state == "veryHidden"})
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	targets, shared, styles := map[string]string{}, "", ""
	err = w.each("xl/_rels/workbook.xml.rels", func(e *elements) error {
		if string(e.name) != "Relationship" {
			return nil
		}
		written := string(e.attr("Target"))
		target := path.Join("xl", written)
		if strings.HasPrefix(written, "/") {
			target = strings.TrimPrefix(written, "/")
		}
		switch kind := string(e.attr("Type")); {
		case strings.HasSuffix(kind, "/sharedStrings"):
			shared = target
		case strings.HasSuffix(kind, "/styles"):
			styles = target
		default:
			targets[string(e.attr("Id"))] = target
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, s := range sheets {
		w.sheets = append(w.sheets, Sheet{s.name, s.hidden, targets[s.id]})
	}
	if styles != "" && w.has(styles) {
		if err := w.readStyles(styles); err != nil {
			return nil, err
		}
	}
	if shared != "" {
		err = w.readStrings(shared)
	}
	return w, err
}

func (w *Workbook) has(part string) bool {
	return slices.ContainsFunc(w.archive.File, func(f *zip.File) bool { return strings.EqualFold(f.Name, part) })
}

func (w *Workbook) open(part string) (io.ReadCloser, error) {
	i := slices.IndexFunc(w.archive.File, func(f *zip.File) bool { return strings.EqualFold(f.Name, part) })
	if i < 0 {
		return nil, damaged("the part %s is missing", part)
	}
	f, err := w.archive.File[i].Open()
	if err != nil {
		return nil, damaged("%s: %s", part, err)
	}
	return struct {
		io.Reader
		io.Closer
	}{io.LimitReader(partReader{f, part}, mostPart), f}, nil
}

// partReader tells which part could not be read.
type partReader struct {
	r    io.Reader
	part string
}

func (p partReader) Read(b []byte) (int, error) {
	n, err := p.r.Read(b)
	if err != nil && err != io.EOF {
		err = damaged("%s: %s", p.part, err)
	}
	return n, err
}

// each calls it at the start of every element of a part.
func (w *Workbook) each(part string, it func(*elements) error) error {
	f, err := w.open(part)
	if err != nil {
		return err
	}
	defer f.Close()
	e := newElements(f)
	for {
		err := e.next()
		if err == io.EOF {
			return nil
		}
		if err == nil && e.kind == startElement {
			err = it(e)
		}
		if err != nil {
			return err
		}
	}
}

// readStyles learns which cells show dates and times (18.8.30, 18.8.45).
func (w *Workbook) readStyles(part string) error {
	own := map[int]shown{}
	inCells := false
	return w.each(part, func(e *elements) error {
		switch string(e.name) {
		case "numFmt":
			if id, err := strconv.Atoi(string(e.attr("numFmtId"))); err == nil {
				own[id] = formatOf(string(e.attr("formatCode")))
			}
		case "cellXfs":
			inCells = true
		case "cellStyles", "dxfs":
			inCells = false
		case "xf":
			if !inCells {
				return nil
			}
			id, _ := strconv.Atoi(string(e.attr("numFmtId")))
			format, is := own[id]
			if !is {
				format = builtIn(id)
			}
			w.formats = append(w.formats, format)
		}
		return nil
	})
}

// readStrings reads the shared strings, without phonetic hints (18.4.8).
func (w *Workbook) readStrings(part string) error {
	return w.each(part, func(e *elements) error {
		if string(e.name) != "si" {
			return nil
		}
		var err error
		if w.texts, err = e.content(w.texts, "rPh"); err != nil {
			return err
		}
		if w.ends = append(w.ends, uint64(len(w.texts))); len(w.ends) > mostStrings || len(w.texts) > mostTexts {
			return finding.New(finding.BeyondLimit, "it has more than %d texts, or they have more than %d MiB", mostStrings, mostTexts>>20)
		}
		return nil
	})
}

// Sheets lists the sheets, in order.
func (w *Workbook) Sheets() []Sheet { return w.sheets }

// Named implements Book: the defined names (18.2.5), and the tables that the
// sheets' relations tell (18.5.1.2).
func (w *Workbook) Named() ([]Named, error) {
	named := slices.Clone(w.named)
	for _, sheet := range w.sheets {
		relations := path.Join(path.Dir(sheet.part), "_rels", path.Base(sheet.part)+".rels")
		if sheet.part == "" || !w.has(relations) {
			continue
		}
		var parts []string
		err := w.each(relations, func(e *elements) error {
			if string(e.name) == "Relationship" && strings.HasSuffix(string(e.attr("Type")), "/table") {
				target := string(e.attr("Target"))
				if !strings.HasPrefix(target, "/") {
					target = path.Join(path.Dir(sheet.part), target)
				}
				parts = append(parts, strings.TrimPrefix(target, "/"))
			}
			return nil
		})
		for _, part := range parts {
			if err == nil {
				err = w.each(part, func(e *elements) error {
					if area, ok := ParseArea(string(e.attr("ref"))); ok && string(e.name) == "table" {
						named = append(named, Named{string(e.attr("displayName")), sheet.Name, area})
					}
					return nil
				})
			}
		}
		if err != nil {
			return nil, err
		}
	}
	return named, nil
}

// FindSheet returns the number of the first sheet of a name, whatever its letter
// case; of the first one if there is no name. A name may have * and ? in it.
func FindSheet(sheets []Sheet, name string) (int, error) {
	i := 0
	if name != "" {
		i = slices.IndexFunc(sheets, func(s Sheet) bool { return strings.EqualFold(s.Name, name) || Like(name, s.Name) })
	}
	if i >= 0 && i < len(sheets) {
		return i, nil
	}
	names := make([]string, len(sheets))
	for i, s := range sheets {
		names[i] = s.Name
	}
	evidence := fmt.Sprintf("%q; there are %s", name, finding.Samples(names[:min(len(names), 20)]))
	if near := nearest.Find(name, names); near != "" {
		evidence += fmt.Sprintf("; the nearest is %q", near)
	}
	return 0, finding.New(finding.SheetAbsent, "%s", evidence)
}

// Open returns the rows of a sheet that have any cell. Close must be called.
func (w *Workbook) Open(sheet int) (SheetRows, error) {
	f, err := w.open(w.sheets[sheet].part)
	if err != nil {
		return nil, err
	}
	return &partRows{book: w, file: f, e: newElements(f)}, nil
}

// partRows are the rows of one sheet.
type partRows struct {
	hidden int64
	merged []Area

	book  *Workbook
	file  io.Closer
	e     *elements
	row   int64
	cells []Cell
	spans []span
	room  []byte
	value []byte
}

// span is where a cell's text lies in the row's room; in the shared strings if
// it is shared.
type span struct {
	from, to uint64
	kind     CellKind
	shared   bool
}

// Close closes the sheet.
func (s *partRows) Close() error { return s.file.Close() }

// Hidden implements SheetRows.
func (s *partRows) Hidden() int64 { return s.hidden }

// Merged implements SheetRows (18.3.1.55).
func (s *partRows) Merged() []Area { return s.merged }

// Row implements Rows.
func (s *partRows) Row() int64 { return s.row }

// Next implements Rows.
func (s *partRows) Next() ([]Cell, error) {
	for {
		if err := s.e.next(); err != nil {
			return nil, err
		}
		if s.e.kind != startElement {
			continue
		}
		if string(s.e.name) == "mergeCell" && len(s.merged) < mostMerged {
			if area, ok := ParseArea(string(s.e.attr("ref"))); ok {
				s.merged = append(s.merged, area)
			}
		}
		if string(s.e.name) != "row" {
			continue
		}
		s.row++
		if n, err := strconv.ParseInt(string(s.e.attr("r")), 10, 64); err == nil && n > 0 {
			s.row = n
		}
		if hidden := s.e.attr("hidden"); len(hidden) > 0 && (hidden[0] == '1' || hidden[0] == 't') {
			s.hidden++
		}
		if s.e.empty {
			continue
		}
		if err := s.readRow(); err != nil {
			return nil, err
		}
		if len(s.spans) > 0 {
			return s.cut(), nil
		}
	}
}

// cut makes cells of what a row's room holds by now.
func (s *partRows) cut() []Cell {
	s.cells = s.cells[:0]
	for _, at := range s.spans {
		from := s.room
		if at.shared {
			from = s.book.texts
		}
		s.cells = append(s.cells, Cell{from[at.from:at.to:at.to], at.kind})
	}
	return s.cells
}

func (s *partRows) readRow() error {
	s.spans, s.room = s.spans[:0], s.room[:0]
	for depth := s.e.depth - 1; s.e.depth > depth; {
		if err := s.e.next(); err != nil {
			return s.e.truncated(err)
		}
		if s.e.kind != startElement || string(s.e.name) != "c" {
			continue
		}
		if err := s.cell(); err != nil {
			return err
		}
	}
	return nil
}

// cell reads a cell to its end and puts its text in its column (18.3.1.4).
func (s *partRows) cell() error {
	column := len(s.spans)
	if at := s.e.attr("r"); len(at) > 0 {
		n := 0
		for _, c := range at {
			if c < 'A' || c > 'Z' {
				break
			}
			if n = n*26 + int(c-'A') + 1; n > mostColumns {
				return damaged("the cell %s lies beyond the last column", at)
			}
		}
		column = max(0, n-1)
	}
	var kind byte // s shared, i inline or formula text, b logical, e error, d date, n number
	switch text := s.e.attr("t"); {
	case len(text) == 0:
		kind = 'n'
	case string(text) == "str", string(text) == "inlineStr":
		kind = 'i'
	default:
		kind = text[0]
	}
	style := 0
	if text := s.e.attr("s"); len(text) > 0 {
		style, _ = strconv.Atoi(string(text))
	}
	s.value = s.value[:0]
	formula, stored := false, false
	for depth := s.e.depth - 1; s.e.depth > depth; {
		if err := s.e.next(); err != nil {
			return s.e.truncated(err)
		}
		if s.e.kind != startElement {
			continue
		}
		var err error
		switch string(s.e.name) {
		case "v", "is":
			stored = stored || !s.e.empty
			s.value, err = s.e.content(s.value, "rPh")
		case "f":
			formula = true
			err = s.e.skip()
		default:
			err = s.e.skip()
		}
		if err != nil {
			return err
		}
	}
	for len(s.spans) < column {
		s.spans = append(s.spans, span{})
	}
	cell, err := s.read(kind, style)
	if err != nil {
		return err
	}
	if formula && !stored {
		cell.kind = Unstored
	}
	if column < len(s.spans) {
		s.spans[column] = cell
	} else {
		s.spans = append(s.spans, cell)
	}
	return nil
}

// read puts a value in plain form.
func (s *partRows) read(kind byte, style int) (span, error) {
	from := uint64(len(s.room))
	cell := span{from: from}
	switch kind {
	case 's':
		if len(s.value) == 0 {
			return span{}, nil
		}
		i, err := strconv.Atoi(string(bytes.TrimSpace(s.value)))
		if err != nil || i < 0 || i >= len(s.book.ends) {
			return span{}, damaged("row %d names the text %q, which there is not", s.row, s.value)
		}
		cell.shared = true
		if i > 0 {
			cell.from = s.book.ends[i-1]
		} else {
			cell.from = 0
		}
		cell.to = s.book.ends[i]
		return cell, nil
	case 'b':
		cell.kind = Logical
		if bytes.Equal(s.value, []byte("1")) || bytes.Equal(s.value, []byte("true")) {
			s.room = append(s.room, "true"...)
		} else if len(s.value) > 0 {
			s.room = append(s.room, "false"...)
		}
	case 'e':
		cell.kind = Fault
		s.room = append(s.room, s.value...)
	case 'd':
		cell.kind = Moment
		s.room = append(s.room, s.value...)
	case 'i':
		s.room = append(s.room, s.value...)
	default:
		cell.kind = Number
		value := bytes.TrimSpace(s.value)
		if how := s.format(style); how != asNumber && len(value) > 0 {
			if days, err := strconv.ParseFloat(string(value), 64); err == nil {
				var ok bool
				if s.room, ok = moment(s.room, days, how, s.book.from1904); ok {
					cell.kind = Moment
					break
				}
			}
		}
		s.room = number(s.room, value)
	}
	cell.to = uint64(len(s.room))
	return cell, nil
}

func (s *partRows) format(style int) shown {
	if style < 0 || style >= len(s.book.formats) {
		return asNumber
	}
	return s.book.formats[style]
}

// IsArchive reports whether bytes begin as a zip archive does, which workbooks
// are.
func IsArchive(start []byte) bool { return strings.HasPrefix(string(start), "PK\x03\x04") }
