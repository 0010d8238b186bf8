package shaping_test

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/reading"
)

// What is merged, and what has a name, is told alike by every form of workbook.
func TestMergedAndNamedAreas(t *testing.T) {
	merged := map[string][]reading.Area{}
	for _, name := range []string{"values.xlsx", "values.ods", "values.xls"} {
		content, err := os.ReadFile("../reading/testdata/office/" + name)
		require.NoError(t, err)
		book, err := opened(t, content).Book()
		require.NoError(t, err)
		sheet, err := book.Open(0)
		require.NoError(t, err)
		for err == nil {
			_, err = sheet.Next()
		}
		merged[name] = sheet.Merged()
		_, err = book.Named()
		require.NoError(t, err)
	}
	assert.NotEmpty(t, merged["values.xlsx"])
	assert.Equal(t, merged["values.xlsx"], merged["values.ods"])
	assert.Equal(t, merged["values.xlsx"], merged["values.xls"])
}

func TestAreas(t *testing.T) {
	f := excelize.NewFile()
	defer f.Close()
	for i, row := range [][]any{{"x", "Quays", "", ""}, {"x", "port", "t", "note"}, {"x", "Eskvik", 1, "a"}, {"x", "", 2, ""}, {"x", "Fennay", 3, "b"}, {"x", "Sum", 6, ""}} {
		require.NoError(t, f.SetSheetRow("Sheet1", "A"+string(rune('1'+i)), &row))
	}
	require.NoError(t, f.MergeCell("Sheet1", "B1", "D1"))
	require.NoError(t, f.MergeCell("Sheet1", "B3", "B4"))
	require.NoError(t, f.SetDefinedName(&excelize.DefinedName{Name: "Quays", RefersTo: "Sheet1!$B$2:$D$5"}))
	require.NoError(t, f.AddTable("Sheet1", &excelize.Table{Range: "B2:C5", Name: "Depths"}))
	var content bytes.Buffer
	require.NoError(t, f.Write(&content))
	for read, want := range map[string]string{
		"{range: B2:D5}":                     "Eskvik|1|a ~|2|~ Fennay|3|b",
		"{range: quays}":                     "Eskvik|1|a ~|2|~ Fennay|3|b",
		"{range: Depths}":                    "Eskvik|1|~ ~|2|~ Fennay|3|~; column_absent",
		"{range: quais}":                     "; sheet_absent",
		"{skip_bottom: 1, carry_down: port}": "Eskvik|1|a Eskvik|2|~ Fennay|3|b; extra_columns",
		"{skip_bottom: 1}":                   "Eskvik|1|a ~|2|~ Fennay|3|b; extra_columns merged_cells",
		`{sheet: "She*", skip_bottom: 2}`:    "Eskvik|1|a ~|2|~; extra_columns merged_cells",
	} {
		def, err := definition.Parse("input: a\nplace: b\npick: ['*']\nread: "+read+"\ncolumns: [{name: port, required: true}, {name: t, type: whole}, {name: note}]\n", time.Now())
		require.NoError(t, err)
		rows, found := shaped(t, def, content.Bytes())
		got := strings.ReplaceAll(rows, "\n", " ")
		if len(found) > 0 {
			got += "; " + strings.Join(found, " ")
		}
		assert.Equal(t, want, got, read)
	}
}
