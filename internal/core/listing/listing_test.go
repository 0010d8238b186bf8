package listing_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/listing"
)

func list(t *testing.T, keys string) *definition.List {
	t.Helper()
	def, err := definition.Parse("input: a\nplace: b\nlist: "+keys+"\n", time.Now())
	require.NoError(t, err)
	return def.List
}

func show(entries []definition.Listed) string {
	var lines []string
	for _, e := range entries {
		lines = append(lines, fmt.Sprintf("%d %s|%s|%s|%s|%d", e.Line, e.Path, e.Sheet, e.Target.Sheet, e.Target.Table, e.Target.Row))
	}
	return strings.Join(lines, "\n")
}

func TestDelimitedLists(t *testing.T) {
	usual := list(t, "mine.csv")
	own := list(t, "{file: mine.csv, columns: {file: Inspection, to_sheet: Goes to}}")
	for _, c := range []struct {
		list *definition.List
		text string
		want string
	}{
		{usual, "file\na.csv\nb/c.csv\n", "2 a.csv||||0\n3 b/c.csv||||0"},
		{usual, "File;Sheet;Target sheet;Target table;Start row\r\na.csv;S;T;tab;12\r\n", "2 a.csv|S|T|tab|12"},
		{usual, "A list\n\nnote\tfile\nx\ta.csv\n\ny\tb.csv\n", "4 a.csv||||0\n6 b.csv||||0"},
		{usual, "file\n/a.csv/\nsub\\b.csv\n", "2 a.csv||||0\n3 sub/b.csv||||0"},
		{usual, "file,sheet\na.xlsx,North\na.xlsx,South\n", "2 a.xlsx|North|||0\n3 a.xlsx|South|||0"},
		{own, "No,INSPECTION,goes  TO\n1,a.xlsx,All\n", "2 a.xlsx||All||0"},
		{usual, "file\n", ""},
		{usual, "\"file\"\n\"with, comma.csv\"\n", "2 with, comma.csv||||0"},
	} {
		entries, err := listing.Read(c.list, []byte(c.text))
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, show(entries), c.text)
	}
}

func TestWhatIsWrongWithAList(t *testing.T) {
	usual := list(t, "mine.csv")
	for text, want := range map[string]string{
		"":                             "the file is empty",
		"files\na.csv\n":               `no row has the header "file"; did you mean "files"?`,
		"name\na.csv\n":                `no row has the header "file"; say which one it is`,
		strings.Repeat("x\n", 80):      `no row has the header "file"`,
		"file\n../a.csv\n":             `row 2: "../a.csv" climbs or doubles back`,
		"file\na//b.csv\n":             "row 2: \"a//b.csv\" climbs or doubles back",
		"file,note\n,x\n":              "row 2: it names no file",
		"file\na.csv\na.csv\n":         `row 3: "a.csv" is listed in row 2 already`,
		"file,start row\na.csv,0\n":    `row 2: "0" is no number of a row, 1 or more`,
		"file,start row\na.csv,last\n": `row 2: "last" is no number of a row`,
		"file\n\xff\n":                 "the text is not UTF-8",
		"<html>\n":                     "it is a web page",
	} {
		_, err := listing.Read(usual, []byte(text))
		var own *listing.Error
		require.ErrorAs(t, err, &own, text)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestListsInWorkbooks(t *testing.T) {
	book := excelize.NewFile()
	_, err := book.NewSheet("Second")
	require.NoError(t, err)
	require.NoError(t, book.SetSheetRow("Sheet1", "A1", &[]any{"file"}))
	require.NoError(t, book.SetSheetRow("Sheet1", "A2", &[]any{"first.csv"}))
	require.NoError(t, book.SetSheetRow("Second", "C5", &[]any{"Start row", "File"}))
	require.NoError(t, book.SetSheetRow("Second", "C6", &[]any{3, "second.csv"}))
	var b bytes.Buffer
	require.NoError(t, book.Write(&b))

	entries, err := listing.Read(list(t, "mine.xlsx"), b.Bytes())
	require.NoError(t, err)
	assert.Equal(t, "2 first.csv||||0", show(entries))
	entries, err = listing.Read(list(t, "{file: mine.xlsx, sheet: second}"), b.Bytes())
	require.NoError(t, err)
	assert.Equal(t, "6 second.csv||||3", show(entries))
	_, err = listing.Read(list(t, "{file: mine.xlsx, sheet: Third}"), b.Bytes())
	assert.ErrorContains(t, err, `the wanted sheet is not in the workbook: "Third"; there are "Sheet1", "Second"`)
	for cut := 1; cut < 10; cut++ {
		_, err = listing.Read(list(t, "mine.xlsx"), b.Bytes()[:b.Len()*cut/10])
		assert.ErrorContains(t, err, "it is no sound workbook", "cut at %d tenths", cut)
	}
}
