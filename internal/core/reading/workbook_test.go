package reading_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"html"
	"io"
	"math"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
)

// pack makes a workbook of parts.
func pack(t testing.TB, parts map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for name, content := range parts {
		f, err := w.Create(name)
		require.NoError(t, err)
		_, err = f.Write([]byte(content))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

const (
	transitional = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
	strict       = "http://purl.oclc.org/ooxml/officeDocument/relationships"
)

// book makes a workbook with one sheet of some rows, in XML.
func book(t testing.TB, space, target, rows, shared string) []byte {
	t.Helper()
	return pack(t, map[string]string{
		"xl/workbook.xml": fmt.Sprintf(`<workbook xmlns:r="%s"><sheets><sheet name="Data" sheetId="1" r:id="rId1"/></sheets></workbook>`, space),
		"xl/_rels/workbook.xml.rels": fmt.Sprintf(`<Relationships><Relationship Id="rId1" Type="%s/worksheet" Target="%s"/>`+
			`<Relationship Id="rId2" Type="%s/sharedStrings" Target="sharedStrings.xml"/></Relationships>`, space, target, space),
		"xl/worksheets/sheet1.xml": "<worksheet><sheetData>" + rows + "</sheetData></worksheet>",
		"xl/sharedStrings.xml":     "<sst>" + shared + "</sst>",
	})
}

func rows(t testing.TB, content []byte, sheet string) (string, error) {
	t.Helper()
	w, err := reading.OpenWorkbook(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return "", err
	}
	i, err := reading.FindSheet(w.Sheets(), sheet)
	if err != nil {
		return "", err
	}
	table, err := w.Open(i)
	if err != nil {
		return "", err
	}
	defer table.Close()
	return told(table)
}

// told writes rows as NUMBER CELL|CELL, a line each.
func told(table reading.Rows) (string, error) {
	var lines []string
	for {
		cells, err := table.Next()
		if err == io.EOF {
			if _, again := table.Next(); again != io.EOF {
				return "", fmt.Errorf("after its end: %w", again)
			}
			return strings.Join(lines, "\n"), nil
		}
		if err != nil {
			return "", err
		}
		texts := make([]string, len(cells))
		for i, c := range cells {
			texts[i] = string(c.Text)
		}
		lines = append(lines, fmt.Sprintf("%d %s", table.Row(), strings.Join(texts, "|")))
	}
}

func TestCells(t *testing.T) {
	shared := `<si><t>plain</t></si><si><r><t>rich </t></r><r><t>text</t></r><rPh><t>hint</t></rPh></si><si><t xml:space="preserve"> x &amp; y</t></si>`
	for name, c := range map[string]struct{ rows, want string }{
		"numbers as they are stored": {`<row r="1"><c r="A1"><v>12.50</v></c><c r="C1"><v>1E3</v></c></row>`, "1 12.5||1000"},
		"shared strings":             {`<row r="2"><c r="A2" t="s"><v>0</v></c><c r="B2" t="s"><v>1</v></c><c r="C2" t="s"><v>2</v></c></row>`, "2 plain|rich text| x & y"},
		"inline strings":             {`<row><c t="inlineStr"><is><t>in</t></is></c><c t="inlineStr"><is><r><t>a</t></r><r><t>b</t></r></is></c></row>`, "1 in|ab"},
		"formula results":            {`<row r="3"><c r="A3" t="str"><f>A1&amp;"x"</f><v>12x</v></c><c r="B3" t="b"><v>1</v></c><c r="C3" t="e"><v>#N/A</v></c></row>`, "3 12x|true|#N/A"},
		"rows and cells that skip":   {`<row r="5"><c r="D5"><v>4</v></c></row><row r="9"/><row><c><v>next</v></c></row>`, "5 |||4\n10 next"},
		"far columns":                {`<row r="1"><c r="AB1"><v>28</v></c></row>`, "1 " + strings.Repeat("|", 27) + "28"},
	} {
		t.Run(name, func(t *testing.T) {
			for _, space := range []string{transitional, strict} {
				for _, target := range []string{"worksheets/sheet1.xml", "/xl/worksheets/sheet1.xml"} {
					got, err := rows(t, book(t, space, target, c.rows, shared), "data")
					require.NoError(t, err)
					assert.Equal(t, c.want, got)
				}
			}
		})
	}
}

func TestDamagedWorkbooks(t *testing.T) {
	sound := book(t, transitional, "worksheets/sheet1.xml", `<row r="1"><c r="A1"><v>1</v></c></row>`, "")
	for name, c := range map[string]struct {
		content []byte
		sheet   string
		want    string
	}{
		"no archive":                {[]byte("PK\x03\x04 no"), "", "not a valid zip file"},
		"an archive of others":      {pack(t, map[string]string{"a.txt": "x"}), "", "the part xl/workbook.xml is missing"},
		"a sheet that there is not": {sound, "Other", `the wanted sheet is not in the workbook: "Other"; there are "Data"`},
		"a part that is missing":    {book(t, transitional, "worksheets/gone.xml", "", ""), "", "the part xl/worksheets/gone.xml is missing"},
		"XML that breaks off":       {pack(t, map[string]string{"xl/workbook.xml": "<workbook>"}), "", "its XML: it ends too early"},
		"rows that break off":       {book(t, transitional, "worksheets/sheet1.xml", `<row><c><v>1</row>`, ""), "", "its XML: it ends too early"},
		"a text out of range":       {book(t, transitional, "worksheets/sheet1.xml", `<row r="7"><c t="s"><v>3</v></c></row>`, "<si><t>x</t></si>"), "", `row 7 names the text "3", which there is not`},
		"a column out of range":     {book(t, transitional, "worksheets/sheet1.xml", `<row><c r="ZZZZZ1"><v>3</v></c></row>`, ""), "", "lies beyond the last column"},
	} {
		_, err := rows(t, c.content, c.sheet)
		var f finding.Finding
		require.ErrorAs(t, err, &f, name)
		assert.Contains(t, f.Sentence, c.want, name)
		assert.Equal(t, finding.Broken, f.Grade)
	}
}

// What the usual library writes reads back equal.
func TestWorkbooksOfTheUsualLibrary(t *testing.T) {
	f := excelize.NewFile()
	var want []string
	for r := 1; r <= 300; r++ {
		cells := []any{fmt.Sprintf("text %d", r%7), r, float64(r) / 4, r%2 == 0, "ü & <x>"}
		require.NoError(t, f.SetSheetRow("Sheet1", fmt.Sprintf("A%d", r), &cells))
		want = append(want, fmt.Sprintf("%d text %d|%d|%v|%t|ü & <x>", r, r%7, r, float64(r)/4, r%2 == 0))
	}
	var b bytes.Buffer
	require.NoError(t, f.Write(&b))
	got, err := rows(t, b.Bytes(), "")
	require.NoError(t, err)
	assert.Equal(t, strings.Join(want, "\n"), got)
	assert.True(t, reading.IsArchive(b.Bytes()))
	assert.False(t, reading.IsArchive([]byte("a,b")))
}

func FuzzWorkbook(f *testing.F) {
	f.Add(`<row r="1"><c r="A1" t="s"><v>0</v></c></row>`, "<si><t>x</t></si>")
	f.Add(`<row><c t="inlineStr"><is><t>in</t></is></c></row>`, "")
	f.Fuzz(func(t *testing.T, sheet, shared string) {
		_, err := rows(t, book(t, transitional, "worksheets/sheet1.xml", sheet, shared), "")
		if err != nil {
			var found finding.Finding
			assert.ErrorAs(t, err, &found, "every fault is told as a finding")
		}
	})
}

// Workbooks that a spreadsheet program wrote read back as what was put in:
// dates, times, shares, prices, logical values, errors, formulas' stored values.
func TestFidelity(t *testing.T) {
	vessels := []string{"Petrel", "Gannet", "Fulmar", "Kittiwake"}
	notes := []string{"", "long  blank", `quote " and, comma`, "Ærø – 2nd\nline"}
	want := []string{"1 Fuel uplift|||", "3 Vessel|Day|Time|Bunkered at|Litres|Share|Price|Paid|Note|Sum|Bad"}
	for i := range 12 {
		day := time.Date(2026, 11, 1+i, 0, 0, 0, 0, time.UTC)
		row := fmt.Sprintf("%d %s|%s|%02d:00:00|%sT06:00:00|%v|%v|%v|%t|%s|%v", 4+i, vessels[i%4], day.Format(time.DateOnly), i+1, day.Format(time.DateOnly),
			1000+12.5*float64(i), math.Round(0.05*float64(i+1)*100)/100, 1.5+float64(i)/4, i%2 == 0, notes[i%4], 2*(1000+12.5*float64(i)))
		switch i {
		case 0:
			row += "|#DIV/0!"
		case 1:
			row += "|#N/A"
		}
		want = append(want, row)
	}
	blanks := regexp.MustCompile(`(?m)\|+$`) // how far a row goes on with blank cells is the program's own
	first := func(name string) (reading.Book, reading.SheetRows, string) {
		content, err := os.ReadFile("testdata/office/" + name)
		require.NoError(t, err)
		f, err := reading.Open(bytes.NewReader(content), spool)
		require.NoError(t, err)
		w, err := f.Book()
		require.NoError(t, err, name)
		table, err := w.Open(0)
		require.NoError(t, err, name)
		got, err := told(table)
		require.NoError(t, err, name)
		return w, table, blanks.ReplaceAllString(got, "")
	}
	for _, form := range []string{".xlsx", ".ods", ".xls"} {
		for _, name := range []string{"values", "values1904"} {
			_, table, got := first(name + form)
			assert.Equal(t, blanks.ReplaceAllString(strings.Join(want, "\n"), ""), got, name+form)
			require.NoError(t, table.Close())
		}
		w, table, got := first("sheets" + form)
		names := []string{}
		for _, s := range w.Sheets() {
			names = append(names, fmt.Sprint(s.Name, " ", s.Hidden))
		}
		assert.Equal(t, []string{"October false", "Notes false", "Workings true"}, names, form)
		assert.Equal(t, "1 Vessel|Litres\n2 |Harbour|Sea\n3 Petrel|100|0\n4 Gannet|200|7\n5 Fulmar|300|14\n6 Kittiwake|400|21", got, form)
		assert.Equal(t, int64(1), table.Hidden(), form)
		require.NoError(t, table.Close())
	}
}

// What a number is shown as, by the code of its format.
func TestFormats(t *testing.T) {
	for code, want := range map[string]string{
		"General": "44927.5", "0.00": "44927.5", "#,##0 \"days\"": "44927.5", "[Red]0": "44927.5", "0%": "44927.5",
		"yyyy-mm-dd": "2023-01-01T12:00:00", "d. mmmm": "2023-01-01T12:00:00", "mmm": "2023-01-01T12:00:00", "[$-409]d/m/yy;@": "2023-01-01T12:00:00",
		"hh:mm": "2023-01-01T12:00:00", "[h]:mm:ss": "2023-01-01T12:00:00", "m/d/yyyy h:mm": "2023-01-01T12:00:00", "\"day\" 0": "44927.5", "\\d0": "44927.5",
	} {
		styles := fmt.Sprintf(`<styleSheet><numFmts><numFmt numFmtId="170" formatCode="%s"/></numFmts><cellXfs><xf numFmtId="0"/><xf numFmtId="170"/></cellXfs></styleSheet>`, html.EscapeString(code))
		content := pack(t, map[string]string{
			"xl/workbook.xml":            `<workbook xmlns:r="` + transitional + `"><sheets><sheet name="Data" sheetId="1" r:id="rId1"/></sheets></workbook>`,
			"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="rId1" Type="x/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="rId2" Type="x/styles" Target="styles.xml"/></Relationships>`,
			"xl/worksheets/sheet1.xml":   `<worksheet><sheetData><row><c s="1"><v>44927.5</v></c></row></sheetData></worksheet>`,
			"xl/styles.xml":              styles,
		})
		got, err := rows(t, content, "")
		require.NoError(t, err)
		assert.Equal(t, "1 "+want, got, code)
	}
}

// 200,000 rows of 8 cells, against unzipping the sheet and counting its cells.
func BenchmarkWorkbook(b *testing.B) {
	f := excelize.NewFile()
	w, err := f.NewStreamWriter("Sheet1")
	require.NoError(b, err)
	for r := 1; r <= 200_000; r++ {
		require.NoError(b, w.SetRow(fmt.Sprintf("A%d", r), []any{"Petrel", r, float64(r) / 4, r % 7, "Aldersund", 17.25, r % 1000, "SK"}))
	}
	require.NoError(b, w.Flush())
	var content bytes.Buffer
	require.NoError(b, f.Write(&content))
	size := int64(content.Len())
	var least, own float64
	b.Run("unzip", func(b *testing.B) {
		for b.Loop() {
			archive, err := zip.NewReader(bytes.NewReader(content.Bytes()), size)
			require.NoError(b, err)
			part, err := archive.Open("xl/worksheets/sheet1.xml")
			require.NoError(b, err)
			cells, buf := 0, make([]byte, 64<<10)
			for {
				n, err := part.Read(buf)
				cells += bytes.Count(buf[:n], []byte("<c "))
				if err == io.EOF {
					break
				}
			}
			require.Greater(b, cells, 1_500_000)
		}
		least = b.Elapsed().Seconds() / float64(b.N)
	})
	b.Run("jorvex", func(b *testing.B) {
		for b.Loop() {
			w, err := reading.OpenWorkbook(bytes.NewReader(content.Bytes()), size)
			require.NoError(b, err)
			table, err := w.Open(0)
			require.NoError(b, err)
			n := 0
			for {
				cells, err := table.Next()
				if err == io.EOF {
					break
				}
				require.NoError(b, err)
				n += len(cells)
			}
			require.Equal(b, 1_600_000, n)
		}
		own = b.Elapsed().Seconds() / float64(b.N)
		b.ReportMetric(own/least, "jorvex/unzip")
	})
}
