package shaping

import (
	"bytes"
	"slices"
	"strconv"
	"time"
	"unicode"
	"unicode/utf8"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
)

// notA is the finding about values that are none of a type.
var notA = map[definition.Type]finding.Code{
	definition.Whole: finding.NotWhole, definition.Decimal: finding.NotDecimal, definition.Money: finding.NotDecimal, definition.Percent: finding.NotDecimal,
	definition.Date: finding.NotDate, definition.Time: finding.NotTime, definition.Timestamp: finding.NotTimestamp, definition.YesNo: finding.NotYesNo,
}

// convert puts a cell's text in the canonical form of a column's type, or reports
// that it is none of it.
func (s *shaper) convert(f *field, text []byte, kind reading.CellKind) ([]byte, bool) {
	switch f.column.Type {
	case definition.Whole:
		value, ok := s.decimal(f, text, kind)
		if !ok {
			return nil, false
		}
		return whole(value)
	case definition.Decimal:
		return s.decimal(f, text, kind)
	case definition.Money:
		return s.money(f, text, kind)
	case definition.Percent:
		return s.percent(f, text, kind)
	case definition.Date:
		value := s.date(f, text)
		return value, isDate(value)
	case definition.Time:
		return clock(text)
	case definition.Timestamp:
		return s.timestamp(f, text)
	case definition.YesNo:
		return s.yesNo(text)
	}
	return text, true
}

// money is a number with a currency's sign or code before or behind it; one in
// parentheses is negative.
func (s *shaper) money(f *field, text []byte, kind reading.CellKind) ([]byte, bool) {
	negative := false
	if inside, ok := bytes.CutPrefix(text, []byte("(")); ok && bytes.HasSuffix(inside, []byte(")")) {
		negative, text = true, inside[:len(inside)-1]
	}
	sign := []byte(nil)
	for {
		text = trimSpace(text)
		r, size := utf8.DecodeRune(text)
		switch {
		case (r == '-' || r == '+') && sign == nil:
			sign = text[:size]
		case unicode.IsLetter(r) || unicode.Is(unicode.Sc, r):
		default:
			size = 0
		}
		if size == 0 || len(text) == 0 {
			break
		}
		text = text[size:]
	}
	for {
		text = trimSpace(text)
		r, size := utf8.DecodeLastRune(text)
		if len(text) == 0 || !unicode.IsLetter(r) && !unicode.Is(unicode.Sc, r) {
			break
		}
		text = text[:len(text)-size]
	}
	if len(text) == 0 {
		return nil, false
	}
	value, ok := s.decimal(f, text, kind)
	if !ok || (negative || string(sign) == "-") && value[0] == '-' {
		return nil, false
	}
	if (negative || string(sign) == "-") && string(value) != "0" {
		value = append([]byte{'-'}, value...)
	}
	return value, true
}

// trimSpace trims spaces of all kinds, as those that do not break.
func trimSpace(text []byte) []byte { return bytes.TrimFunc(text, unicode.IsSpace) }

// percent is a share as a fraction: 5% and, in a workbook, 0.05 are 0.05.
func (s *shaper) percent(f *field, text []byte, kind reading.CellKind) ([]byte, bool) {
	number, marked := bytes.CutSuffix(text, []byte("%"))
	value, ok := s.decimal(f, trimSpace(number), kind)
	if !ok || !marked || len(number) == 0 {
		return value, ok && len(number) > 0
	}
	return hundredth(value), true
}

// hundredth moves the point of a number in canonical form by two places.
func hundredth(value []byte) []byte {
	sign, digits := "", string(value)
	if digits[0] == '-' {
		sign, digits = "-", digits[1:]
	}
	whole, fraction := digits, ""
	for i := range digits {
		if digits[i] == '.' {
			whole, fraction = digits[:i], digits[i+1:]
		}
	}
	for len(whole) < 3 {
		whole = "0" + whole
	}
	fraction = whole[len(whole)-2:] + fraction
	whole = whole[:len(whole)-2]
	for len(fraction) > 0 && fraction[len(fraction)-1] == '0' {
		fraction = fraction[:len(fraction)-1]
	}
	if fraction == "" {
		return []byte(sign + whole)
	}
	return []byte(sign + whole + "." + fraction)
}

// clock is a time of the day.
func clock(text []byte) ([]byte, bool) {
	if at, ok := bytes.CutPrefix(text, []byte("1899-12-30T")); ok {
		text = at
	}
	for _, form := range []string{time.TimeOnly, "15:04:05.999999", "15:04", "3:04 PM", "3:04:05 PM"} {
		if at, err := time.Parse(form, string(bytes.ToUpper(text))); err == nil {
			return at.AppendFormat(nil, "15:04:05.999999"), true
		}
	}
	return nil, false
}

// timestamp is a date with a time of the day, midnight if there is none, without
// a zone.
func (s *shaper) timestamp(f *field, text []byte) ([]byte, bool) {
	if value := s.date(f, text); isDate(value) {
		return append(bytes.Clone(value), " 00:00:00"...), true
	}
	for _, mark := range []byte{'T', ' '} {
		i := bytes.IndexByte(text, mark)
		if i < 0 {
			continue
		}
		day := s.date(f, text[:i])
		at, ok := clock(trim(text[i+1:]))
		if ok && isDate(day) {
			return append(append(bytes.Clone(day), ' '), at...), true
		}
	}
	return nil, false
}

var yesWords = map[string]string{
	"true": "true", "yes": "true", "y": "true", "t": "true", "1": "true", "x": "true",
	"false": "false", "no": "false", "n": "false", "f": "false", "0": "false",
}

// yesNo is one of the layout's words for yes and no, or of the common ones.
func (s *shaper) yesNo(text []byte) ([]byte, bool) {
	word := string(bytes.ToLower(text))
	switch {
	case slices.Contains(s.layout.YesWords, word):
		return []byte("true"), true
	case slices.Contains(s.layout.NoWords, word):
		return []byte("false"), true
	}
	value, ok := yesWords[word]
	return []byte(value), ok
}

// date returns a text as a date in ISO 8601 form where the layout's forms, or a
// workbook's date with a time of midnight, tell one; or the text as it is.
func (s *shaper) date(f *field, text []byte) []byte {
	if len(text) == 10 && text[4] == '-' {
		return text
	}
	if at, midnight := bytes.CutSuffix(text, []byte("T00:00:00")); midnight {
		return at
	}
	language := s.language()
	first := ""
	for _, form := range s.layout.Dates {
		fields, ok := form.ReadIn(string(text), language)
		if !ok {
			continue
		}
		d, ok := fields.Date()
		if !ok || d.Unit != calendar.OneDay {
			continue
		}
		day := d.Start.String()
		if first == "" {
			first = day
		} else if day != first && f != nil {
			f.ambiguous.add(f.row, string(text))
		}
	}
	if first != "" {
		return []byte(first)
	}
	return text
}

// decimal returns a number in canonical form, of a text with the layout's marks.
// The numbers of workbooks have none.
func (s *shaper) decimal(f *field, text []byte, kind reading.CellKind) ([]byte, bool) {
	if len(text) == 0 {
		return nil, false
	}
	if kind == reading.Plain && (s.layout.Thousands != "" || s.layout.Decimal == ',') {
		f.marked = f.marked[:0]
		for i := 0; i < len(text); i++ {
			switch c := text[i]; {
			case s.isThousands(text, i):
			case c == '.' && s.layout.Decimal == ',':
				return nil, false
			case c == ',' && s.layout.Decimal == ',':
				f.marked = append(f.marked, '.')
			default:
				f.marked = append(f.marked, c)
			}
		}
		if text = f.marked; len(text) == 0 {
			return nil, false
		}
	}
	return f.decimal(text)
}

// isThousands reports whether a mark between thousands stands at i: three digits
// follow it, and a digit stands before.
func (s *shaper) isThousands(text []byte, i int) bool {
	mark := s.layout.Thousands
	if mark == "" || text[i] != mark[0] || i == 0 || i+3 >= len(text) {
		return false
	}
	digit := func(j int) bool { return text[j] >= '0' && text[j] <= '9' }
	return digit(i-1) && digit(i+1) && digit(i+2) && digit(i+3) && (i+4 == len(text) || !digit(i+4))
}

// number is the value of a cell for a condition.
func (s *shaper) number(f *field, cell reading.Cell) (float64, bool) {
	value, ok := s.convert(f, trim(cell.Text), cell.Kind)
	if !ok {
		return 0, false
	}
	v, err := strconv.ParseFloat(string(value), 64)
	return v, err == nil
}

// whole returns a whole number of 64 bits in canonical form.
func whole(value []byte) ([]byte, bool) {
	if slices.Contains(value, '.') {
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

// Converter converts single values as a layout says.
type Converter struct {
	s *shaper
	f field
}

// NewConverter returns a Converter under a layout.
func NewConverter(layout definition.Layout) *Converter {
	return &Converter{s: &shaper{def: &definition.Definition{}, layout: &layout}}
}

// Convert returns a value of a type in its canonical form, or reports that the
// text is none of it. The value is valid until the next call.
func (c *Converter) Convert(t definition.Type, text []byte, kind reading.CellKind) ([]byte, bool) {
	c.f.column = &definition.Column{Type: t}
	text = trim(text)
	if len(text) == 0 {
		return nil, false
	}
	return c.s.convert(&c.f, text, kind)
}
