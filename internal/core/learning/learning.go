// Package learning proposes how a file is read: the layout and the columns of a
// definition, judged over the whole file. It also says where it is unsure.
//
//	p, err := learning.Propose(def, open)
//	text, err := p.Apply(def.Text)
package learning

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/nearest"
	"jorvex/internal/core/reading"
)

// Proposal is a layout and columns for a file.
type Proposal struct {
	Read    []Key
	Columns []Column
	Unsure  []string // what a person should look at
}

// Key is one key of a definition's read, its value as YAML.
type Key struct{ Name, Value string }

// Column is one proposed column.
type Column struct {
	Name     string
	Header   string   // of the file; empty for a capture
	Position int      // in its place, where the header stands twice
	Also     []string // other headers that are accepted
	Capture  string
	Type     definition.Type
	Required bool
	Total    bool
}

// Open opens the file from its start, as often as it is asked.
type Open func() (*reading.File, error)

// Propose reads a file and proposes how it is read. Captures are those of the
// definition's patterns. The error may be a finding.Finding.
func Propose(captures []condition.Field, language calendar.Language, open Open) (*Proposal, error) {
	l := &learner{open: open, captures: captures, language: language, p: &Proposal{}}
	if err := l.learn(); err != nil {
		return nil, err
	}
	return l.p, nil
}

type learner struct {
	open     Open
	captures []condition.Field
	language calendar.Language
	p        *Proposal

	sheet   int
	head    []row
	at      guess
	header  []string
	columns []*column
	last    []string // of the header, to tell repetitions
	skipped map[string]int
	lately  []int // filled cells of the last rows
	rows    int
	judged  string
}

// headRows is how many rows the header is looked for in.
const headRows = 200

// row is a row as texts.
type row struct {
	number int64
	cells  []reading.Cell
}

func (l *learner) unsure(format string, args ...any) {
	l.p.Unsure = append(l.p.Unsure, fmt.Sprintf(format, args...))
}

func (l *learner) key(name, value string) { l.p.Read = append(l.p.Read, Key{name, value}) }

func (l *learner) learn() error {
	if err := l.findTable(); err != nil {
		return err
	}
	if err := l.readThrough(); err != nil {
		return err
	}
	l.conclude()
	return nil
}

// quote writes a text as YAML, whose escapes in double quotes are Go's.
func quote(text string) string { return strconv.Quote(strings.ToValidUTF8(text, "\ufffd")) }

// findTable finds the sheet and the header.
func (l *learner) findTable() error {
	f, err := l.opened()
	if err != nil {
		return err
	}
	defer f.close()
	if f.book == nil {
		if l.head, err = firstRows(f.rows); err != nil {
			return err
		}
		l.at = findHeader(l.head, f.file.Kind == reading.JSON || f.file.Kind == reading.XML)
		if l.at.score <= 0 {
			return finding.New(finding.NoHeader, "none of the first %d rows looks like one", len(l.head))
		}
		return nil
	}
	sheets := f.book.Sheets()
	fit := 0
	for i, sheet := range sheets {
		rows, err := f.book.Open(i)
		if err != nil {
			return err
		}
		head, err := firstRows(rows)
		_ = rows.Close()
		if err != nil {
			return err
		}
		at := findHeader(head, false)
		if at.score <= 0 || sheet.Hidden {
			continue
		}
		if fit++; at.score > l.at.score {
			l.sheet, l.at, l.head = i, at, head
		}
	}
	if l.at.score <= 0 {
		return finding.New(finding.NoHeader, "no sheet that is shown has a row that looks like one")
	}
	if fit > 1 {
		l.key("sheet", quote(sheets[l.sheet].Name))
		l.unsure("%d sheets hold a table; %q has the largest", fit, sheets[l.sheet].Name)
	}
	return nil
}

// openedFile is a file that was opened down to its rows.
type openedFile struct {
	outer, file *reading.File
	book        reading.Book
	rows        reading.Rows
	text        *reading.Delimited
	sheet       reading.SheetRows
}

func (f *openedFile) close() {
	if f.sheet != nil {
		_ = f.sheet.Close()
	}
	_ = f.outer.Close()
}

// opened opens the file, and the rows of it unless it is a workbook.
func (l *learner) opened() (*openedFile, error) {
	outer, err := l.open()
	if err != nil {
		return nil, err
	}
	f := &openedFile{outer: outer}
	if f.file, err = outer.Unpacked(""); err == nil {
		f.book, err = f.file.Book()
	}
	switch {
	case err != nil || f.book != nil:
	case f.file.Kind == reading.JSON || f.file.Kind == reading.XML:
		f.rows, err = f.file.Records("")
	default:
		f.text = reading.NewDelimited(f.file)
		f.text.Other = func(sample []byte) encoding {
			e := reading.Judge(sample, l.language.String())
			l.judged = reading.EncodingName(e)
			return e
		}
		f.rows = f.text
	}
	if err != nil {
		f.close()
		return nil, err
	}
	return f, nil
}

func firstRows(rows reading.Rows) (head []row, err error) {
	for len(head) < headRows {
		cells, err := rows.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		kept := slices.Clone(cells)
		for i := range kept {
			kept[i].Text = slices.Clone(trim(kept[i].Text))
		}
		if filled(kept) > 0 {
			head = append(head, row{rows.Row(), kept})
		}
	}
	return head, nil
}

// readThrough reads the whole table, and judges its columns.
func (l *learner) readThrough() error {
	l.header = joined(l.head[l.at.row : l.at.row+l.at.rows])
	for _, c := range l.head[l.at.row+l.at.rows-1].cells {
		l.last = append(l.last, string(c.Text))
	}
	for _, h := range l.header {
		l.columns = append(l.columns, newColumn(h, l.language))
	}
	l.skipped = map[string]int{}
	below := l.head[l.at.row+l.at.rows-1].number
	f, err := l.opened()
	if err != nil {
		return err
	}
	defer f.close()
	if f.book != nil {
		if f.sheet, err = f.book.Open(l.sheet); err != nil {
			return err
		}
		f.rows = f.sheet
	}
	for {
		cells, err := f.rows.Next()
		if err == io.EOF {
			return nil
		}
		var broken finding.Finding
		if errors.As(err, &broken) && l.rows > 0 {
			l.unsure("the file cannot be read to its end: %s", broken.Sentence)
			return nil
		}
		if err != nil {
			return err
		}
		if f.rows.Row() > below {
			l.row(cells)
		}
	}
}

// sumWords are how rows of sums begin, in small letters.
var sumWords = []string{"sum", "total", "subtotal", "grand total", "summe", "gesamt", "zwischensumme", "somme", "suma", "somma", "totale", "totaal", "i alt", "yhteensä", "razem", "all ports"}

// sumWord returns the word by which a text names a sum, as it is written.
func sumWord(text string) string {
	lower := strings.ToLower(text)
	for _, w := range sumWords {
		if strings.HasPrefix(lower, w) && len(lower) >= len(w) {
			if rest := text[len(w):]; rest == "" || strings.ContainsAny(rest[:1], " :.") {
				return text[:len(w)]
			}
		}
	}
	return ""
}

// row judges a row of the table.
func (l *learner) row(cells []reading.Cell) {
	n := filled(cells)
	if n == 0 || l.isHeader(cells) {
		return
	}
	for i, c := range cells {
		if len(trim(c.Text)) == 0 {
			continue
		}
		if word := sumWord(string(trim(c.Text))); word != "" && c.Kind == reading.Plain && i < len(l.header) && l.header[i] != "" {
			l.skipped[l.header[i]+"\x00"+word]++
			return
		}
		break
	}
	l.rows++
	if l.lately = append(l.lately, n); len(l.lately) > 8 {
		l.lately = l.lately[1:]
	}
	for i, c := range l.columns {
		var cell reading.Cell
		if i < len(cells) {
			cell = cells[i]
		}
		c.add(trim(cell.Text), cell.Kind)
	}
}

func (l *learner) isHeader(cells []reading.Cell) bool {
	if len(cells) != len(l.last) {
		return false
	}
	for i, c := range cells {
		if string(trim(c.Text)) != l.last[i] {
			return false
		}
	}
	return true
}

func filled(cells []reading.Cell) (n int) {
	for _, c := range cells {
		if len(trim(c.Text)) > 0 {
			n++
		}
	}
	return n
}

func trim(text []byte) []byte { return []byte(strings.TrimSpace(string(text))) }

// conclude makes a proposal of what was judged.
func (l *learner) conclude() {
	l.concludeLayout()
	names := map[string]bool{}
	for _, c := range l.captures {
		if !slices.ContainsFunc(l.header, func(h string) bool { return definition.Plain(h) == definition.Plain(c.Name) }) {
			l.p.Columns = append(l.p.Columns, Column{Name: c.Name, Capture: c.Name})
			names[c.Name] = true
		}
	}
	for i, c := range l.columns {
		if c.header == "" {
			if c.filled > 0 {
				l.unsure("a column with %d values has no header; it is left out", c.filled)
			}
			continue
		}
		proposed := Column{Name: nameOf(c.header, names), Header: c.header, Type: c.kind(), Required: c.blank+c.nullish == 0 && c.filled > 0}
		names[proposed.Name] = true
		if l.twice(c.header) {
			proposed.Position, proposed.Required = i+1, false
			l.unsure("%s: its header stands twice; it is found by its position", proposed.Name)
		}
		proposed.Total = proposed.Type.Number() && proposed.Type != definition.Percent && c.addsUp(proposed.Type)
		if l.carries(c) && proposed.Position == 0 {
			proposed.Required = true
		}
		for _, note := range c.notes(proposed.Type) {
			l.unsure("%s: %s", proposed.Name, note)
		}
		l.p.Columns = append(l.p.Columns, proposed)
	}
	if !slices.ContainsFunc(l.p.Columns, func(c Column) bool { return c.Required }) {
		// Something must tell the header from other rows.
		for i := range l.p.Columns {
			if l.p.Columns[i].Header != "" && l.p.Columns[i].Position == 0 {
				l.p.Columns[i].Required = true
				break
			}
		}
	}
	l.concludeNames()
}

// twice reports whether a header stands twice.
func (l *learner) twice(header string) bool {
	n := 0
	for _, h := range l.header {
		if definition.Plain(h) == definition.Plain(header) {
			n++
		}
	}
	return n > 1
}

// carries reports whether a column's blanks are to repeat the value above: one of
// the first two that names something, often blank, where the others are not.
func (l *learner) carries(c *column) bool {
	at := slices.Index(l.columns, c)
	kind := c.kind()
	return at < 2 && (kind == definition.Text || kind == definition.Date) && c.firstFilled && c.blank*5 >= l.rows && c.filled > 0 && c.blank > 0 && l.rows > 3 && l.othersFilled(at)
}

func (l *learner) othersFilled(at int) bool {
	full := 0
	for i, c := range l.columns {
		if i != at && c.blank*20 <= l.rows {
			full++
		}
	}
	return full*2 >= len(l.columns)-1 && full > 0
}

// nameOf makes a column's name of a header.
func nameOf(header string, taken map[string]bool) string {
	var b strings.Builder
	for _, r := range norm.NFC.String(definition.Plain(header)) {
		switch {
		case r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r):
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "_"):
			b.WriteByte('_')
		}
	}
	name := strings.TrimRight(b.String(), "_")
	if name == "" || !unicode.IsLetter([]rune(name)[0]) {
		name = strings.TrimRight("column_"+name, "_")
	}
	if runes := []rune(name); len(runes) > 58 {
		name = string(runes[:58])
	}
	for n, plain := 2, name; taken[name]; n++ {
		name = fmt.Sprintf("%s_%d", plain, n)
	}
	return name
}

// Settle holds the proposal against the headers of the other files, for which the
// columns were found: what is not in all of them is not required, and a header
// that is nearly one of the columns' is accepted, too.
func (p *Proposal) Settle(files [][]string) {
	for i := range p.Columns {
		c := &p.Columns[i]
		if c.Header == "" || c.Position > 0 {
			continue
		}
		missing := 0
		for _, headers := range files {
			plain := make([]string, len(headers))
			for at, h := range headers {
				plain[at] = definition.Plain(h)
			}
			if c.accepts(plain) {
				continue
			}
			near := nearest.Find(definition.Plain(c.Header), p.free(plain))
			if near == "" {
				missing++
				continue
			}
			written := headers[slices.Index(plain, near)]
			c.Also = append(c.Also, written)
			p.Unsure = append(p.Unsure, fmt.Sprintf("%s: other files have %q, which is taken for %q", c.Name, written, c.Header))
		}
		if missing > 0 {
			c.Required = false
			p.Unsure = append(p.Unsure, fmt.Sprintf("%s: %d of %d other files have no such column", c.Name, missing, len(files)))
		}
	}
}

// Weigh holds the proposal against what was found in other files, by path, when
// they were read by it: numbers that are whole in one file need not be so in all.
func (p *Proposal) Weigh(found map[string][]finding.Finding) {
	for i := range p.Columns {
		c := &p.Columns[i]
		count, first := 0, ""
		for _, path := range slices.Sorted(maps.Keys(found)) {
			for _, f := range found[path] {
				if f.Column != c.Name || !slices.Contains(notValues, f.Code) {
					continue
				}
				if f.Code == finding.NotWhole {
					c.Type = definition.Decimal
					continue
				}
				if count++; count == 1 {
					first = path + ": " + f.Sentence
				}
			}
		}
		if count > 0 {
			p.Unsure = append(p.Unsure, fmt.Sprintf("%s: in %d other files not all values are of the type %s; in %s", c.Name, count, c.Type, first))
		}
	}
}

// notValues are the findings about values that are none of a column's type.
var notValues = []finding.Code{finding.NotWhole, finding.NotDecimal, finding.NotDate, finding.NotTime, finding.NotTimestamp, finding.NotYesNo}

func (c *Column) accepts(plain []string) bool {
	for _, h := range append([]string{c.Header}, c.Also...) {
		if slices.Contains(plain, definition.Plain(h)) {
			return true
		}
	}
	return false
}

// free are the headers that no column has.
func (p *Proposal) free(plain []string) (free []string) {
	for _, h := range plain {
		if h != "" && !slices.ContainsFunc(p.Columns, func(c Column) bool { return c.Header != "" && c.accepts([]string{h}) }) {
			free = append(free, h)
		}
	}
	return free
}

// Apply puts the proposal in the place of what a definition says of reading and
// of columns.
func (p *Proposal) Apply(text string) (string, error) {
	text, err := definition.Replace(text, "read", p.read())
	if err != nil {
		return "", err
	}
	return definition.Replace(text, "columns", p.columns())
}

func (p *Proposal) read() string {
	if len(p.Read) == 0 {
		return ""
	}
	var b strings.Builder
	b.WriteString("read:\n")
	for _, k := range p.Read {
		fmt.Fprintf(&b, "  %s: %s\n", k.Name, k.Value)
	}
	return b.String()
}

func (p *Proposal) columns() string {
	var b strings.Builder
	b.WriteString("columns:\n")
	for _, c := range p.Columns {
		fmt.Fprintf(&b, "  - {name: %s", c.Name)
		if c.Capture != "" {
			fmt.Fprintf(&b, ", capture: %s", c.Capture)
		}
		if c.Position > 0 {
			fmt.Fprintf(&b, ", position: %d", c.Position)
		} else if headers := append([]string{c.Header}, c.Also...); c.Header != "" && (len(headers) > 1 || definition.Plain(c.Header) != definition.Plain(c.Name)) {
			for i, h := range headers {
				headers[i] = quote(h)
			}
			fmt.Fprintf(&b, ", headers: [%s]", strings.Join(headers, ", "))
		}
		if c.Type != "" && c.Type != definition.Text {
			fmt.Fprintf(&b, ", type: %s", c.Type)
		}
		if c.Required {
			b.WriteString(", required: true")
		}
		if c.Total {
			b.WriteString(", total: true")
		}
		b.WriteString("}\n")
	}
	return b.String()
}
