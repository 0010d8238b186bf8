package reading_test

import (
	"bytes"
	_ "embed"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
)

func read(r io.Reader, delimiter byte) ([][]string, error) {
	d := reading.NewDelimited(r)
	d.Delimiter = delimiter
	var rows [][]string
	for {
		cells, err := d.Next()
		if err == io.EOF {
			return rows, nil
		}
		if err != nil {
			return rows, err
		}
		row := []string{}
		for _, c := range cells {
			row = append(row, string(c.Text))
		}
		rows = append(rows, row)
	}
}

func TestRows(t *testing.T) {
	for text, want := range map[string]string{
		"a,b\n1,2\n":              "[a|b][1|2]",
		"a,b\r\n1,2":              "[a|b][1|2]",
		"a,b\n\n1,2\n":            "[a|b][][1|2]",
		"\ufeffa,b\n":             "[a|b]",
		"a;b\n1,5;2\n":            "[a|b][1,5|2]",
		"a\tb\n1\t2\n":            "[a|b][1|2]",
		"a|b\n1|2\n":              "[a|b][1|2]",
		"\"a\",\"b\"\n":           "[a|b]",
		"\"a,b\",c\n":             "[a,b|c]",
		"\"a\nb\",c\r\nd,e\n":     "[a\nb|c][d|e]",
		"\"say \"\"hi\"\"\",c\n":  "[say \"hi\"|c]",
		"\"\"\"\"\n":              "[\"]",
		"\"\",\"\"\n":             "[|]",
		"5\" pipe,x\n1,2\n":       "[5\" pipe|x][1|2]",
		"\"a\"b,c\n":              "[ab|c]",
		"\"a\" ,c\n":              "[a |c]",
		"a,\n":                    "[a|]",
		",\n":                     "[|]",
		"title\n\na;b;c\n1;2;3\n": "[title][][a|b|c][1|2|3]",
	} {
		for _, r := range []io.Reader{strings.NewReader(text), iotest.OneByteReader(strings.NewReader(text)), iotest.DataErrReader(strings.NewReader(text))} {
			rows, err := read(r, 0)
			require.NoError(t, err, "%q", text)
			var b strings.Builder
			for _, row := range rows {
				fmt.Fprintf(&b, "[%s]", strings.Join(row, "|"))
			}
			assert.Equal(t, want, b.String(), "%q", text)
		}
	}
}

func TestFindings(t *testing.T) {
	for text, want := range map[string]struct {
		code finding.Code
		says string
	}{
		"":                          {finding.Empty, ""},
		"\ufeff":                    {finding.Empty, "byte-order mark"},
		"a,b\n\"1,2\n3,4\n":         {finding.UnclosedQuote, "row 2"},
		"%PDF-1.7 a,b\n":            {finding.NotATable, "a PDF document"},
		"  <!DOCTYPE html><p>":      {finding.NotATable, "a web page"},
		"a,b\n1,\x002\n":            {finding.NULBytes, "the first is at offset 6"},
		"a,b\n1,caf\xe9\n":          {finding.NotUTF8, "0xE9 at offset 9"},
		"\xff\xfea\x00":             {finding.NotATable, "UTF-16"},
		"a,b\n1,\xc3":               {finding.NotUTF8, "offset 6"},
		"a,b\n1,2\n" + "\xe2\x82\n": {finding.NotUTF8, "offset 8"},
	} {
		_, err := read(strings.NewReader(text), 0)
		var f finding.Finding
		require.ErrorAs(t, err, &f, "%q", text)
		assert.Equal(t, want.code, f.Code, "%q", text)
		assert.Contains(t, f.Sentence, want.says)
	}
}

func TestRowBeyondTheLimit(t *testing.T) {
	long := io.MultiReader(strings.NewReader("a,b\n"), io.LimitReader(forever('x'), reading.MaxRow+5))
	_, err := read(long, ',')
	var f finding.Finding
	require.ErrorAs(t, err, &f)
	assert.Equal(t, finding.RowTooLong, f.Code)
	assert.Equal(t, int64(2), f.Row)
}

type forever byte

func (f forever) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = byte(f)
	}
	return len(p), nil
}

func TestReadErrorIsPassedOn(t *testing.T) {
	broken := errors.New("the disk is gone")
	_, err := read(io.MultiReader(strings.NewReader("a,b\n1,2\n"), iotest.ErrReader(broken)), ',')
	assert.ErrorIs(t, err, broken)
}

// Where the standard library reads a text, this reader reads the same, however
// the text is cut into blocks.
func FuzzDelimited(f *testing.F) {
	f.Add("a,b\n\"1\n\",\"x\"\"y\"\n")
	f.Add("a,b\r\n1,2\r\n,\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		rows, err := read(strings.NewReader(text), ',')
		again, errAgain := read(iotest.OneByteReader(strings.NewReader(text)), ',')
		assert.Equal(t, rows, again)
		assert.Equal(t, err == nil, errAgain == nil)
		if err != nil || strings.Contains(text, "\r") || strings.HasPrefix(text, "\ufeff") {
			return
		}
		standard := csv.NewReader(strings.NewReader(text))
		standard.FieldsPerRecord = -1
		want, errStandard := standard.ReadAll()
		if errStandard != nil {
			return
		}
		var full [][]string
		for _, row := range rows {
			if len(row) > 1 || row[0] != "" || strings.Contains(text, "\"\"") {
				full = append(full, row)
			}
		}
		if !strings.Contains(text, "\"\"") {
			assert.Equal(t, want, full)
		}
	})
}

func BenchmarkRead(b *testing.B) {
	var text bytes.Buffer
	for i := range 200_000 {
		fmt.Fprintf(&text, "SK%05d,Petrel,%d,%d,%d.%02d,2026-10-%02d\n", i, i%400, i%90, i%50, i%100, i%28+1)
	}
	b.SetBytes(int64(text.Len()))
	b.Run("jorvex", func(b *testing.B) {
		b.SetBytes(int64(text.Len()))
		for b.Loop() {
			d := reading.NewDelimited(bytes.NewReader(text.Bytes()))
			for {
				if _, err := d.Next(); err != nil {
					break
				}
			}
		}
	})
	b.Run("encoding-csv", func(b *testing.B) {
		b.SetBytes(int64(text.Len()))
		for b.Loop() {
			r := csv.NewReader(bytes.NewReader(text.Bytes()))
			r.ReuseRecord = true
			for {
				if _, err := r.Read(); err != nil {
					break
				}
			}
		}
	})
}
