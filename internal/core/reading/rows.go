package reading

import (
	"bytes"
	"math"
	"strconv"
	"time"
)

// Cell is one cell of a row, as text in a plain form: numbers with digits and at
// most one point, dates and times in ISO 8601, logical values as true and false.
type Cell struct {
	Text []byte
	Kind CellKind
}

// CellKind says what a cell holds, where its format tells.
type CellKind uint8

// The kinds of cell.
const (
	Plain    CellKind = iota // text, which may stand for anything
	Number                   // a number
	Moment                   // a date, a time, or both
	Logical                  // true or false
	Fault                    // an error value, such as #N/A
	Unstored                 // a formula whose value was not stored
)

// Rows is a table in a file, row by row.
type Rows interface {
	// Next returns the cells of the next row, valid until the call after. The
	// error is io.EOF at the end, a finding.Finding, or the reader's own.
	Next() ([]Cell, error)
	// Row returns the number of the row that Next returned last, counted from 1
	// as the program that wrote the file counts it.
	Row() int64
}

// shown is what a number of a workbook is shown as.
type shown uint8

const (
	asNumber shown = iota
	asDate
	asTime
	asBoth
)

// number returns a number of a workbook in plain form. Programs keep 15
// significant digits; more are the noise of binary fractions.
func number(into, text []byte) []byte {
	digits, plain := 0, true
	for _, c := range text {
		switch {
		case c >= '0' && c <= '9':
			digits++
		case c != '-' && c != '.':
			plain = false
		}
	}
	if plain && digits <= 15 {
		if bytes.IndexByte(text, '.') >= 0 {
			text = bytes.TrimSuffix(bytes.TrimRight(text, "0"), []byte("."))
		}
		return append(into, text...)
	}
	v, err := strconv.ParseFloat(string(text), 64)
	if err != nil || math.IsInf(v, 0) || math.IsNaN(v) {
		return append(into, text...)
	}
	return plainFloat(into, v)
}

// plainFloat writes a number with its 15 significant digits.
func plainFloat(into []byte, v float64) []byte {
	if rounded, err := strconv.ParseFloat(strconv.FormatFloat(v, 'g', 15, 64), 64); err == nil {
		v = rounded
	}
	return strconv.AppendFloat(into, v, 'f', -1, 64)
}

// moment returns the date or time that a number of days stands for: since 30
// December 1899, or 1 January 1904 where the workbook says so (ECMA-376, part 1,
// 18.17.4). Below 61 days the first is a day off, for 1900 is taken for a leap
// year.
func moment(into []byte, days float64, how shown, from1904 bool) ([]byte, bool) {
	if math.IsNaN(days) || days < 0 || days >= 2958466 { // the year 10000
		return into, false
	}
	whole := math.Floor(days)
	ms := math.Round((days - whole) * 86_400_000)
	if ms >= 86_400_000 {
		whole, ms = whole+1, 0
	}
	day := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	switch {
	case from1904:
		day = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	case whole < 61:
		day = day.AddDate(0, 0, 1)
	}
	at := day.AddDate(0, 0, int(whole)).Add(time.Duration(ms) * time.Millisecond)
	switch {
	case how == asTime && days < 1:
		return at.AppendFormat(into, clockForm(ms)), true
	case how == asDate && ms == 0:
		return at.AppendFormat(into, time.DateOnly), true
	}
	return at.AppendFormat(into, time.DateOnly+"T"+clockForm(ms)), true
}

func clockForm(ms float64) string {
	if math.Mod(ms, 1000) != 0 {
		return "15:04:05.000"
	}
	return time.TimeOnly
}

// builtIn tells what the formats without a code of their own show (ECMA-376,
// part 1, 18.8.30; the ones of East Asian languages included).
func builtIn(id int) shown {
	switch {
	case id >= 14 && id <= 17, id >= 27 && id <= 31, id == 36, id >= 50 && id <= 58:
		return asDate
	case id >= 18 && id <= 21, id >= 32 && id <= 35, id >= 45 && id <= 47:
		return asTime
	case id == 22:
		return asBoth
	}
	return asNumber
}

// formatOf tells what a format's code shows, by the letters outside of quotes,
// brackets and escapes.
func formatOf(code string) shown {
	date, clock := false, false
	for i := 0; i < len(code); i++ {
		switch c := code[i] | 0x20; {
		case code[i] == '"':
			for i++; i < len(code) && code[i] != '"'; i++ {
			}
		case code[i] == '\\', code[i] == '_', code[i] == '*':
			i++
		case code[i] == '[':
			from := i
			for i++; i < len(code) && code[i] != ']'; i++ {
			}
			if inside := code[from+1 : min(i, len(code))]; inside != "" && (inside[0]|0x20 == 'h' || inside[0]|0x20 == 's' || inside[0]|0x20 == 'm') {
				if elapsed(inside) {
					clock = true
				}
			}
		case c == 'y' || c == 'd':
			date = true
		case c == 'h' || c == 's':
			clock = true
		case code[i] == ';':
			i = len(code) // the first section, that of positive numbers, decides
		}
	}
	if !date && !clock {
		// Months alone, as in mmm.
		for i := 0; i < len(code) && code[i] != ';' && code[i] != '"' && code[i] != '['; i++ {
			date = date || code[i]|0x20 == 'm'
		}
	}
	switch {
	case date && clock:
		return asBoth
	case date:
		return asDate
	case clock:
		return asTime
	}
	return asNumber
}

// elapsed reports whether what stands in brackets is hours, minutes or seconds,
// and not a colour.
func elapsed(inside string) bool {
	for i := range len(inside) {
		if inside[i]|0x20 != inside[0]|0x20 {
			return false
		}
	}
	return true
}

// Book is a workbook of whatever form.
type Book interface {
	Sheets() []Sheet
	// Named lists the tables and ranges that have a name.
	Named() ([]Named, error)
	// Open returns the rows of a sheet, by its number from 0.
	Open(sheet int) (SheetRows, error)
}

// SheetRows are the rows of a sheet that have any cell.
type SheetRows interface {
	Rows
	// Hidden counts the rows so far that are not shown.
	Hidden() int64
	// Merged lists the areas that are one cell, once the rows are read. Only their
	// first cell has a value.
	Merged() []Area
	Close() error
}
