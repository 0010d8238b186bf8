package deliver

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/totals"
)

// lastRow is the last row of a sheet (ISO/IEC 29500-1, as every program holds it).
const lastRow = 1_048_576

// TooLong says that rows do not fit on a sheet.
type TooLong struct{ Sheet string }

func (e *TooLong) Error() string {
	return fmt.Sprintf("the sheet %q would have more than %d rows; deliver delimited text or Parquet", e.Sheet, lastRow)
}

// Overlap says that the rows of two files would stand on each other.
type Overlap struct {
	Sheet             string
	First, Second     string // files, as they are shown
	From, To, Second1 int    // rows of the first, and the first row of the second
}

func (e *Overlap) Error() string {
	return fmt.Sprintf("on the sheet %q the rows of %s stand in rows %d to %d, and those of %s begin in row %d", e.Sheet, e.First, e.From, e.To, e.Second, e.Second1)
}

// book is a workbook that is being written.
type book struct {
	*excelize.File
	c      Combined
	styles map[definition.Type]int
	bold   int
	sheets []string // in lower case, that have a name taken
}

// writeWorkbook writes a workbook (Office Open XML): the rows on one sheet, on one
// for each file, or where a hand-made list says, perhaps into the analyst's own.
func writeWorkbook(w io.Writer, d definition.Delivery, c Combined) error {
	b := &book{c: c, styles: map[definition.Type]int{}}
	var err error
	if b.File, err = b.open(d); err != nil {
		return err
	}
	defer b.Close()
	switch {
	case d.Sheets == definition.AsListed:
		err = b.listed(d)
	case d.Workbook != "":
		err = b.into(d)
	case d.Sheets == definition.SheetPerFile:
		err = b.perFile()
	default:
		err = b.one(d)
	}
	if err == nil {
		err = b.extras(d)
	}
	if err != nil {
		return err
	}
	if d.Workbook == "" {
		if b.SheetCount > 1 && len(b.sheets) > 0 {
			_ = b.DeleteSheet(blankSheet)
		}
		b.SetActiveSheet(0)
	}
	at := c.AsOf.UTC().Format(time.RFC3339)
	if err := b.SetDocProps(&excelize.DocProperties{Creator: "Jorvex", LastModifiedBy: "Jorvex", Created: at, Modified: at}); err != nil {
		return err
	}
	packed, err := b.WriteToBuffer()
	if err != nil {
		return err
	}
	return inOrder(w, packed.Bytes())
}

// inOrder writes a package with its parts in the order of their names, the list of
// their types first, so that equal workbooks have equal bytes.
func inOrder(w io.Writer, packed []byte) error {
	r, err := zip.NewReader(bytes.NewReader(packed), int64(len(packed)))
	if err != nil {
		return err
	}
	slices.SortFunc(r.File, func(a, b *zip.File) int { return strings.Compare(a.Name, b.Name) })
	out := zip.NewWriter(w)
	for _, f := range r.File {
		content, err := f.OpenRaw()
		if err != nil {
			return err
		}
		part, err := out.CreateRaw(&f.FileHeader)
		if err == nil {
			_, err = io.Copy(part, content)
		}
		if err != nil {
			return err
		}
	}
	return out.Close()
}

// blankSheet is the sheet that a new workbook begins with.
const blankSheet = "Sheet1"

func (b *book) open(d definition.Delivery) (*excelize.File, error) {
	if d.Workbook == "" {
		return excelize.NewFile(), nil
	}
	content, err := b.c.Template()
	if err != nil {
		return nil, fmt.Errorf("the template %s: %w", filename.Show(d.Workbook), err)
	}
	defer content.Close()
	f, err := excelize.OpenReader(content)
	if err != nil {
		return nil, fmt.Errorf("the template %s is no .xlsx workbook that can be read: %w", filename.Show(d.Workbook), err)
	}
	return f, nil
}

// formats are the number formats of the types.
var numberFormats = map[definition.Type]string{
	definition.Whole: "0", definition.Money: "#,##0.00", definition.Percent: "0.0%",
	definition.Date: "yyyy-mm-dd", definition.Time: "hh:mm:ss", definition.Timestamp: "yyyy-mm-dd hh:mm:ss",
}

func (b *book) style(of definition.Type) int {
	format, has := numberFormats[of]
	if !has {
		return 0
	}
	id, known := b.styles[of]
	if !known {
		id, _ = b.NewStyle(&excelize.Style{CustomNumFmt: &format})
		b.styles[of] = id
	}
	return id
}

// cell is a value with its real type. Numbers of more digits than a cell holds are
// text, so that none is lost.
func (b *book) cell(of definition.Type, v []byte) any {
	text := string(v)
	switch {
	case text == "":
		return nil
	case of.Number():
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || len(strings.Trim(strings.Replace(text, ".", "", 1), "-0")) > 15 {
			return text
		}
		return n
	case of == definition.YesNo:
		return text == "true"
	case of == definition.Date || of == definition.Timestamp || of == definition.Time:
		if serial, ok := serialOf(of, text); ok {
			return serial
		}
	}
	return text
}

// serialOf is a date and time as a workbook counts it: days since 1899-12-30.
func serialOf(of definition.Type, text string) (float64, bool) {
	layout := map[definition.Type]string{definition.Date: time.DateOnly, definition.Timestamp: time.DateTime, definition.Time: time.TimeOnly}[of]
	at, err := time.Parse(layout, text)
	if err != nil {
		return 0, false
	}
	if of == definition.Time {
		return float64(at.Hour()*3600+at.Minute()*60+at.Second())/86_400 + float64(at.Nanosecond())/86_400e9, true
	}
	serial := float64(at.Unix()+2_209_161_600)/86_400 + float64(at.Nanosecond())/86_400e9
	return serial, serial >= 61 // before March 1900 programs do not agree
}

// add makes a sheet, whose name is taken from then on.
func (b *book) add(name string) (string, error) {
	free := name
	for n := 2; slices.Contains(b.sheets, strings.ToLower(free)); n++ {
		end := fmt.Sprintf(" (%d)", n)
		free = cut(name, 31-len(end)) + end
	}
	b.sheets = append(b.sheets, strings.ToLower(free))
	if len(b.sheets) == 1 && b.c.Template == nil {
		return free, b.SetSheetName(blankSheet, free)
	}
	_, err := b.NewSheet(free)
	return free, err
}

// cut keeps so many characters of a text.
func cut(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most])
	}
	return text
}

// stream writes a header and rows to a new sheet, from a cell on.
type stream struct {
	b     *book
	w     *excelize.StreamWriter
	sheet string
	at    [2]int // the next row's first cell
	row   []any
}

func (b *book) stream(name string, start [2]int, columns []string) (*stream, error) {
	sheet, err := b.add(name)
	if err != nil {
		return nil, err
	}
	w, err := b.NewStreamWriter(sheet)
	if err != nil {
		return nil, err
	}
	if start == [2]int{1, 1} {
		if err := w.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
			return nil, err
		}
	}
	for i, name := range columns {
		if err := w.SetColWidth(start[0]+i, start[0]+i, float64(min(max(len([]rune(name))+3, 11), 40))); err != nil {
			return nil, err
		}
	}
	s := &stream{b: b, w: w, sheet: sheet, at: start}
	if b.bold == 0 {
		if b.bold, err = b.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}}); err != nil {
			return nil, err
		}
	}
	head := make([]any, len(columns))
	for i, name := range columns {
		head[i] = excelize.Cell{StyleID: b.bold, Value: name}
	}
	return s, s.put(head)
}

func (s *stream) put(row []any) error {
	if s.at[1] > lastRow {
		return &TooLong{s.sheet}
	}
	cell, err := excelize.CoordinatesToCellName(s.at[0], s.at[1])
	if err != nil {
		return err
	}
	s.at[1]++
	return s.w.SetRow(cell, row)
}

// part writes the rows of a part.
func (s *stream) part(part io.Reader) error {
	if s.row == nil {
		s.row = make([]any, len(s.b.c.Columns))
	}
	return rows(part, func(cells []reading.Cell) error {
		for i, col := range s.b.c.Columns {
			s.row[i] = excelize.Cell{StyleID: s.b.style(col.Type), Value: s.b.cell(col.Type, cells[i].Text)}
		}
		return s.put(s.row)
	})
}

func (b *book) names() (names []string) {
	for _, c := range b.c.Columns {
		names = append(names, c.Name)
	}
	return names
}

// one writes all rows on one sheet.
func (b *book) one(d definition.Delivery) error {
	s, err := b.stream(d.Sheet, d.Start, b.names())
	if err != nil {
		return err
	}
	if err := b.c.Parts(func(_ *Source, part io.Reader) error { return s.part(part) }); err != nil {
		return err
	}
	return s.w.Flush()
}

// perFile writes a sheet for each file, named as the file is; where two are named
// alike, with the folder too.
func (b *book) perFile() error {
	return b.c.Parts(func(source *Source, part io.Reader) error {
		name := sheetName(strings.TrimSuffix(path.Base(source.Path), path.Ext(source.Path)))
		if slices.Contains(b.sheets, strings.ToLower(name)) {
			name = sheetName(path.Base(path.Dir(source.Path)) + " " + name)
		}
		s, err := b.stream(name, [2]int{1, 1}, b.names())
		if err == nil {
			err = s.part(part)
		}
		if err != nil {
			return err
		}
		return s.w.Flush()
	})
}

// sheetName makes a sheet's name of a file's.
func sheetName(name string) string {
	name = strings.Map(func(r rune) rune {
		if strings.ContainsRune(`:\/?*[]`, r) || r < ' ' {
			return ' '
		}
		return r
	}, filename.Show(name))
	return cut(strings.Trim(strings.TrimSpace(name), "'"), 31)
}

// into puts the rows into a sheet of the analyst's own workbook, which keeps
// everything else. Rows of before below the block are cleared.
func (b *book) into(d definition.Delivery) error {
	if err := b.require(d.Sheet); err != nil {
		return err
	}
	if err := b.set(d.Sheet, d.Start, func(i int) (any, int) { return b.c.Columns[i].Name, 0 }); err != nil {
		return err
	}
	next := d.Start[1] + 1
	err := b.c.Parts(func(_ *Source, part io.Reader) error {
		n, err := b.block(d.Sheet, [2]int{d.Start[0], next}, part)
		next += n
		return err
	})
	if err != nil {
		return err
	}
	return b.clear(d.Sheet, [2]int{d.Start[0], next})
}

// require makes a sheet unless the workbook has it.
func (b *book) require(sheet string) error {
	at, err := b.GetSheetIndex(sheet)
	if err == nil && at < 0 {
		_, err = b.NewSheet(sheet)
	}
	if !slices.Contains(b.sheets, strings.ToLower(sheet)) {
		b.sheets = append(b.sheets, strings.ToLower(sheet))
	}
	return err
}

// set writes a row. A cell that has a style keeps it.
func (b *book) set(sheet string, at [2]int, value func(i int) (v any, style int)) error {
	if at[1] > lastRow {
		return &TooLong{sheet}
	}
	for i := range b.c.Columns {
		cell, err := excelize.CoordinatesToCellName(at[0]+i, at[1])
		if err != nil {
			return err
		}
		v, style := value(i)
		if err := b.SetCellValue(sheet, cell, v); err != nil {
			return err
		}
		if style == 0 {
			continue
		}
		has, err := b.GetCellStyle(sheet, cell)
		if err == nil && has == 0 {
			err = b.SetCellStyle(sheet, cell, cell, style)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// block writes the rows of a part from a cell on, and returns how many.
func (b *book) block(sheet string, at [2]int, part io.Reader) (n int, err error) {
	err = rows(part, func(cells []reading.Cell) error {
		err := b.set(sheet, [2]int{at[0], at[1] + n}, func(i int) (any, int) {
			return b.cell(b.c.Columns[i].Type, cells[i].Text), b.style(b.c.Columns[i].Type)
		})
		n++
		return err
	})
	return n, err
}

// clear empties the cells of the columns from a row on.
func (b *book) clear(sheet string, at [2]int) error {
	list, err := b.GetRows(sheet)
	if err != nil {
		return err
	}
	for row := at[1]; row <= len(list); row++ {
		if err := b.set(sheet, [2]int{at[0], row}, func(int) (any, int) { return nil, 0 }); err != nil {
			return err
		}
	}
	return nil
}

// placed is a file's rows on a sheet.
type placed struct {
	source *Source
	sheet  string
	from   int // row; 0 below what is on the sheet
}

// listed puts the rows of each file on the sheet and from the row that the
// hand-made list says: without a row, below the one before, under a header.
func (b *book) listed(d definition.Delivery) error {
	sources, err := b.c.sources()
	if err != nil {
		return err
	}
	places := map[*Source]placed{}
	bySheet := map[string][]placed{}
	for _, s := range sources {
		p := placed{source: s, sheet: d.Sheet}
		if len(s.Entries) > 0 {
			p.from = s.Entries[0].Target.Row
			if sheet := s.Entries[0].Target.Sheet; sheet != "" {
				p.sheet = sheet
			}
		}
		if !definition.SheetName(p.sheet) {
			return fmt.Errorf("%s is to go to the sheet %q, which cannot be a sheet's name; mend the list", filename.Show(s.Path), p.sheet)
		}
		if p.from == 0 {
			before := bySheet[p.sheet]
			if p.from = 2; len(before) > 0 {
				last := before[len(before)-1]
				p.from = last.from + int(last.source.Rows)
			}
		}
		bySheet[p.sheet] = append(bySheet[p.sheet], p)
		places[s] = p
	}
	for sheet, list := range bySheet {
		if err := overlap(sheet, list); err != nil {
			return err
		}
	}
	ends := map[string]int{}
	err = b.c.Parts(func(s *Source, part io.Reader) error {
		p := places[s]
		if _, begun := ends[p.sheet]; !begun {
			if err := b.begin(p.sheet, bySheet[p.sheet]); err != nil {
				return err
			}
		}
		n, err := b.block(p.sheet, [2]int{1, p.from}, part)
		ends[p.sheet] = max(ends[p.sheet], p.from+n)
		return err
	})
	if err != nil || d.Workbook == "" {
		return err
	}
	for sheet, end := range ends {
		if err := b.clear(sheet, [2]int{1, end}); err != nil {
			return err
		}
	}
	return nil
}

// begin makes a listed sheet, with a header where there is room for one.
func (b *book) begin(sheet string, list []placed) error {
	if b.c.Template == nil {
		if _, err := b.add(sheet); err != nil {
			return err
		}
	} else if err := b.require(sheet); err != nil {
		return err
	}
	first := slices.MinFunc(list, func(a, b placed) int { return a.from - b.from }).from
	if first < 2 || b.c.Template != nil {
		return nil
	}
	return b.set(sheet, [2]int{1, first - 1}, func(i int) (any, int) { return b.c.Columns[i].Name, 0 })
}

// overlap finds two files whose rows would stand on each other.
func overlap(sheet string, list []placed) error {
	sorted := slices.Clone(list)
	slices.SortStableFunc(sorted, func(a, b placed) int { return a.from - b.from })
	for i := 1; i < len(sorted); i++ {
		a, b := sorted[i-1], sorted[i]
		if end := a.from + int(a.source.Rows); a.source.Rows > 0 && b.source.Rows > 0 && b.from < end {
			return &Overlap{Sheet: sheet, First: filename.Show(a.source.Path), From: a.from, To: end - 1, Second: filename.Show(b.source.Path), Second1: b.from}
		}
	}
	return nil
}

// extras adds the sheets of the files that fed and of the summaries.
func (b *book) extras(d definition.Delivery) error {
	if slices.Contains(d.With, "files") {
		sources, err := b.c.sources()
		if err != nil {
			return err
		}
		s, err := b.stream("Files", [2]int{1, 1}, []string{"file", "rows", "bytes", "modified (UTC)", "digest (SHA-256)"})
		if err != nil {
			return err
		}
		for _, f := range sources {
			serial, _ := serialOf(definition.Timestamp, f.Modified.UTC().Format(time.DateTime))
			err := s.put([]any{filename.Show(f.Path), f.Rows, f.Size, excelize.Cell{StyleID: b.style(definition.Timestamp), Value: serial}, f.Digest})
			if err != nil {
				return err
			}
		}
		if err := s.w.Flush(); err != nil {
			return err
		}
	}
	if !slices.Contains(d.With, "summaries") || b.c.Figures == nil {
		return nil
	}
	for _, t := range b.c.Figures().Summaries {
		if err := b.summary(t); err != nil {
			return err
		}
	}
	return nil
}

// summary writes a cross-tab: groups down, those across in columns.
func (b *book) summary(t totals.Table) error {
	x := t.Crosstab()
	s, err := b.stream(sheetName(t.Name), [2]int{1, 1}, x.Header)
	if err != nil {
		return err
	}
	for _, row := range x.Rows {
		cells := make([]any, len(row))
		for i, v := range row {
			switch {
			case i < len(t.Rows):
				cells[i] = v
			case x.Numeric[i]:
				cells[i] = b.cell(definition.Decimal, []byte(v))
			default:
				cells[i] = b.cell(definition.Text, []byte(v))
			}
		}
		if err := s.put(cells); err != nil {
			return err
		}
	}
	return s.w.Flush()
}
