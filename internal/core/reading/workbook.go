package reading

import (
	"archive/zip"
	"encoding/xml"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"

	"jorvex/internal/core/finding"
)

// Workbook reads sheets of a workbook in Office Open XML (ECMA-376, part 1,
// clause 18), cell by cell, as the text that is stored.
type Workbook struct {
	archive *zip.Reader
	sheets  []sheetPart
	strings []string
}

type sheetPart struct{ name, part string }

// Limits of a workbook.
const (
	mostStrings = 5_000_000
	mostColumns = 16_384 // the form's own limit
	mostPart    = 4 << 30
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
	w := &Workbook{archive: archive}
	var book struct {
		Sheets []struct {
			Name string `xml:"name,attr"`
			ID   string `xml:"http://schemas.openxmlformats.org/officeDocument/2006/relationships id,attr"`
			// Strict documents have the id in another name space.
			StrictID string `xml:"http://purl.oclc.org/ooxml/officeDocument/relationships id,attr"`
		} `xml:"sheets>sheet"`
	}
	if err := w.decode("xl/workbook.xml", &book); err != nil {
		return nil, err
	}
	var relations struct {
		List []struct {
			ID     string `xml:"Id,attr"`
			Type   string `xml:"Type,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	if err := w.decode("xl/_rels/workbook.xml.rels", &relations); err != nil {
		return nil, err
	}
	targets := map[string]string{}
	shared := ""
	for _, r := range relations.List {
		target := path.Join("xl", r.Target)
		if strings.HasPrefix(r.Target, "/") {
			target = strings.TrimPrefix(r.Target, "/")
		}
		targets[r.ID] = target
		if strings.HasSuffix(r.Type, "/sharedStrings") {
			shared = target
		}
	}
	for _, s := range book.Sheets {
		w.sheets = append(w.sheets, sheetPart{s.Name, targets[s.ID+s.StrictID]})
	}
	if shared != "" {
		err = w.readStrings(shared)
	}
	return w, err
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
	}{io.LimitReader(f, mostPart), f}, nil
}

func (w *Workbook) decode(part string, into any) error {
	f, err := w.open(part)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := xml.NewDecoder(f).Decode(into); err != nil {
		return damaged("%s: %s", part, err)
	}
	return nil
}

func (w *Workbook) readStrings(part string) error {
	f, err := w.open(part)
	if err != nil {
		return err
	}
	defer f.Close()
	decoder := xml.NewDecoder(f)
	for {
		token, err := decoder.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return damaged("%s: %s", part, err)
		}
		if start, is := token.(xml.StartElement); is && start.Name.Local == "si" {
			text, err := richText(decoder)
			if err != nil {
				return damaged("%s: %s", part, err)
			}
			if w.strings = append(w.strings, text); len(w.strings) > mostStrings {
				return damaged("it has more than %d texts", mostStrings)
			}
		}
	}
}

// richText gathers the runs of text up to the end of the element that was just
// begun, without phonetic hints.
func richText(d *xml.Decoder) (string, error) {
	var b strings.Builder
	text := false
	for depth := 1; depth > 0; {
		token, err := d.Token()
		if err != nil {
			return "", err
		}
		switch t := token.(type) {
		case xml.StartElement:
			if t.Name.Local == "rPh" {
				if err := d.Skip(); err != nil {
					return "", err
				}
				continue
			}
			depth++
			text = t.Name.Local == "t"
		case xml.EndElement:
			depth--
			text = false
		case xml.CharData:
			if text {
				b.Write(t)
			}
		}
	}
	return b.String(), nil
}

// Sheets lists the names of the sheets, in order.
func (w *Workbook) Sheets() []string {
	names := make([]string, len(w.sheets))
	for i, s := range w.sheets {
		names[i] = s.name
	}
	return names
}

// Rows calls each with the cells of every row of a sheet that has any, the first
// sheet if the name is empty. Rows are counted from 1.
func (w *Workbook) Rows(sheet string, each func(row int, cells []string) error) error {
	i := 0
	if sheet != "" {
		i = slices.IndexFunc(w.sheets, func(s sheetPart) bool { return strings.EqualFold(s.name, sheet) })
	}
	if i < 0 || i >= len(w.sheets) {
		return damaged("there is no sheet %q; there are %s", sheet, finding.Samples(w.Sheets()))
	}
	f, err := w.open(w.sheets[i].part)
	if err != nil {
		return err
	}
	defer f.Close()
	s := &sheetReader{book: w, decoder: xml.NewDecoder(f), each: each}
	err = s.run()
	if _, own := err.(*xml.SyntaxError); own || err == io.ErrUnexpectedEOF {
		return damaged("%s: %s", w.sheets[i].part, err)
	}
	return err
}

type sheetReader struct {
	book    *Workbook
	decoder *xml.Decoder
	each    func(row int, cells []string) error
	row     int
	cells   []string
}

func (s *sheetReader) run() error {
	for {
		token, err := s.decoder.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "row":
				s.row++
				if n, err := strconv.Atoi(attribute(t, "r")); err == nil {
					s.row = n
				}
				s.cells = s.cells[:0]
			case "c":
				if err := s.cell(t); err != nil {
					return err
				}
			}
		case xml.EndElement:
			if t.Name.Local == "row" {
				if err := s.each(s.row, s.cells); err != nil {
					return err
				}
			}
		}
	}
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// cell reads a cell to its end and puts its text in its column.
func (s *sheetReader) cell(start xml.StartElement) error {
	column := len(s.cells)
	if at := attribute(start, "r"); at != "" {
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
	var content struct {
		Value  string `xml:"v"`
		Inline struct {
			Texts []string `xml:"t"`
			Runs  []string `xml:"r>t"`
		} `xml:"is"`
	}
	if err := s.decoder.DecodeElement(&content, &start); err != nil {
		return err
	}
	text := content.Value
	switch attribute(start, "t") {
	case "s":
		i, err := strconv.Atoi(text)
		if err != nil || i < 0 || i >= len(s.book.strings) {
			return damaged("row %d names the text %q, which there is not", s.row, text)
		}
		text = s.book.strings[i]
	case "inlineStr":
		text = strings.Join(content.Inline.Texts, "") + strings.Join(content.Inline.Runs, "")
	}
	for len(s.cells) <= column {
		s.cells = append(s.cells, "")
	}
	s.cells[column] = text
	return nil
}

// IsArchive reports whether bytes begin as a zip archive does, which workbooks
// are.
func IsArchive(start []byte) bool { return strings.HasPrefix(string(start), "PK\x03\x04") }
