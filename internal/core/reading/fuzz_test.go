package reading_test

import (
	"bytes"

	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/finding"
)

// mostFuzzed keeps what is tried small: what is large has tests of its own.
const mostFuzzed = 1 << 20

// isFinding sees that whatever is wrong with a file is told as a finding.
func isFinding(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		var found finding.Finding
		assert.ErrorAs(t, err, &found, "every fault is told as a finding")
	}
}

// FuzzRows reads whatever a file is, with files of every format to begin with.
func FuzzRows(f *testing.F) {
	for _, content := range corpus(f) {
		f.Add(content)
	}
	office, err := filepath.Glob("testdata/office/*.[ox]*")
	require.NoError(f, err)
	for _, path := range office {
		content, err := os.ReadFile(path)
		require.NoError(f, err)
		f.Add(content)
	}
	f.Add([]byte("\xff\xfea\x00,\x00b\x00\n\x001\x00,\x002\x00"))
	f.Add([]byte(`<?xml version="1.0" encoding="ISO-8859-1"?><l><r a="1"><b>` + "\xe6" + `</b></r><r/></l>`))
	f.Fuzz(func(t *testing.T, content []byte) {
		if len(content) > mostFuzzed {
			t.Skip()
		}
		_, err := readAll(t, bytes.NewReader(content))
		isFinding(t, err)
	})
}

// FuzzXML reads the repeating element of a document.
func FuzzXML(f *testing.F) {
	f.Add(`<l><r a="1"><b>x</b><b>y &amp; z</b></r><r><![CDATA[<c>]]></r></l>`)
	f.Add(`<?xml version="1.0"?><!-- c --><s:l xmlns:s="u"><s:r/><s:r>1</s:r></s:l>`)
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > mostFuzzed {
			t.Skip()
		}
		_, err := readAll(t, bytes.NewReader([]byte("<?xml "+text)))
		isFinding(t, err)
	})
}

// FuzzOpenDocument reads the rows of an .ods workbook's table.
func FuzzOpenDocument(f *testing.F) {
	f.Add(`<table:table-row table:number-rows-repeated="2"><table:table-cell office:value-type="float" office:value="1.5"/></table:table-row>`)
	f.Add(`<table:table-row><table:table-cell table:number-columns-spanned="2"><text:p>a<text:s text:c="3"/>b</text:p></table:table-cell><table:covered-table-cell/></table:table-row>`)
	f.Fuzz(func(t *testing.T, rows string) {
		if len(rows) > mostFuzzed {
			t.Skip()
		}
		_, err := openSheet(t, rows)
		isFinding(t, err)
	})
}

// FuzzOldWorkbook reads .xls workbooks, with those of a spreadsheet program to
// begin with, and a few of their bytes given other values.
func FuzzOldWorkbook(f *testing.F) {
	var whole [][]byte
	for _, name := range []string{"values.xls", "sheets.xls"} {
		content, err := os.ReadFile("testdata/office/" + name)
		require.NoError(f, err)
		whole = append(whole, content)
	}
	f.Add(0, uint32(600), uint32(700), []byte{0xff, 0xff})
	f.Add(1, uint32(5000), uint32(5100), []byte{0})
	f.Fuzz(func(t *testing.T, which int, at, also uint32, bytesThere []byte) {
		content := bytes.Clone(whole[uint(which)%2])
		for _, from := range []uint32{at, also} {
			copy(content[from%uint32(len(content)):], bytesThere)
		}
		_, err := readAll(t, bytes.NewReader(content))
		isFinding(t, err)
	})
}
