package test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"jorvex/internal/testkit"
)

// cells reads a sheet of a delivered workbook, unformatted.
func cells(t *testing.T, s *testkit.Service, name, sheet string) [][]string {
	t.Helper()
	f, err := excelize.OpenFile(filepath.Join(s.Data, "deliveries", name))
	require.NoError(t, err)
	defer f.Close()
	rows, err := f.GetRows(sheet, excelize.Options{RawCellValue: true})
	require.NoError(t, err)
	return rows
}

// ownWorkbook writes an analyst's workbook into the share, with a note of hers.
func ownWorkbook(t *testing.T, s *testkit.Service, path, note string) {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	require.NoError(t, f.SetSheetName("Sheet1", "Data"))
	_, err := f.NewSheet("Notes")
	require.NoError(t, err)
	require.NoError(t, f.SetCellValue("Notes", "A1", note))
	require.NoError(t, f.SetCellFormula("Notes", "A2", "SUM(Data!B3:B9)"))
	for row := 3; row < 9; row++ {
		require.NoError(t, f.SetCellValue("Data", fmt.Sprintf("B%d", row), 99))
	}
	file := filepath.Join(s.Share, path)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, f.SaveAs(file))
}

// A sheet for each file, and the analyst's own workbook, which keeps what is hers. A
// replay has the template that was used then.
func TestWorkbooksDelivered(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("in/Eskvik.csv", "day,n\n2026-10-05,10\n2026-10-06,20\n")
	s.Write("in/Fennay.csv", "day,n\n2026-10-05,7\n")
	ownWorkbook(t, s, "own/week.xlsx", "first")
	s.Definition(`input: week
place: share
folder: in
pick: ["<terminal>.csv"]
columns: [{name: terminal, capture: terminal}, {name: n, type: whole, total: true}, {name: day, type: date}]
summaries: [{name: by terminal, rows: terminal, measures: sum n}]
deliver:
  - {file: each.xlsx, sheets: per_file, with: [files, summaries]}
  - {file: own.xlsx, template: own/week.xlsx, sheet: Data, start: A2}
`)
	s.Must("refresh", "week")
	assert.Equal(t, [][]string{{"terminal", "n", "day"}, {"Eskvik", "10", "46300"}, {"Eskvik", "20", "46301"}}, cells(t, s, "each.xlsx", "Eskvik"))
	assert.Equal(t, [][]string{{"terminal", "n", "day"}, {"Fennay", "7", "46300"}}, cells(t, s, "each.xlsx", "Fennay"))
	assert.Equal(t, [][]string{{"terminal", "n", "day"}, {"Eskvik", "10", "46300"}, {"Eskvik", "20", "46301"}, {"Fennay", "7", "46300"}}, cells(t, s, "own.xlsx", "Data")[1:])
	assert.Equal(t, "first", cells(t, s, "own.xlsx", "Notes")[0][0])
	f, err := excelize.OpenFile(filepath.Join(s.Data, "deliveries", "each.xlsx"))
	require.NoError(t, err)
	assert.Equal(t, []string{"Eskvik", "Fennay", "Files", "by terminal"}, f.GetSheetList())
	require.NoError(t, f.Close())

	// Fewer rows leave none of before; the new template counts, and the old for a replay.
	require.NoError(t, os.Remove(filepath.Join(s.Share, "in/Fennay.csv")))
	ownWorkbook(t, s, "own/week.xlsx", "second")
	s.Must("look")
	s.Must("refresh", "week")
	assert.Equal(t, [][]string{{"terminal", "n", "day"}, {"Eskvik", "10", "46300"}, {"Eskvik", "20", "46301"}}, cells(t, s, "own.xlsx", "Data")[1:])
	assert.Equal(t, "second", cells(t, s, "own.xlsx", "Notes")[0][0])
	for _, number := range []string{"1", "2"} {
		assert.Contains(t, s.Must("replay", number), "the same", "receipt %s", number)
	}
	assert.Contains(t, s.Must("verify", "-deep", "-deliveries"), "hold")

	// A template that is gone is told, and both deliveries stay as they were.
	before := s.Delivered("each.xlsx")
	s.Write("in/Fennay.csv", "day,n\n2026-10-05,8\n")
	require.NoError(t, os.Remove(filepath.Join(s.Share, "own/week.xlsx")))
	r := s.Run("refresh", "week")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, "the template own/week.xlsx cannot be read")
	assert.Equal(t, before, s.Delivered("each.xlsx"))
}
