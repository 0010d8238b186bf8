package shaping

import (
	"bytes"
	"encoding/json"
	"hash/maphash"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/formula"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/totals"
)

// field is one declared column on its way from a cell, or whatever it comes from,
// to the table.
type field struct {
	column *definition.Column
	cell   int // index in the row, or -1
	sum    *totals.Sum
	carry  bool // a blank cell repeats the one above
	above  reading.Cell
	from   []int // the fields that it is made of

	fixed bool // the value is the same in all rows
	quick quick
	plain bool // nothing is made of the text but a value of the type
	value []byte
	has   bool // there is a value; else it is null

	filled    int64
	bad       tally
	faults    tally
	cut       tally
	unknown   tally
	divided   tally
	outside   tally
	unfit     tally
	ambiguous tally
	keyless   tally

	row                        int64 // at hand
	room, marked, piece, spelt []byte
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
		if c.Total {
			f.sum = &s.result.Sums[next]
			next++
		}
		if c.Key {
			s.keys.of = append(s.keys.of, i)
		}
		f.plain = len(s.layout.NullWords) == 0 && c.Matches == nil && c.Split == "" && c.Characters == [2]int{} && c.Replace == nil && c.Lookup == nil && c.Part == ""
		switch c.Source {
		case definition.FromCell:
			s.fieldOf = append(s.fieldOf, i)
		case definition.FromCapture:
			f.fix(s, s.origin.Captures[c.From])
		case definition.FromFile:
			stem := s.origin.Name
			if dot := strings.LastIndexByte(stem, '.'); dot > 0 {
				stem = stem[:dot]
			}
			facts := map[string]string{"name": s.origin.Name, "stem": stem, "folder": s.origin.Folder, "path": s.origin.Path, "modified": s.origin.Modified}
			if fact, is := facts[c.From]; is {
				f.fix(s, fact)
			}
		case definition.FromColumn:
			f.from = []int{s.fieldNamed(c.From)}
		case definition.FromFormula:
			for _, name := range c.Formula.Names {
				f.from = append(f.from, s.fieldNamed(name))
			}
		}
	}
}

// fieldNamed returns the number of a field that the definition has.
func (s *shaper) fieldNamed(name string) int {
	return slices.IndexFunc(s.fields, func(f field) bool { return f.column != nil && strings.EqualFold(f.column.Name, name) })
}

// fix gives a field the value that it has in all rows.
func (f *field) fix(s *shaper, text string) {
	f.value, f.has = []byte(text), text != ""
	if !f.plain || f.column.Default != "" || f.column.Least != "" || f.column.Most != "" {
		f.value, f.has = f.typed(s, reading.Cell{Text: []byte(text)}, 0)
		f.value = bytes.Clone(f.value)
	}
	f.fixed = true
}

// quick is how a cell of delimited text is typed where nothing else is asked of it.
type quick uint8

const (
	slow quick = iota
	quickText
	quickWhole
	quickDecimal
	quickDate
)

// hasten marks the fields that can be typed the quick way, once the header is
// bound.
func (s *shaper) hasten() {
	if s.text == nil {
		return
	}
	asked := map[int]bool{}
	for i := range s.fields {
		for _, from := range s.fields[i].from {
			asked[from] = true
		}
	}
	marks := s.layout.Thousands != "" || s.layout.Decimal == ','
	for i := range s.fields {
		f := &s.fields[i]
		c := f.column
		if c.Source != definition.FromCell || f.cell < 0 || !f.plain || f.carry || c.Key || c.Default != "" || c.Least != "" || c.Most != "" || asked[i] || s.trace != nil {
			continue
		}
		switch {
		case c.Type == definition.Text:
			f.quick = quickText
		case c.Type == definition.Whole && !marks:
			f.quick = quickWhole
		case c.Type == definition.Decimal && !marks:
			f.quick = quickDecimal
		case c.Type == definition.Date:
			f.quick = quickDate
		}
	}
}

// quickly appends the field's value to a row, if it is in its canonical form. It
// reports false for any other, which the slow way sees to.
func (f *field) quickly(row []byte, cells []reading.Cell) ([]byte, bool) {
	if f.cell >= len(cells) {
		return row, true
	}
	text := cells[f.cell].Text
	if len(text) > 0 && (text[0] <= ' ' || text[len(text)-1] <= ' ') {
		text = trim(text)
	}
	if len(text) == 0 {
		return row, true
	}
	switch f.quick {
	case quickText:
		f.filled++
		return AppendText(row, text), true
	case quickDate:
		if !isDate(text) {
			return row, false
		}
	default:
		n, scale, ok := plainNumber(text)
		if !ok || scale > 0 && f.quick == quickWhole || scale >= totals.Scales {
			return row, false
		}
		if f.sum != nil {
			f.sum.AddScaled(n, scale)
		}
	}
	f.filled++
	return append(row, text...), true
}

// plainNumber reads a number in canonical form that fits 64 bits: n is in units of
// the last of its decimal places.
func plainNumber(text []byte) (n int64, scale int, ok bool) {
	digits := text
	negative := text[0] == '-'
	if negative {
		digits = text[1:]
	}
	if len(digits) == 0 || len(digits) > 18 || digits[0] == '.' || digits[0] == '0' && len(digits) > 1 && digits[1] != '.' {
		return 0, 0, false
	}
	point := -1
	for i, c := range digits {
		if c -= '0'; c <= 9 {
			n = n*10 + int64(c)
		} else if digits[i] == '.' && point < 0 {
			point = i
		} else {
			return 0, 0, false
		}
	}
	if point >= 0 {
		if scale = len(digits) - 1 - point; scale == 0 {
			return 0, 0, false
		}
	}
	if negative {
		if n == 0 {
			return 0, 0, false
		}
		n = -n
	}
	return n, scale, true
}

// write writes the field's value in a row. What does not convert is null and
// tallied.
func (f *field) write(s *shaper, out *Writer, cells []reading.Cell, row int64) {
	if !f.fixed {
		f.value, f.has = f.evaluate(s, cells, row)
	}
	if !f.has {
		if f.column.Key {
			f.keyless.add(row, "")
		}
		out.Null()
		return
	}
	f.filled++
	if f.sum != nil {
		f.sum.Add(f.value)
	}
	if f.column.Type == definition.Text {
		out.Text(f.value)
	} else {
		out.Plain(f.value)
	}
}

// evaluate returns the field's value in a row, and whether there is one.
func (f *field) evaluate(s *shaper, cells []reading.Cell, row int64) ([]byte, bool) {
	var cell reading.Cell
	switch f.column.Source {
	case definition.FromCell:
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
	case definition.FromFile:
		f.piece = strconv.AppendInt(f.piece[:0], row, 10)
		cell.Text = f.piece
	case definition.FromColumn:
		if from := &s.fields[f.from[0]]; from.has {
			cell.Text = from.value
			if from.column.Type != definition.Text {
				cell.Kind = reading.Number // its marks are plain
			}
		}
	case definition.FromFormula:
		return f.compute(s, row)
	case definition.FromOthers:
		return f.others(s, cells)
	}
	if cell.Kind == reading.Fault || cell.Kind == reading.Unstored {
		sample := string(trim(cell.Text))
		if cell.Kind == reading.Unstored {
			sample = "a formula without a stored value"
		}
		f.faults.add(row, sample)
		return nil, false
	}
	if s.text == nil && !soundText(cell.Text) {
		f.unfit.add(row, strings.ToValidUTF8(string(cell.Text), "\ufffd"))
		return nil, false
	}
	return f.typed(s, cell, row)
}

// soundText reports whether a text is one that every table can hold. Delimited
// text is known to be.
func soundText(text []byte) bool { return utf8.Valid(text) && bytes.IndexByte(text, 0) < 0 }

// typed makes a value of the column's type of a text.
func (f *field) typed(s *shaper, cell reading.Cell, row int64) ([]byte, bool) {
	text := trim(cell.Text)
	if len(text) > 0 && !f.plain {
		text = f.made(s, text, row)
	}
	if len(text) == 0 {
		return []byte(f.column.Default), f.column.Default != ""
	}
	if f.column.Type != definition.Text {
		f.row = row
		value, ok := s.convert(f, text, cell.Kind)
		if !ok {
			f.bad.add(row, string(text))
			return nil, false
		}
		text = value
	}
	if f.column.Least != "" && f.compare(text, f.column.Least) < 0 || f.column.Most != "" && f.compare(text, f.column.Most) > 0 {
		f.outside.add(row, string(text))
	}
	return text, true
}

// made cuts, replaces and looks up, as the column says. Nothing is left of a text
// that does not have what is wanted.
func (f *field) made(s *shaper, text []byte, row int64) []byte {
	if len(s.layout.NullWords) > 0 && slices.Contains(s.layout.NullWords, strings.ToLower(string(text))) {
		return nil
	}
	c := f.column
	whole, isCut := text, true
	switch {
	case c.Matches != nil:
		groups := c.Matches.FindSubmatch(text)
		isCut = groups != nil
		if isCut {
			text = groups[min(1, len(groups)-1)]
		}
	case c.Split != "":
		pieces := bytes.Split(text, []byte(c.Split))
		at := c.Piece - 1
		if c.Piece < 0 {
			at = len(pieces) + c.Piece
		}
		isCut = at >= 0 && at < len(pieces)
		if isCut {
			text = trim(pieces[at])
		}
	case c.Characters != [2]int{}:
		text = trim(characters(text, c.Characters[0], c.Characters[1]))
		isCut = len(text) > 0
	}
	if !isCut {
		f.cut.add(row, string(whole))
		return nil
	}
	for _, r := range c.Replace {
		text = bytes.ReplaceAll(text, []byte(r[0]), []byte(r[1]))
	}
	if c.Lookup != nil {
		found, has := c.Lookup[definition.Plain(string(text))]
		if !has {
			f.unknown.add(row, string(text))
		}
		return []byte(found)
	}
	if c.Part != "" {
		return f.part(s, text)
	}
	return text
}

// characters returns the characters of a text from one to another, counted from
// 1; to 0 is the end.
func characters(text []byte, from, to int) []byte {
	start, n := len(text), 0
	for i := range string(text) {
		if n++; n == from {
			start = i
		}
		if to > 0 && n == to+1 {
			return text[min(start, i):i]
		}
	}
	return text[start:]
}

// part is a part of a date in canonical form, or of a timestamp.
func (f *field) part(s *shaper, text []byte) []byte {
	d, ok := calendar.DayIn(string(text[:min(len(text), 10)]))
	if !ok {
		return nil
	}
	t := d.Time()
	year, week := s.layout.Weeks.OfYear(d)
	language := s.language()
	n := 0
	switch f.column.Part {
	case "year":
		n = t.Year()
	case "quarter":
		n = (int(t.Month()) + 2) / 3
	case "month":
		n = int(t.Month())
	case "day":
		n = t.Day()
	case "week":
		n = week
	case "week_year":
		n = year
	case "week_of_month":
		n = s.layout.Weeks.OfMonth(d)
	case "month_name":
		return []byte(language.MonthName(int(t.Month())))
	case "short_month":
		return []byte(language.ShortMonth(int(t.Month())))
	case "day_name":
		return []byte(language.DayName(d))
	}
	f.piece = strconv.AppendInt(f.piece[:0], int64(n), 10)
	return f.piece
}

// language is that of the file's words.
func (s *shaper) language() calendar.Language {
	if s.layout.Language.String() != "" {
		return s.layout.Language
	}
	return s.def.Language
}

// compute computes the column's formula. It has no value where a column has none.
func (f *field) compute(s *shaper, row int64) ([]byte, bool) {
	blank := false
	value, ok := f.column.Formula.Value(func(name string) (*big.Rat, bool) {
		from := &s.fields[f.from[slices.Index(f.column.Formula.Names, name)]]
		blank = blank || !from.has
		if !from.has {
			return nil, false
		}
		return new(big.Rat).SetString(string(from.value))
	})
	if !ok {
		if !blank {
			f.divided.add(row, "")
		}
		return []byte(f.column.Default), f.column.Default != ""
	}
	f.spelt = formula.Append(f.spelt[:0], value, f.column.Round)
	return f.typed(s, reading.Cell{Text: f.spelt, Kind: reading.Number}, row)
}

// others gathers what is not declared as a JSON object.
func (f *field) others(s *shaper, cells []reading.Cell) ([]byte, bool) {
	f.spelt = append(f.spelt[:0], '{')
	for _, at := range s.extra {
		if at >= len(cells) || cells[at].Kind == reading.Fault || cells[at].Kind == reading.Unstored {
			continue
		}
		text := trim(cells[at].Text)
		if len(text) == 0 || !soundText(text) {
			continue
		}
		if len(f.spelt) > 1 {
			f.spelt = append(f.spelt, ", "...)
		}
		f.spelt = appendJSON(f.spelt, s.heading[at])
		f.spelt = append(f.spelt, ": "...)
		f.spelt = appendJSON(f.spelt, text)
	}
	f.spelt = append(f.spelt, '}')
	return f.spelt, len(f.spelt) > 2
}

func appendJSON(into, text []byte) []byte {
	encoded, err := json.Marshal(string(text))
	if err != nil {
		return append(into, `""`...)
	}
	return append(into, encoded...)
}

// compare compares two values of the column's type in canonical form.
func (f *field) compare(value []byte, with string) int {
	if f.column.Type.Number() {
		return compareNumbers(string(value), with)
	}
	return strings.Compare(string(value), with)
}

// compareNumbers compares two numbers with digits and at most one point.
func compareNumbers(a, b string) int {
	aLess, bLess := strings.HasPrefix(a, "-"), strings.HasPrefix(b, "-")
	switch {
	case aLess && !bLess:
		return -1
	case bLess && !aLess:
		return 1
	case aLess:
		return compareNumbers(b[1:], a[1:])
	}
	aWhole, aRest, _ := strings.Cut(a, ".")
	bWhole, bRest, _ := strings.Cut(b, ".")
	if n := len(aWhole) - len(bWhole); n != 0 {
		return n
	}
	if n := strings.Compare(aWhole, bWhole); n != 0 {
		return n
	}
	return strings.Compare(strings.TrimRight(aRest, "0"), strings.TrimRight(bRest, "0"))
}

// OfName tells what is wrong with the columns that a file's name and captures
// give: their values are the same in all rows, and do not come with the bytes.
func OfName(def *definition.Definition, origin Origin) []finding.Finding {
	s := &shaper{def: def, layout: &def.Layout, origin: origin}
	s.prepare()
	for i := range s.fields {
		if f := &s.fields[i]; f.fixed {
			f.conclude(s)
		}
	}
	return s.result.Findings
}

// MadeOfName reports whether a definition makes something of captures, or of
// what it is told of the file, that may not fit.
func MadeOfName(def *definition.Definition) bool {
	return slices.ContainsFunc(def.Columns, func(c definition.Column) bool {
		return (c.Source == definition.FromCapture || c.Source == definition.FromFile) && (c.Changed() || c.Least != "" || c.Most != "")
	})
}

// conclude turns the field's tallies into findings.
func (f *field) conclude(s *shaper) {
	tell := func(t *tally, code finding.Code, samples bool) {
		if t.count == 0 {
			return
		}
		evidence := "in %s, %s, the first is row %d"
		args := []any{f.column.Name, rows(t.count), t.first}
		if f.fixed {
			evidence, args = "in %s, which comes with the file", []any{f.column.Name}
		}
		if samples {
			evidence += ": %s"
			args = append(args, finding.Samples(t.samples))
		}
		made := inColumn(finding.New(code, evidence, args...), f, t.first)
		if !f.fixed {
			made.Count = t.count
		}
		s.found(made)
	}
	tell(&f.faults, finding.ErrorValues, true)
	tell(&f.unfit, finding.NotText, true)
	tell(&f.cut, finding.NotCut, true)
	tell(&f.unknown, finding.NotInLookup, true)
	tell(&f.divided, finding.NotComputed, false)
	tell(&f.bad, notA[f.column.Type], true)
	tell(&f.ambiguous, finding.AmbiguousDates, true)
	tell(&f.outside, finding.OutOfBounds, true)
	tell(&f.keyless, finding.KeyBlank, false)
	if f.cell >= 0 && f.filled == 0 && s.result.Kept > 1 && f.faults.count+f.unfit.count+f.cut.count+f.unknown.count+f.bad.count == 0 {
		s.found(inColumn(finding.New(finding.ColumnBlank, "%s, in %s", f.column.Name, rows(s.result.Kept)), f, s.top))
	}
}

// keys finds rows with the same key.
type keys struct {
	of      []int
	seeds   [2]maphash.Seed
	seen    map[[2]uint64]int64 // the first row of each key
	count   int64
	row     int64
	samples []string
	text    []byte
}

// mostKeys is how many rows are compared by their keys.
const mostKeys = 4_000_000

func (k *keys) add(fields []field, row int64) {
	if len(k.seen) >= mostKeys {
		return
	}
	if k.seen == nil {
		k.seen = map[[2]uint64]int64{}
		k.seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}
	}
	k.text = k.text[:0]
	for _, i := range k.of {
		if fields[i].fixed {
			continue // the same in all rows
		}
		if !fields[i].has {
			return // told by itself
		}
		k.text = append(append(k.text, fields[i].value...), 0)
	}
	key := [2]uint64{maphash.Bytes(k.seeds[0], k.text), maphash.Bytes(k.seeds[1], k.text)}
	first, doubled := k.seen[key]
	if !doubled {
		k.seen[key] = row
		return
	}
	if k.count++; k.count == 1 {
		k.row = row
	}
	if len(k.samples) < 3 {
		values := strings.ReplaceAll(strings.TrimSuffix(string(k.text), "\x00"), "\x00", ", ")
		k.samples = append(k.samples, "rows "+strconv.FormatInt(first, 10)+" and "+strconv.FormatInt(row, 10)+": "+values)
	}
}

func (k *keys) conclude(s *shaper) {
	if k.count == 0 {
		return
	}
	f := finding.New(finding.KeyDoubled, "%s; %s", rows(k.count), strings.Join(k.samples, "; "))
	f.Row, f.Count = k.row, k.count
	s.found(f)
}
