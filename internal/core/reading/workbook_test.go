package reading_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"strings"
	"testing"

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
	var lines []string
	err = w.Rows(sheet, func(row int, cells []string) error {
		lines = append(lines, fmt.Sprintf("%d %s", row, strings.Join(cells, "|")))
		return nil
	})
	return strings.Join(lines, "\n"), err
}

func TestCells(t *testing.T) {
	shared := `<si><t>plain</t></si><si><r><t>rich </t></r><r><t>text</t></r><rPh><t>hint</t></rPh></si><si><t xml:space="preserve"> x &amp; y</t></si>`
	for name, c := range map[string]struct{ rows, want string }{
		"numbers as they are stored": {`<row r="1"><c r="A1"><v>12.50</v></c><c r="C1"><v>1E3</v></c></row>`, "1 12.50||1E3"},
		"shared strings":             {`<row r="2"><c r="A2" t="s"><v>0</v></c><c r="B2" t="s"><v>1</v></c><c r="C2" t="s"><v>2</v></c></row>`, "2 plain|rich text| x & y"},
		"inline strings":             {`<row><c t="inlineStr"><is><t>in</t></is></c><c t="inlineStr"><is><r><t>a</t></r><r><t>b</t></r></is></c></row>`, "1 in|ab"},
		"formula results":            {`<row r="3"><c r="A3" t="str"><f>A1&amp;"x"</f><v>12x</v></c><c r="B3" t="b"><v>1</v></c><c r="C3" t="e"><v>#N/A</v></c></row>`, "3 12x|1|#N/A"},
		"rows and cells that skip":   {`<row r="5"><c r="D5"><v>4</v></c></row><row r="9"/><row><c><v>next</v></c></row>`, "5 |||4\n9 \n10 next"},
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
		"a sheet that there is not": {sound, "Other", `there is no sheet "Other"; there are "Data"`},
		"a part that is missing":    {book(t, transitional, "worksheets/gone.xml", "", ""), "", "the part xl/worksheets/gone.xml is missing"},
		"XML that breaks off":       {pack(t, map[string]string{"xl/workbook.xml": "<workbook>"}), "", "xl/workbook.xml: XML syntax error"},
		"rows that break off":       {book(t, transitional, "worksheets/sheet1.xml", `<row><c><v>1</row>`, ""), "", "XML syntax error"},
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
		want = append(want, fmt.Sprintf("%d text %d|%d|%v|%d|ü & <x>", r, r%7, r, float64(r)/4, map[bool]int{true: 1, false: 0}[r%2 == 0]))
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
