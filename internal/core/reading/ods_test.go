package reading_test

import (
	"archive/zip"
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
)

// openSheet makes an OpenDocument workbook of one table and reads it.
func openSheet(t *testing.T, rows string) (string, error) {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, part := range [][2]string{
		{"mimetype", "application/vnd.oasis.opendocument.spreadsheet"},
		{"content.xml", `<office:document-content><office:body><office:spreadsheet><table:table table:name="One">` + rows + `</table:table><table:table table:name="Two"><table:table-row><table:table-cell><text:p>of another</text:p></table:table-cell></table:table-row></table:table></office:spreadsheet></office:body></office:document-content>`},
	} {
		f, err := w.Create(part[0])
		require.NoError(t, err)
		_, err = f.Write([]byte(part[1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	f, err := reading.Open(bytes.NewReader(b.Bytes()), spool)
	require.NoError(t, err)
	assert.Equal(t, reading.ODSWorkbook, f.Kind)
	book, err := f.Book()
	if err != nil {
		return "", err
	}
	table, err := book.Open(0)
	if err != nil {
		return "", err
	}
	defer table.Close()
	return told(table)
}

func TestOpenDocumentCells(t *testing.T) {
	row := func(cells string) string { return "<table:table-row>" + cells + "</table:table-row>" }
	text := func(s string) string {
		return `<table:table-cell office:value-type="string">` + s + `</table:table-cell>`
	}
	const blank = `<table:table-cell/>`
	for name, c := range map[string]struct{ rows, want string }{
		"texts":                 {row(text("<text:p>a</text:p>") + text("<text:p>b <text:span>c</text:span></text:p><text:p>d</text:p>")), "1 a|b c\nd"},
		"spaces that count":     {row(text(`<text:p>a<text:s text:c="3"/>b<text:tab/>c<text:line-break/>d</text:p>`)), "1 a   b\tc\nd"},
		"a note is no text":     {row(text(`<office:annotation><text:p>look</text:p></office:annotation><text:p>a</text:p>`)), "1 a"},
		"typed values":          {row(`<table:table-cell office:value-type="float" office:value="1012.5"><text:p>1 012,50</text:p></table:table-cell><table:table-cell office:value-type="percentage" office:value="0.05"/><table:table-cell office:value-type="boolean" office:boolean-value="true"/>`), "1 1012.5|0.05|true"},
		"dates and times":       {row(`<table:table-cell office:value-type="date" office:date-value="2026-11-01"/><table:table-cell office:value-type="date" office:date-value="2026-11-01T00:00:00"/><table:table-cell office:value-type="time" office:time-value="PT06H30M05S"/><table:table-cell office:value-type="time" office:time-value="PT30M"/>`), "1 2026-11-01|2026-11-01|06:30:05|00:30:00"},
		"more than a day":       {row(`<table:table-cell office:value-type="time" office:time-value="PT30H"/><table:table-cell office:value-type="time" office:time-value="soon"/>`), "1 1900-01-01T06:00:00|soon"},
		"errors":                {row(`<table:table-cell table:formula="of:=1/0" office:value-type="string" calcext:value-type="error"><text:p>#DIV/0!</text:p></table:table-cell>`), "1 #DIV/0!"},
		"repeated cells":        {row(`<table:table-cell table:number-columns-repeated="2"/><table:table-cell office:value-type="float" office:value="7" table:number-columns-repeated="3"/>` + blank), "1 ||7|7|7"},
		"blanks to the end":     {row(text("<text:p>a</text:p>") + `<table:table-cell table:number-columns-repeated="16383"/>`), "1 a"},
		"covered cells":         {row(text("<text:p>a</text:p>") + "<table:covered-table-cell/>" + text("<text:p>b</text:p>")), "1 a||b"},
		"repeated rows":         {`<table:table-row table:number-rows-repeated="2">` + text("<text:p>a</text:p>") + "</table:table-row>" + row(text("<text:p>b</text:p>")), "1 a\n2 a\n3 b"},
		"blank rows in between": {row(text("<text:p>a</text:p>")) + `<table:table-row table:number-rows-repeated="40"><table:table-cell/></table:table-row>` + row(text("<text:p>b</text:p>")), "1 a\n42 b"},
		"rows in a group":       {"<table:table-header-rows>" + row(text("<text:p>a</text:p>")) + "</table:table-header-rows>" + row(text("<text:p>b</text:p>")), "1 a\n2 b"},
		"no row at all":         {"", ""},
	} {
		got, err := openSheet(t, c.rows)
		require.NoError(t, err, name)
		assert.Equal(t, c.want, got, name)
	}
	for name, rows := range map[string]string{
		"endless rows":    `<table:table-row table:number-rows-repeated="99999999">` + text("<text:p>a</text:p>") + "</table:table-row>",
		"endless columns": row(`<table:table-cell office:value-type="float" office:value="7" table:number-columns-repeated="99999999"/>`),
		"far columns":     row(`<table:table-cell table:number-columns-repeated="99999999"/>` + text("<text:p>a</text:p>")),
		"broken off":      "<table:table-row>",
		"badly closed":    strings.Repeat("</table:table-row>", 9),
	} {
		_, err := openSheet(t, rows)
		var f finding.Finding
		require.ErrorAs(t, err, &f, name)
		assert.Equal(t, finding.Damaged, f.Code, name)
	}
}
