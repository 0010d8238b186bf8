package learning_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/learning"
	"jorvex/internal/core/reading"
)

// proposed returns what is proposed for a file, without what it is unsure of.
func proposed(t *testing.T, content []byte) (text string, unsure []string) {
	t.Helper()
	p, err := learning.Propose(nil, calendar.Language{}, func() (*reading.File, error) { return reading.Open(bytes.NewReader(content), spool) })
	require.NoError(t, err)
	text, err = p.Apply("input: a\n")
	require.NoError(t, err)
	return strings.TrimPrefix(text, "input: a\n"), p.Unsure
}

// The type that a column's values have, beside a column of names; with the keys
// that reading them needs.
func TestKindsOfValues(t *testing.T) {
	for name, c := range map[string]struct {
		header, values string // values by |
		column         string // what the column says behind its name
		read           string
	}{
		"whole":               {"Passengers", "1|20|-3|7", "type: whole, required: true, total: true", ""},
		"one that counts up":  {"Passengers", "1|2|3|4|5|6", "type: whole, required: true", ""},
		"a number of its own": {"Sailing no", "7|3|9|1", "headers: [\"Sailing no\"], type: whole, required: true", ""},
		"a year":              {"Year", "2026|2025|2026|2024", "type: whole, required: true", ""},
		"decimal":             {"t", "1|20.5|3|7", "type: decimal, required: true, total: true", ""},
		"a price":             {"Price", "1.5|2.25|3|1", "type: decimal, required: true", ""},
		"codes with zeros":    {"Code", "007|012|100", "required: true", ""},
		"long numbers":        {"Account", "12345678901234567|22345678901234567", "required: true", ""},
		"decimal comma":       {"t", "1,5|20,25|3|7", "type: decimal, required: true, total: true", "decimal: comma"},
		"with spaces":         {"t", "1 200,5|20,25|3 000|7", "type: decimal, required: true, total: true", "decimal: comma thousands: space"},
		"with apostrophes":    {"t", "1'200.5|20.25|3'000", "type: decimal, required: true, total: true", "thousands: apostrophe"},
		"with commas":         {"t", "1,200.5|20.25|3,000", "type: decimal, required: true, total: true", "thousands: comma"},
		"thousands alone":     {"t", "1,200|20|3,000|12,500", "type: whole, required: true, total: true", "thousands: comma"},
		"a currency":          {"Pay", "NOK 12.50|NOK 7|NOK 1", "type: money, required: true, total: true", ""},
		"a sign":              {"Pay", "€12.50|€7|(€1)", "type: money, required: true, total: true", ""},
		"shares":              {"Filled", "5%|12.5%|100%", "type: percent, required: true", ""},
		"ISO dates":           {"Day", "2026-10-05|2026-10-06", "type: date, required: true", ""},
		"dates with points":   {"Day", "5.10.2026|16.10.2026", "type: date, required: true", "dates: d.M.yyyy"},
		"padded ones":         {"Day", "05.10.2026|16.10.2026", "type: date, required: true", "dates: dd.MM.yyyy"},
		"month first":         {"Day", "10/25/2026|10/05/2026", "type: date, required: true", "dates: MM/dd/yyyy"},
		"two digits":          {"Day", "25/10/26|05/10/26", "type: date, required: true", "dates: dd/MM/yy"},
		"digits alone":        {"Day", "20261005|20261106|20260907", "type: date, required: true", "dates: yyyyMMdd"},
		"names of months":     {"Day", "5 Oct 2026|16 Nov 2026", "type: date, required: true", "dates: d MMM yyyy"},
		"times":               {"Departs", "08:05|23:10:30", "type: time, required: true", ""},
		"stamps":              {"Seen", "2026-10-05T08:05:00|2026-10-05 23:10", "type: timestamp, required: true", ""},
		"stamps with points":  {"Seen", "05.10.2026 08:05|16.10.2026 23:10", "type: timestamp, required: true", "dates: dd.MM.yyyy"},
		"yes and no":          {"Open", "yes|no|yes", "type: yes_no, required: true", ""},
		"ja and nei":          {"Open", "Ja|Nei|Ja", "type: yes_no, required: true", `yes_words: ["ja"] no_words: ["nei"]`},
		"ones and zeros":      {"Open", "1|0|1|0", "type: whole, required: true, total: true", ""},
		"some blank":          {"t", "1.5||3|", "type: decimal, total: true", ""},
		"words for blanks":    {"t", "1.5|-|3|n/a|2|2|2", "type: decimal, total: true", `null_words: ["-", "n/a"]`},
		"all blank":           {"Note", "||", "", ""},
		"mostly numbers":      {"t", "1|2|x|y", "required: true", ""},
		"texts":               {"Vessel", "Petrel|Gannet", "required: true", ""},
	} {
		t.Run(name, func(t *testing.T) {
			var file strings.Builder
			fmt.Fprintf(&file, "Port;%s\n", c.header)
			for i, v := range strings.Split(c.values, "|") {
				fmt.Fprintf(&file, "Quay %c;%s\n", 'A'+i, v)
			}
			text, _ := proposed(t, []byte(file.String()))
			read, columns, has := strings.Cut(text, "columns:\n")
			require.True(t, has)
			_, second, _ := strings.Cut(columns, "\n  - {name: ")
			_, says, _ := strings.Cut(strings.TrimSuffix(strings.TrimSpace(second), "}"), ", ")
			assert.Equal(t, c.column, says)
			assert.Equal(t, c.read, strings.Join(strings.Fields(strings.TrimPrefix(read, "read:")), " "))
		})
	}
}

// Of a workbook, the sheet with the largest table that is shown is taken.
func TestSheetOfAWorkbook(t *testing.T) {
	f := excelize.NewFile()
	defer f.Close()
	sheets := map[string][][]any{
		"Sheet1": {{"Notes"}, {"kept by Ida"}},
		"Uplift": {{"Fuel"}, {}, {"Port", "Fuel", nil}, {nil, "Litres", "Price"}, {"Eskvik", 12, 1.5}, {"Fennay", 7, 2.25}},
		"Small":  {{"a"}, {1}, {2}},
		"Hidden": {{"a", "b", "c", "d", "e"}, {1, 2, 3, 4, 5}, {1, 2, 3, 4, 5}},
	}
	for _, name := range []string{"Sheet1", "Uplift", "Small", "Hidden"} {
		if name != "Sheet1" {
			_, err := f.NewSheet(name)
			require.NoError(t, err)
		}
		for i, row := range sheets[name] {
			require.NoError(t, f.SetSheetRow(name, fmt.Sprintf("A%d", i+1), &row))
		}
	}
	require.NoError(t, f.SetSheetVisible("Hidden", false))
	var content bytes.Buffer
	require.NoError(t, f.Write(&content))
	text, unsure := proposed(t, content.Bytes())
	assert.Contains(t, text, "sheet: \"Uplift\"\n")
	assert.Contains(t, text, "{name: fuel_litres, headers: [\"Fuel Litres\"], type: whole, required: true, total: true}")
	assert.Contains(t, strings.Join(unsure, "\n"), `hold a table; "Uplift" has the largest`)
}

// The names of columns can be those of a table, whatever the headers are.
func TestNamesOfColumns(t *testing.T) {
	text, _ := proposed(t, []byte("Größe (m²);2026 total;%;Größe m2;"+strings.Repeat("very long ", 12)+"\n1;2;3;4;5\n6;7;8;9;9\n"))
	for _, want := range []string{"{name: große_m2,", "{name: column_2026_total,", "{name: column,", "{name: große_m2_2,", "{name: " + strings.Repeat("very_long_", 5) + "very_lon,"} {
		assert.Contains(t, text, want)
	}
}

// Captures become columns, unless the file has one of the name.
func TestCapturesBecomeColumns(t *testing.T) {
	p, err := learning.Propose([]condition.Field{{Name: "terminal"}, {Name: "day", Kind: condition.Date}}, calendar.Language{}, func() (*reading.File, error) {
		return reading.Open(strings.NewReader("Terminal,t\nEskvik,1\nFennay,5\n"), spool)
	})
	require.NoError(t, err)
	text, err := p.Apply("input: a\n# a note\ndeliver: [{file: a.csv}]\n")
	require.NoError(t, err)
	assert.Equal(t, "input: a\ncolumns:\n  - {name: day, capture: day}\n  - {name: terminal, required: true}\n  - {name: t, type: whole, required: true, total: true}\n# a note\ndeliver: [{file: a.csv}]\n", text)
}
