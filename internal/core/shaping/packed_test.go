package shaping_test

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"

	"jorvex/internal/core/definition"
)

func gz(t *testing.T, content []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write(content)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func zipped(t *testing.T, members ...any) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := 0; i < len(members); i += 2 {
		m, err := w.Create(members[i].(string))
		require.NoError(t, err)
		_, err = m.Write(members[i+1].([]byte))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func utf16(t *testing.T, text string, order unicode.Endianness, mark unicode.BOMPolicy) []byte {
	t.Helper()
	b, err := unicode.UTF16(order, mark).NewEncoder().Bytes([]byte(text))
	require.NoError(t, err)
	return b
}

// The same table comes out of whatever is around it.
func TestPacked(t *testing.T) {
	const columns = "columns:\n  - {name: port, required: true}\n  - {name: t, type: decimal}\n"
	csv := []byte("port,t\nEskvik,10.5\nÅlvær,7\n")
	const want = "Eskvik|10.5\nÅlvær|7"
	cut := gz(t, bytes.Repeat(csv, 1000))
	wrong := gz(t, csv)
	wrong[len(wrong)-5] ^= 1
	for name, c := range map[string]struct {
		content []byte
		read    string // of the definition
		want    string
		found   string
	}{
		"gzip":                  {gz(t, csv), "", want, ""},
		"zip":                   {zipped(t, "a/tally.csv", csv, "__MACOSX/._tally.csv", []byte("x"), "a/.hidden", []byte("y")), "", want, ""},
		"gzip in zip":           {zipped(t, "tally.csv.gz", gz(t, csv)), "", want, ""},
		"UTF-16, little":        {utf16(t, string(csv), unicode.LittleEndian, unicode.UseBOM), "", want, ""},
		"UTF-16, big":           {utf16(t, string(csv), unicode.BigEndian, unicode.UseBOM), "", want, ""},
		"UTF-16 without mark":   {utf16(t, string(csv), unicode.LittleEndian, unicode.IgnoreBOM), "", want, ""},
		"big without mark":      {utf16(t, string(csv), unicode.BigEndian, unicode.IgnoreBOM), "", want, ""},
		"UTF-16 in gzip":        {gz(t, utf16(t, string(csv), unicode.BigEndian, unicode.UseBOM)), "", want, ""},
		"XML in UTF-16":         {utf16(t, `<?xml version="1.0" encoding="UTF-16"?><l><r port="Eskvik" t="10.5"/><r port="Ålvær" t="7"/></l>`, unicode.LittleEndian, unicode.UseBOM), "", want, ""},
		"XML of one record":     {[]byte(`<l><r port="Eskvik" t="10.5"/></l>`), "", "Eskvik|10.5", ""},
		"JSON in zip":           {zipped(t, "x.json", []byte(`[{"port": "Eskvik", "t": 10.5}, {"port": "Ålvær", "t": 7.0}]`)), "", "Eskvik|10.5\nÅlvær|7.0", ""},
		"the member that fits":  {zipped(t, "a.csv", []byte("no\n1\n"), "b/tally.csv", csv), "member: 'tal*.CSV'", want, ""},
		"two members":           {zipped(t, "a.csv", csv, "b.csv", csv), "", "", "not_a_table"},
		"no such member":        {zipped(t, "a.csv", csv), "member: c.csv", "", "not_a_table"},
		"an empty archive":      {zipped(t), "", "", "not_a_table"},
		"a picture in an zip":   {zipped(t, "a.png", []byte("\x89PNG\r\n\x1a\nIEND")), "", "", "not_a_table"},
		"gzip cut short":        {cut[:len(cut)/2], "", "", "cut_short"},
		"a wrong checksum":      {wrong, "", "Eskvik|10.5\nÅlvær|7", "damaged"},
		"too deep":              {gz(t, gz(t, gz(t, gz(t, csv)))), "", "", "expands_too_far"},
		"more than allowed":     {gz(t, bytes.Repeat(csv, 100)), "most_bytes: 1 KB", "", "expands_too_far"},
		"empty in gzip":         {gz(t, nil), "", "", "empty"},
		"JSON in Latin letters": {[]byte("[{\"port\": \"\xc5lv\xe6r\"}]"), "", "", "not_utf8"},
		"NUL in JSON":           {[]byte(`[{"port": "Esk\u0000vik", "t": 1}]`), "", "~|1", "not_text"},
	} {
		t.Run(name, func(t *testing.T) {
			def, err := definition.Parse("input: a\nplace: b\npick: [\"*\"]\nread: {"+c.read+"}\n"+columns, time.Now())
			require.NoError(t, err)
			got, found := shaped(t, def, c.content)
			assert.Equal(t, c.found, strings.Join(found, " "))
			if c.found != "damaged" {
				assert.Equal(t, c.want, got)
			}
		})
	}
}
