package definition_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
)

const refreshed = `input: a
place: b
zone: Europe/Oslo
folder: in
pick: ["<terminal>/<year:yyyy>/x <day:yyyy-MM-dd>.csv"]
expect: {every: day, each: terminal}
parameters: [{name: period, type: period, default: previous month}]
columns: [{name: n, type: whole}, {name: note}]
`

func TestRefreshedWithNobodyThere(t *testing.T) {
	def, err := definition.Parse(refreshed+"refresh: {cron: [\"0 6 * * mon\", \"30 2 * * *\"], arrivals: 90s, complete: true}\n", now)
	require.NoError(t, err)
	assert.False(t, def.Refresh.None())
	assert.Equal(t, 90*time.Second, def.Refresh.Arrivals)
	assert.True(t, def.Refresh.Complete)
	assert.Equal(t, "2026-11-21T01:30:00Z", def.Refresh.Schedule.Next(now).UTC().Format(time.RFC3339), "as the clocks in Oslo show it")
	def, err = definition.Parse(refreshed, now)
	require.NoError(t, err)
	assert.True(t, def.Refresh.None())

	for text, want := range map[string]string{
		`{cron: "@daily"}`:             `"@daily" is no cron expression`,
		`{cron: "0 0 30 2 *"}`:         "names a time that never comes",
		`{arrivals: soon}`:             "arrivals is how long it must be quiet",
		`{arrivals: 48h}`:              "from 1s to 24h",
		`{complete: perhaps}`:          "complete",
		`{when: "0 6 * * *"}`:          `refresh has no key "when"`,
		`{cron: ["0 6 * * *", never]}`: `"never" is no cron expression`,
	} {
		_, err := definition.Parse(refreshed+"refresh: "+text+"\n", now)
		assert.ErrorContains(t, err, want, text)
	}
	_, err = definition.Parse(strings.Replace(refreshed, "expect: {every: day, each: terminal}\n", "", 1)+"refresh: {complete: true}\n", now)
	assert.ErrorContains(t, err, "nothing is ever complete")
}

func TestHandover(t *testing.T) {
	def, err := definition.Parse(refreshed+"handover: {move: \"done/$period:yyyy/<terminal>/<year>\"}\n", now)
	require.NoError(t, err)
	assert.Equal(t, definition.MoveFile, def.Handover.Action)
	assert.True(t, def.Handover.Takes())
	assert.True(t, def.Handover.Keep)
	assert.Equal(t, "done/2026/Eskvik/2025", def.Handover.Folder(map[string]string{"terminal": "Eskvik", "year": "2025"}))
	assert.Equal(t, "done/2026/.._x/", def.Handover.Folder(map[string]string{"terminal": "../x"}), "no capture climbs")
	def, err = definition.Parse(refreshed+"handover: {delete: true, keep: false}\n", now)
	require.NoError(t, err)
	assert.Equal(t, definition.DeleteFile, def.Handover.Action)
	assert.False(t, def.Handover.Keep)

	for text, want := range map[string]string{
		`{move: "done/<vessel>"}`: `no capture "vessel"`,
		`{move: ../up}`:           "move is a folder from the place's root",
		`{copy: a, move: b}`:      "a handover copies, moves or deletes",
		`{keep: false}`:           "a handover copies, moves or deletes",
		`{delete: false}`:         "a handover copies, moves or deletes",
		`{move: "done/$nowhere"}`: `no parameter "nowhere"`,
		`{archive: done}`:         `handover has no key "archive"`,
	} {
		_, err := definition.Parse(refreshed+"handover: "+text+"\n", now)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestDeliveries(t *testing.T) {
	def, err := definition.Parse(refreshed+`deliver:
  - "file": "out/$period:yyyy-MM/a.TSV"
  - {file: a.txt, encoding: windows-1252, delimiter: semicolon, decimal: comma, formulas: neutralise}
  - {file: a.xlsx, sheet: Figures, start: c5}
  - {file: b.xlsx, sheets: per_file}
  - {file: c.xlsx, template: forms/own.xlsx}
  - {file: a.list, as: file_list}
  - folder: copies/
  - {table: a, load: changed}
  - {into: reporting.a, connection: elsewhere, columns: {amount: N}, take_over: true}
`, now)
	require.NoError(t, err)
	d := def.Delivery
	require.Len(t, d, 9)
	assert.Equal(t, "out/2026-10/a.TSV", d[0].File)
	assert.Equal(t, byte('\t'), d[0].Delimiter)
	assert.False(t, d[0].Plain())
	assert.True(t, d[0].Takes("period"))
	assert.False(t, d[1].Takes("period"))
	assert.True(t, d[1].Comma && d[1].Safe && d[1].Encoding != nil)
	assert.Equal(t, [2]int{3, 5}, d[2].Start)
	assert.Equal(t, "Figures", d[2].Sheet)
	assert.Equal(t, []string{"files", "summaries"}, d[2].With)
	assert.Equal(t, "Rows", d[3].Sheet)
	assert.Empty(t, d[3].With)
	assert.Empty(t, d[4].With, "an own workbook has the sheets that it has")
	assert.Equal(t, "forms/own.xlsx", d[4].Workbook)
	assert.Equal(t, definition.FileList, d[5].Format)
	var names []string
	for _, one := range d[5:] {
		names = append(names, one.Kind()+" "+one.Name())
	}
	assert.Equal(t, []string{"file a.list", "folder copies", "table a", "into elsewhere:reporting.a"}, names)
	assert.Equal(t, map[string]string{"amount": "n"}, d[8].Columns)
	def, err = definition.Parse(refreshed+"deliver: [{as: workbook, sheets: per_file}, {as: delimited, delimiter: tab}, {as: file_list}, {load: changed}]\n", now)
	require.NoError(t, err)
	names = nil
	for _, one := range def.Delivery {
		names = append(names, one.Kind()+" "+one.Name())
		assert.False(t, one.Takes("period"))
	}
	assert.Equal(t, []string{"file " + def.Input + ".xlsx", "file " + def.Input + ".csv", "file " + def.Input + ".txt", "table " + def.Input}, names)
	for text, want := range map[string]string{
		"{delimiter: tab}":                     "a delivery is a file, a folder, a table",
		"{into: loadings}":                     "names no table; write its schema and name",
		"{into: a.b, columns: {x: nowhere}}":   `no column is named "nowhere"`,
		"{into: a.b, connection: Not Good}":    "cannot name a connection",
		"{table: a, columns: {x: n}}":          "columns is of a ready-made table",
		"{file: a.xlsx, template: ../up.xlsx}": "template",
		"{file: a.csv, load: changed}":         "only a table is loaded",
		"{file: a.csv, into: a.b}":             "a delivery is a file, a folder, a table",
		"{file: a.csv, delimiter: dash}":       "delimiter is comma, semicolon, tab or pipe",
		"{file: \"$nowhere.csv\"}":             `no parameter "nowhere"`,
		"{file: a.xlsx, start: XFE1}":          "no sheet has a cell",
	} {
		_, err := definition.Parse(refreshed+"deliver:\n  - "+text+"\n", now)
		assert.ErrorContains(t, err, want, text)
	}
}

// Files without columns can be listed and copied, and nothing else.
func TestDeliveriesWithoutColumns(t *testing.T) {
	bare := "input: a\nplace: b\npick: [\"*\"]\n"
	_, err := definition.Parse(bare+"deliver: [{folder: copies}, {file: list.txt, as: file_list}]\n", now)
	assert.NoError(t, err)
	_, err = definition.Parse(bare+"deliver: [{folder: copies}, {file: a.csv}]\n", now)
	assert.ErrorContains(t, err, "declare columns")
}

func TestParseReport(t *testing.T) {
	r, err := definition.ParseReport("report: both\ntitle: Both of them\nzone: Europe/Oslo\ninputs: [a, b]\nrefresh: {cron: \"0 6 * * mon\", arrivals: 5m}\n")
	require.NoError(t, err)
	assert.Equal(t, []any{"both", "Both of them", []string{"a", "b"}, "Europe/Oslo"}, []any{r.Report, r.Title, r.Inputs, r.Zone.String()})
	assert.Equal(t, "2026-11-23T05:00:00Z", r.Refresh.Schedule.Next(now).UTC().Format(time.RFC3339))
	for text, want := range map[string]string{
		"":                                     "a report needs its name and inputs",
		"report: a\n":                          `the key "inputs" is missing`,
		"inputs: [a]\n":                        `the key "report" is missing`,
		"report: A\ninputs: [a]\n":             "cannot name a report",
		"report: a\ninputs: []\n":              "inputs",
		"report: a\ninputs: [x, x]\n":          `the input "x" stands twice`,
		"report: a\ninputs: [x]\nzone: Mars":   "no time zone",
		"report: a\ninputs: [x]\npick: [y]":    `the report has no key "pick"`,
		"report: [":                            "this is not YAML",
		"just words":                           "key: value pairs",
		"report: a\ninputs: [x]\n---\nmore: 1": "a second document begins here",
	} {
		_, err := definition.ParseReport(text)
		assert.ErrorContains(t, err, want, text)
	}
}

// A listed file is read from the sheet that the list names.
func TestForListed(t *testing.T) {
	def, err := definition.Parse(refreshed+"read: {sheet: 2}\n", now)
	require.NoError(t, err)
	assert.Same(t, def, def.For(nil))
	assert.Same(t, def, def.For([]definition.Listed{{Path: "x"}}))
	its := def.For([]definition.Listed{{Path: "x", Sheet: "March"}})
	assert.Equal(t, "March", its.Layout.Sheet)
	assert.NotEqual(t, def.LayoutDigest(), its.LayoutDigest())
	assert.Equal(t, 2, def.Layout.Position, "the definition is as it was")
}
