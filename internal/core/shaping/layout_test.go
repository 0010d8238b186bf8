package shaping_test

import (
	"bytes"
	_ "embed"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/shaping"
)

// escaped are the bytes and tabs that stand in a scenario's file as in Go.
var escaped = regexp.MustCompile(`(\\x[0-9a-f]{2}|\\t)+`)

//go:embed testdata/layouts.txt
var layouts string

// Each scenario is a definition's keys read and columns, a file, and what comes
// of it: rows with | between cells and ~ for blank ones, findings as codes.
func TestLayouts(t *testing.T) {
	for _, scenario := range strings.Split(layouts, "== ")[1:] {
		title, body, _ := strings.Cut(scenario, "\n")
		t.Run(title, func(t *testing.T) {
			parts := map[string]string{}
			section := ""
			for line := range strings.Lines(body) {
				switch name := strings.TrimSpace(line); name {
				case "definition", "file", "rows", "findings":
					section = name
				default:
					parts[section] += line
				}
			}
			def, err := definition.Parse("input: a\nplace: b\npick: [\"<terminal>.csv\"]\n"+parts["definition"], time.Now())
			require.NoError(t, err)
			file := escaped.ReplaceAllStringFunc(strings.TrimSuffix(parts["file"], "\n"), func(e string) string {
				text, err := strconv.Unquote(`"` + e + `"`)
				require.NoError(t, err)
				return text
			})
			got, found := shaped(t, def, []byte(file))
			assert.Equal(t, strings.TrimSpace(parts["rows"]), got)
			assert.Equal(t, strings.Fields(parts["findings"]), found)
		})
	}
}

var origin = shaping.Origin{Name: "tally 7.csv", Folder: "quay/2026", Path: "quay/2026/tally 7.csv", Modified: "2026-10-05 08:30:00", Captures: map[string]string{"terminal": "Eskvik"}}

func shaped(t *testing.T, def *definition.Definition, content []byte) (rows string, findings []string) {
	t.Helper()
	var part bytes.Buffer
	out := shaping.NewWriter(&part)
	result, err := shaping.Shape(def, origin, opened(t, content), out)
	require.NoError(t, err)
	require.NoError(t, out.Flush())
	var lines []string
	for line := range strings.Lines(part.String()) {
		cells := strings.Split(strings.TrimSpace(line), ",")
		for i, c := range cells {
			if c == "" {
				cells[i] = "~"
			}
		}
		lines = append(lines, strings.Join(cells, "|"))
	}
	findings = []string{}
	for _, f := range result.Findings {
		findings = append(findings, string(f.Code))
		assert.NotContains(t, f.Sentence, "%!")
	}
	return strings.Join(lines, "\n"), findings
}

// Which sheet of a workbook is read, and what is told of it.
func TestSheets(t *testing.T) {
	table := [][]any{{"Uplift"}, {"Port", "Fuel", nil}, {nil, "Litres", "Price"}, {"Eskvik", 12, 1.5}, {nil, 7, 2.25}}
	other := [][]any{{"Notes"}, {"kept by", "Lars"}}
	book := func(sheets ...any) []byte {
		f := excelize.NewFile()
		defer f.Close()
		for i := 0; i < len(sheets); i += 2 {
			name, hidden := strings.CutPrefix(sheets[i].(string), "-")
			_, err := f.NewSheet(name)
			require.NoError(t, err)
			for n, cells := range sheets[i+1].([][]any) {
				require.NoError(t, f.SetSheetRow(name, fmt.Sprintf("A%d", n+1), &cells))
			}
			if hidden {
				require.NoError(t, f.SetSheetVisible(name, false))
			}
		}
		require.NoError(t, f.DeleteSheet("Sheet1"))
		b, err := f.WriteToBuffer()
		require.NoError(t, err)
		return b.Bytes()
	}
	const columns = "columns:\n  - {name: port, headers: [Port], required: true}\n  - {name: litres, headers: [Fuel Litres], type: whole, required: true}\n  - {name: price, headers: [Fuel Price], type: decimal}\n"
	for name, c := range map[string]struct {
		read     string
		content  []byte
		rows     string
		findings string
	}{
		"the only one":                {"", book("Uplift", table), "Eskvik|12|1.5\n~|7|2.25", ""},
		"the one that fits":           {"", book("Notes", other, "Data", table), "Eskvik|12|1.5\n~|7|2.25", ""},
		"by name":                     {"sheet: data", book("Other", table[:4], "Data", table), "Eskvik|12|1.5\n~|7|2.25", ""},
		"by number":                   {"sheet: 2", book("Other", other, "Data", table), "Eskvik|12|1.5\n~|7|2.25", ""},
		"a name that there is not":    {"sheet: Uplifts", book("Uplift", table), "", "sheet_absent"},
		"a number that there is not":  {"sheet: 3", book("Uplift", table), "", "sheet_absent"},
		"several fit":                 {"", book("One", table[:4], "Two", table), "Eskvik|12|1.5", "several_sheets"},
		"a hidden one alone fits":     {"", book("-Data", table, "Notes", other), "Eskvik|12|1.5\n~|7|2.25", "hidden_sheet"},
		"shown ones come first":       {"", book("-Old", table, "New", table[:4]), "Eskvik|12|1.5", "several_sheets"},
		"none fits":                   {"", book("Notes", other), "", "no_header"},
		"carried down":                {"carry_down: port", book("Uplift", table), "Eskvik|12|1.5\nEskvik|7|2.25", ""},
		"a header row that is wrong":  {"header_row: 1", book("Uplift", table), "", "no_header"},
		"a header row that is right":  {"header_row: 2", book("Uplift", table), "Eskvik|12|1.5\n~|7|2.25", ""},
		"one header row is too few":   {"header_rows: 1", book("Uplift", table), "", "column_missing"},
		"joined with something else":  {"header_join: /", book("Uplift", table), "", "column_missing"},
		"numbers in a text, rejected": {"", book("Uplift", append(table[:4:4], []any{"Fennay", "many", "1,5"})), "Eskvik|12|1.5\nFennay|~|~", "not_whole not_decimal"},
	} {
		t.Run(name, func(t *testing.T) {
			text := "input: a\nplace: b\npick: [x]\n" + columns
			if c.read != "" {
				text += "read: {" + c.read + "}\n"
			}
			def, err := definition.Parse(text, time.Now())
			require.NoError(t, err)
			rows, found := shaped(t, def, c.content)
			assert.Equal(t, c.rows, rows)
			assert.Equal(t, c.findings, strings.Join(found, " "))
		})
	}
}
