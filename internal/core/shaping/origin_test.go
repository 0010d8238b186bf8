package shaping_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/shaping"
)

func defined(t *testing.T, keys string) *definition.Definition {
	t.Helper()
	def, err := definition.Parse("input: a\nplace: b\npick: [\"<code>/<day:yyyy-MM-dd>.csv\"]\n"+keys, time.Now())
	require.NoError(t, err)
	return def
}

// What is wrong with what comes of a file's name is told of the file, and not of
// its bytes.
func TestOfName(t *testing.T) {
	at := shaping.Origin{Name: "2026-10-05.csv", Path: "X9/2026-10-05.csv", Folder: "X9", Modified: "2026-10-05 08:30:00", Captures: map[string]string{"code": "X9", "day": "2026-10-05"}}
	for name, c := range map[string]struct {
		column string
		made   bool
		found  string
	}{
		"a capture as it is":             {"{name: code, capture: code}", false, ""},
		"a lookup that has it":           {"{name: code, capture: code, lookup: {x9: Xanten}}", true, ""},
		"a lookup that has it not":       {"{name: code, capture: code, lookup: {A: B}}", true, "not_in_lookup"},
		"a pattern that does not match":  {"{name: code, capture: code, matches: '^Q'}", true, "not_cut"},
		"a piece that is no number":      {"{name: code, capture: code, characters: 1, type: whole}", true, "not_whole"},
		"a piece that is one":            {"{name: code, capture: code, characters: 2, type: whole}", true, ""},
		"a date that is too late":        {"{name: day, capture: day, most: 2026-01-01}", true, "out_of_bounds"},
		"a time that is in time":         {"{name: at, file: modified, least: '2026-10-05 00:00:00'}", true, ""},
		"a part of the name":             {"{name: year, file: stem, split: '-', piece: 1, type: whole}", true, ""},
		"a row's number, which is known": {"{name: row, file: row}", false, ""},
	} {
		t.Run(name, func(t *testing.T) {
			def := defined(t, "columns:\n  - "+c.column+"\n")
			assert.Equal(t, c.made, shaping.MadeOfName(def))
			var codes []string
			for _, f := range shaping.OfName(def, at) {
				codes = append(codes, string(f.Code))
				assert.Contains(t, f.Sentence, "which comes with the file")
				assert.Zero(t, f.Count)
			}
			assert.Equal(t, c.found, strings.Join(codes, " "))
		})
	}
}

// A kept part is that of another file as long as the rows do not tell which.
func TestOriginOf(t *testing.T) {
	whole := shaping.Origin{Name: "n", Folder: "f", Path: "p", Modified: "m", Captures: map[string]string{"code": "c", "day": "d"}}
	for columns, want := range map[string]shaping.Origin{
		"{name: x}":                                {},
		"{name: x, file: row}":                     {},
		"{name: x, file: stem}":                    {Name: "n"},
		"{name: x, file: path}":                    {Path: "p"},
		"{name: x, file: folder}":                  {Folder: "f"},
		"{name: x, file: modified}":                {Modified: "m"},
		"{name: x, capture: code, lookup: {c: d}}": {Captures: map[string]string{"code": "c"}},
	} {
		assert.Equal(t, want, whole.Of(defined(t, "columns:\n  - "+columns+"\n")), columns)
	}
}

func TestRunsAt(t *testing.T) {
	runs := shaping.Runs{{2, 4}, {7, 7}, {7, 7}, {9, 12}}
	var got []int64
	for n := range int64(10) {
		got = append(got, runs.At(n))
	}
	assert.Equal(t, []int64{2, 3, 4, 7, 7, 9, 10, 11, 12, 0}, got)
	assert.Zero(t, make(shaping.Runs, 100_001).At(0), "of too many runs, none is known")
}

// Where a written row stands in the file, whatever is left out between.
func TestRowsOfTheFile(t *testing.T) {
	def := defined(t, "read: {leave_out: 'port starts with \"Sum\"'}\ncolumns: [{name: port, required: true}]\n")
	result, err := shaping.Shape(def, shaping.Origin{}, opened(t, []byte("title\nport\na\nb\n\nSum\nc\nport\nd\n")), shaping.NewWriter(&strings.Builder{}))
	require.NoError(t, err)
	assert.Equal(t, shaping.Runs{{3, 4}, {7, 7}, {9, 9}}, result.Rows)
	assert.Equal(t, []string{"port"}, result.Headers)
}

func TestHeadersIn(t *testing.T) {
	def := defined(t, "columns: [{name: port, required: true}, {name: t, required: true}]\n")
	for content, want := range map[string]string{
		"Skerry Line\nPort,T,note\na,1,\n": "Port|T|note",
		"Port,note\na,x\n":                 "Port|note",
		"nothing,of,it\n1,2,3\n":           "! no_header",
		"":                                 "! empty",
		"\xef\xbb\xbfport,t\n":             "port|t",
		`[{"port": 1, "t": {"x": 2}}]`:     "port|t.x",
	} {
		headers, err := shaping.HeadersIn(def, opened(t, []byte(content)))
		got := strings.Join(headers, "|")
		var found finding.Finding
		if err != nil {
			require.ErrorAs(t, err, &found)
			got = "! " + string(found.Code)
		}
		assert.Equal(t, want, got, content)
	}
}

func TestConverter(t *testing.T) {
	form, err := calendar.ParseTextForm("d.M.yyyy")
	require.NoError(t, err)
	plain := shaping.NewConverter(definition.Layout{})
	marked := shaping.NewConverter(definition.Layout{Decimal: ',', Thousands: ".", Dates: []calendar.Form{form}})
	for _, c := range []struct {
		converter *shaping.Converter
		of        definition.Type
		text      string
		kind      reading.CellKind
		want      string // empty if it is none
	}{
		{plain, definition.Decimal, " 1.50 ", reading.Plain, "1.50"},
		{plain, definition.Decimal, "+.5", reading.Plain, "0.5"},
		{plain, definition.Decimal, "1,5", reading.Plain, ""},
		{plain, definition.Decimal, "1.2.3", reading.Plain, ""},
		{marked, definition.Decimal, "1.234,5", reading.Plain, "1234.5"},
		{marked, definition.Decimal, "1234.5", reading.Number, "1234.5"},
		{marked, definition.Decimal, "1,2,3", reading.Plain, ""},
		{plain, definition.Whole, "-0", reading.Plain, "0"},
		{plain, definition.Whole, "9223372036854775808", reading.Plain, ""},
		{plain, definition.Percent, "5%", reading.Plain, "0.05"},
		{marked, definition.Percent, "12,5 %", reading.Plain, "0.125"},
		{plain, definition.Money, "NOK 12.50", reading.Plain, "12.50"},
		{plain, definition.Money, "(3)", reading.Plain, "-3"},
		{plain, definition.Date, "2026-02-29", reading.Plain, ""},
		{plain, definition.Date, "2028-02-29", reading.Plain, "2028-02-29"},
		{marked, definition.Date, "31.2.2026", reading.Plain, ""},
		{marked, definition.Date, "5.10.2026", reading.Plain, "2026-10-05"},
		{marked, definition.Timestamp, "5.10.2026 8:05", reading.Plain, "2026-10-05 08:05:00"},
		{plain, definition.Time, "8:05 pm", reading.Plain, "20:05:00"},
		{plain, definition.Time, "25:00", reading.Plain, ""},
		{plain, definition.YesNo, "X", reading.Plain, "true"},
		{plain, definition.YesNo, "perhaps", reading.Plain, ""},
		{plain, definition.Text, "  ", reading.Plain, ""},
	} {
		got, ok := c.converter.Convert(c.of, []byte(c.text), c.kind)
		assert.Equal(t, c.want != "", ok, "%s %q", c.of, c.text)
		if ok {
			assert.Equal(t, c.want, string(got), "%s %q", c.of, c.text)
		}
	}
}
