package deliver_test

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"io"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/totals"
	"jorvex/internal/deliver"
	"jorvex/internal/records"
	"jorvex/internal/testkit"
)

// every has a column of each type.
var every = []definition.Column{
	{Name: "text", Type: definition.Text}, {Name: "whole", Type: definition.Whole}, {Name: "decimal", Type: definition.Decimal}, {Name: "money", Type: definition.Money},
	{Name: "share", Type: definition.Percent}, {Name: "date", Type: definition.Date}, {Name: "time", Type: definition.Time}, {Name: "stamp", Type: definition.Timestamp}, {Name: "yes", Type: definition.YesNo},
}

const everyRow = "Åse,-42,1.50,1234.5,0.05,2026-10-05,08:30:15,2026-10-05 08:30:15.25,true\r\n"

// write writes a table twice, which must come to the same bytes.
func write(t *testing.T, d definition.Delivery, c deliver.Combined) []byte {
	t.Helper()
	var first, second bytes.Buffer
	require.NoError(t, deliver.Write(&first, d, c))
	require.NoError(t, deliver.Write(&second, d, c))
	assert.True(t, bytes.Equal(first.Bytes(), second.Bytes()), "the same rows, the same bytes")
	return first.Bytes()
}

func TestDelimitedStyles(t *testing.T) {
	c := tableOf(every, file{path: "a.csv", rows: 3, content: everyRow + "=1+2,,,,,,,,\r\n\"a;\"\"b\",1,2.5,,,,,,\r\n"})
	d := definition.Delivery{Format: definition.Delimited, Delimiter: ';', Comma: true, Safe: true, Encoding: charmap.Windows1252}
	got, err := charmap.Windows1252.NewDecoder().Bytes(write(t, d, c))
	require.NoError(t, err)
	assert.Equal(t, "text;whole;decimal;money;share;date;time;stamp;yes\r\n"+
		"Åse;-42;1,50;1234,5;0,05;2026-10-05;08:30:15;2026-10-05 08:30:15.25;true\r\n"+
		"'=1+2;;;;;;;;\r\n\"a;\"\"b\";1;2,5;;;;;;\r\n", string(got))

	odd := tableOf(every, file{path: "b/c.csv", rows: 2, content: everyRow + "Ω,,,,,,,,\r\n"})
	err = deliver.Write(io.Discard, d, odd)
	require.Error(t, err)
	assert.Equal(t, `b/c.csv, row 2 of its rows, column text: "Ω" has characters that windows-1252 lacks`, err.Error())
}

func TestJSONLinesAndXML(t *testing.T) {
	c := tableOf(every, file{path: "a.csv", rows: 2, content: everyRow + "\"<&>\x01\"\"\r\n\",,,,,,,,\r\n"})
	lines := strings.Split(string(write(t, definition.Delivery{Format: definition.JSONLines}, c)), "\n")
	assert.Equal(t, `{"text":"Åse","whole":-42,"decimal":1.50,"money":1234.5,"share":0.05,"date":"2026-10-05","time":"08:30:15","stamp":"2026-10-05 08:30:15.25","yes":true}`, lines[0])
	var row map[string]any
	require.NoError(t, json.Unmarshal([]byte(lines[1]), &row))
	assert.Equal(t, "<&>\x01\"\r\n", row["text"])
	assert.Nil(t, row["whole"])

	var document struct {
		Rows []struct {
			Text    string  `xml:"text"`
			Decimal float64 `xml:"decimal"`
			Date    *string `xml:"date"`
		} `xml:"row"`
	}
	require.NoError(t, xml.Unmarshal(write(t, definition.Delivery{Format: definition.XML}, c), &document))
	require.Len(t, document.Rows, 2)
	assert.Equal(t, "Åse", document.Rows[0].Text)
	assert.Equal(t, 1.5, document.Rows[0].Decimal)
	assert.Equal(t, "<&>\ufffd\"\r\n", document.Rows[1].Text)
	assert.Nil(t, document.Rows[1].Date)
}

func TestParquet(t *testing.T) {
	c := tableOf(every, file{path: "a.csv", rows: 2, content: everyRow + ",,123456789.123,,,,,,\r\n"}, file{path: "b.csv", rows: 1, content: ",,,12345678901234567890.5,,,,,\r\n"})
	content := write(t, definition.Delivery{Format: definition.Parquet}, c)
	f, err := parquet.OpenFile(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	var names []string
	for _, field := range f.Schema().Fields() {
		names = append(names, field.Name()+" "+field.Type().String())
	}
	assert.Equal(t, []string{"text STRING", "whole INT(64,true)", "decimal DECIMAL(12,3)", "money STRING", "share DECIMAL(10,2)", "date DATE",
		"time TIME(isAdjustedToUTC=false,unit=MICROS)", "stamp TIMESTAMP(isAdjustedToUTC=false,unit=MICROS)", "yes BOOLEAN"}, names, "in the order of the columns")
	assert.Equal(t, int64(3), f.NumRows())
	rows := make([]parquet.Row, 3)
	reader := f.RowGroups()[0].Rows()
	defer reader.Close()
	n, _ := reader.ReadRows(rows)
	require.Equal(t, 3, n)
	row := rows[0]
	assert.Equal(t, []any{"Åse", int64(-42), int64(1500), "1234.5", int64(5), int32(20731), int64(30_615_000_000), int64(1_791_189_015_250_000), true},
		[]any{row[0].String(), row[1].Int64(), row[2].Int64(), row[3].String(), row[4].Int64(), row[5].Int32(), row[6].Int64(), row[7].Int64(), row[8].Boolean()})
	assert.True(t, rows[1][0].IsNull())
	assert.Equal(t, int64(123456789123), rows[1][2].Int64())
}

// opened opens a workbook that was written.
func opened(t *testing.T, content []byte) *excelize.File {
	t.Helper()
	f, err := excelize.OpenReader(bytes.NewReader(content))
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f
}

func raw(t *testing.T, f *excelize.File, sheet string) [][]string {
	t.Helper()
	rows, err := f.GetRows(sheet, excelize.Options{RawCellValue: true})
	require.NoError(t, err)
	return rows
}

func TestWorkbook(t *testing.T) {
	c := tableOf(every, file{path: "in/a.csv", rows: 1, content: everyRow}, file{path: "in/b.csv", rows: 1, content: "=SUM(A1),12345678901234567,,,,1899-01-01,,,false\r\n"})
	c.Figures = func() totals.Figures {
		return totals.Figures{Summaries: []totals.Table{{Summary: totals.Summary{Name: "by/text", Rows: []string{"text"}, Measures: []totals.Measure{{Kind: totals.Adds, Column: "whole"}}},
			Lines: []totals.Line{{Rows: []string{}, Columns: []string{}, Values: []string{"-42"}}, {Rows: []string{"Åse"}, Columns: []string{}, Values: []string{"-42"}}}}}}
	}
	f := opened(t, write(t, definition.Delivery{Format: definition.Workbook, Sheets: definition.OneSheet, Sheet: "Rows", Start: [2]int{1, 1}, With: []string{"files", "summaries"}}, c))
	assert.Equal(t, []string{"Rows", "Files", "by text"}, f.GetSheetList())
	rows := raw(t, f, "Rows")
	assert.Equal(t, []string{"Åse", "-42", "1.5", "1234.5", "0.05", "46300", "0.354340277777777", "46300.3543431713", "1"}, rows[1])
	assert.Equal(t, []string{"=SUM(A1)", "12345678901234567", "", "", "", "1899-01-01", "", "", "0"}, rows[2], "what no cell holds is text, and so is what looks like a formula")
	shown, err := f.GetRows("Rows")
	require.NoError(t, err)
	assert.Equal(t, []string{"2026-10-05", "08:30:15", "2026-10-05 08:30:15", "TRUE"}, shown[1][5:])
	assert.Equal(t, "5.0%", shown[1][4])
	assert.Equal(t, []string{"in/b.csv", "1"}, raw(t, f, "Files")[2][:2])
	assert.Equal(t, [][]string{{"text", "sum whole"}, {"all", "-42"}, {"Åse", "-42"}}, raw(t, f, "by text"))

	f = opened(t, write(t, definition.Delivery{Format: definition.Workbook, Sheets: definition.OneSheet, Sheet: "Here", Start: [2]int{2, 4}}, c))
	assert.Equal(t, []string{"Here"}, f.GetSheetList())
	assert.Equal(t, []string{"", "text"}, raw(t, f, "Here")[3][:2])
}

func TestSheetPerFile(t *testing.T) {
	one := []definition.Column{{Name: "n", Type: definition.Whole}}
	c := tableOf(one, file{path: "x/May: [fuel].csv", rows: 1, content: "1\r\n"}, file{path: "y/May: [fuel].csv", rows: 2, content: "2\r\n3\r\n"}, file{path: "y/y May fuel.csv", content: ""})
	f := opened(t, write(t, definition.Delivery{Format: definition.Workbook, Sheets: definition.SheetPerFile}, c))
	assert.Equal(t, []string{"May   fuel", "y May   fuel", "y May fuel"}, f.GetSheetList())
	assert.Equal(t, [][]string{{"n"}, {"2"}, {"3"}}, raw(t, f, "y May   fuel"))
	assert.Equal(t, [][]string{{"n"}}, raw(t, f, "y May fuel"))
}

func TestListedSheets(t *testing.T) {
	one := []definition.Column{{Name: "n", Type: definition.Whole}, {Name: "t", Type: definition.Text}}
	to := func(sheet string, row int) []definition.Listed {
		return []definition.Listed{{Target: definition.Target{Sheet: sheet, Row: row}}}
	}
	rows := "1,a\r\n2,b\r\n"
	d := definition.Delivery{Format: definition.Workbook, Sheets: definition.AsListed, Sheet: "Rows"}
	f := opened(t, write(t, d, tableOf(one, file{"a", 2, rows, to("North", 5)}, file{"b", 2, rows, to("North", 9)}, file{"c", 2, rows, to("South", 0)}, file{"d", 2, rows, to("South", 0)}, file{"e", 2, rows, nil})))
	assert.Equal(t, []string{"North", "South", "Rows"}, f.GetSheetList())
	assert.Equal(t, [][]string{nil, nil, nil, {"n", "t"}, {"1", "a"}, {"2", "b"}, nil, nil, {"1", "a"}, {"2", "b"}}, raw(t, f, "North"))
	assert.Equal(t, [][]string{{"n", "t"}, {"1", "a"}, {"2", "b"}, {"1", "a"}, {"2", "b"}}, raw(t, f, "South"))

	err := deliver.Write(io.Discard, d, tableOf(one, file{"a", 2, rows, to("North", 5)}, file{"b", 2, rows, to("North", 6)}))
	require.Error(t, err)
	assert.Equal(t, `on the sheet "North" the rows of a stand in rows 5 to 6, and those of b begin in row 6`, err.Error())
}

// Rows go into the analyst's own workbook, which keeps everything else; of longer
// rows of before nothing is left.
func TestTemplate(t *testing.T) {
	own := excelize.NewFile()
	require.NoError(t, own.SetSheetName("Sheet1", "Data"))
	_, err := own.NewSheet("Chart")
	require.NoError(t, err)
	require.NoError(t, own.SetCellFormula("Chart", "A1", "SUM(Data!B4:B9)"))
	bold, err := own.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	require.NoError(t, err)
	require.NoError(t, own.SetCellStyle("Data", "B4", "B4", bold))
	require.NoError(t, own.SetCellValue("Data", "A1", "Weekly figures"))
	for row := 3; row < 9; row++ {
		cell, err := excelize.CoordinatesToCellName(2, row)
		require.NoError(t, err)
		require.NoError(t, own.SetCellValue("Data", cell, "old"))
	}
	require.NoError(t, own.SetCellValue("Data", "E8", "beside"))
	var template bytes.Buffer
	require.NoError(t, own.Write(&template))

	c := tableOf([]definition.Column{{Name: "n", Type: definition.Whole}, {Name: "d", Type: definition.Date}}, file{path: "a", rows: 2, content: "1,2026-10-05\r\n2,\r\n"})
	c.Template = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(template.Bytes())), nil }
	d := definition.Delivery{Format: definition.Workbook, Sheets: definition.OneSheet, Sheet: "Data", Start: [2]int{2, 3}, Workbook: "own.xlsx"}
	f := opened(t, write(t, d, c))
	assert.Equal(t, []string{"Data", "Chart"}, f.GetSheetList())
	assert.Equal(t, [][]string{{"Weekly figures"}, nil, {"", "n", "d"}, {"", "1", "46300"}, {"", "2"}, nil, nil, {"", "", "", "", "beside"}}, raw(t, f, "Data"))
	formula, err := f.GetCellFormula("Chart", "A1")
	require.NoError(t, err)
	assert.Equal(t, "SUM(Data!B4:B9)", formula)
	style, err := f.GetCellStyle("Data", "B4")
	require.NoError(t, err)
	assert.NotZero(t, style, "a cell keeps the look that it has")

	c.Template = func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("no workbook")), nil }
	assert.ErrorContains(t, deliver.Write(io.Discard, d, c), "the template own.xlsx is no .xlsx workbook")
}

func TestFileListAndFolder(t *testing.T) {
	c := tableOf(nil, file{path: "in/a.csv"}, file{path: "in/deep/b c.csv"})
	assert.Equal(t, "/share/in/a.csv\n/share/in/deep/b c.csv\n", string(write(t, definition.Delivery{Format: definition.FileList}, c)))

	dir := t.TempDir()
	folder, err := deliver.OpenFolder(dir)
	require.NoError(t, err)
	defer folder.Close()
	staged := deliver.StagedName(3, "picked")
	s, names, err := folder.StageFiles(staged, "in", c)
	require.NoError(t, err)
	assert.Equal(t, []string{"a.csv", "deep/b c.csv"}, names)
	assert.Equal(t, int64(len("bytes of in/a.csv")+len("bytes of in/deep/b c.csv")), s.Bytes)
	for range 2 { // twice, as after a crash
		for _, name := range names {
			require.NoError(t, folder.Put(staged+"/"+name, "picked/"+name))
		}
	}
	assert.FileExists(t, filepath.Join(dir, "picked/deep/b c.csv"))
	for range 2 {
		require.NoError(t, folder.Put(deliver.Removal("picked/a.csv"), "picked/a.csv"))
	}
	assert.NoFileExists(t, filepath.Join(dir, "picked/a.csv"))
	require.NoError(t, folder.Clear(nil))
	assert.NoDirExists(t, filepath.Join(dir, staged))
}

// A table that is loaded by changed files takes only their rows; where it is not
// as it was delivered, all of them.
func TestChangedFiles(t *testing.T) {
	store, err := records.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer store.Close()
	one := []definition.Column{{Name: "n", Type: definition.Whole}}
	d := definition.Delivery{Table: "some", Load: definition.LoadChanged}
	last := deliver.Before{}
	load := func(refresh int64, files ...file) deliver.Staged {
		table := deliver.NewTable(d, refresh, 0, last)
		s, err := table.Stage(t.Context(), store.Pool, tableOf(one, files...))
		require.NoError(t, err)
		require.NoError(t, store.Tx(t.Context(), func(tx pgx.Tx) error { return table.Publish(t.Context(), tx) }))
		last = deliver.Before{Refresh: refresh, Files: map[string]deliver.BeforeFile{}}
		for _, f := range files {
			last.Files[f.path] = deliver.BeforeFile{Part: "p" + f.content, Rows: f.rows}
		}
		return s
	}
	held := func() string {
		var rows string
		require.NoError(t, store.Pool.QueryRow(t.Context(), "SELECT string_agg(n || ' ' || jorvex_file, ',' ORDER BY n) FROM delivered.some").Scan(&rows))
		return rows
	}
	a, b, c := file{path: `it's\a`, rows: 2, content: "1\r\n2\r\n"}, file{path: "b", rows: 1, content: "3\r\n"}, file{path: "c", rows: 1, content: "4\r\n"}
	assert.Equal(t, deliver.Staged{Rows: 3}, load(1, a, b))
	assert.Equal(t, `1 it's\\a,2 it's\\a,3 b`, held())
	b.content, b.rows = "5\r\n6\r\n", 2
	assert.Equal(t, deliver.Staged{Rows: 3, Kept: 2}, load(2, a, b, c))
	assert.Equal(t, `1 it's\\a,2 it's\\a,4 c,5 b,6 b`, held())
	assert.Equal(t, deliver.Staged{Kept: 3}, load(3, b, c))
	assert.Equal(t, "4 c,5 b,6 b", held())

	_, err = store.Pool.Exec(t.Context(), "DELETE FROM delivered.some WHERE n = 4")
	require.NoError(t, err)
	c.content = "7\r\n"
	assert.Equal(t, deliver.Staged{Rows: 3}, load(4, b, c), "somebody took a row away")
	assert.Equal(t, "5 b,6 b,7 c", held())
	_, err = store.Pool.Exec(t.Context(), "ALTER TABLE delivered.some ADD COLUMN theirs text")
	require.NoError(t, err)
	assert.Equal(t, deliver.Staged{Rows: 3}, load(5, b, c), "somebody changed its columns")
	last.Refresh = 2
	assert.Equal(t, deliver.Staged{Rows: 3}, load(6, b, c), "another refresh delivered last")
}
