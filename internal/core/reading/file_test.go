package reading_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"image"
	"image/png"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
)

// kept is content in memory.
type kept struct{ *bytes.Reader }

func (kept) Close() error { return nil }

func spool(r io.Reader) (reading.Content, error) {
	b, err := io.ReadAll(r)
	return kept{bytes.NewReader(b)}, err
}

func inspect(t testing.TB, content []byte) (reading.Kind, []finding.Finding) {
	t.Helper()
	f, err := reading.Open(bytes.NewReader(content), spool)
	require.NoError(t, err)
	defer f.Close()
	found, err := f.Inspect()
	require.NoError(t, err)
	if _, broken := finding.AnyBroken(found); !broken {
		readThrough(t, f)
	}
	return f.Kind, found
}

// readThrough reads every sheet of a workbook. What is wrong is a finding.
func readThrough(t testing.TB, f *reading.File) {
	t.Helper()
	fault := func(err error) {
		t.Helper()
		var found finding.Finding
		require.ErrorAs(t, err, &found)
	}
	book, err := f.Book()
	if err != nil || book == nil {
		if err != nil {
			fault(err)
		}
		return
	}
	for i := range book.Sheets() {
		rows, err := book.Open(i)
		if err != nil {
			fault(err)
			continue
		}
		for n := 0; n < 100_000; n++ {
			_, err := rows.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				fault(err)
				break
			}
		}
		require.NoError(t, rows.Close())
	}
}

func gz(t testing.TB, content string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write([]byte(content))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// workbook makes one with the usual library; with a password it is encrypted.
func workbook(t testing.TB, password string) []byte {
	t.Helper()
	w := excelize.NewFile()
	defer w.Close()
	for row := 1; row <= 60; row++ {
		require.NoError(t, w.SetSheetRow("Sheet1", fmt.Sprintf("A%d", row), &[]any{"Petrel", row, 1.5 * float64(row)}))
	}
	var b bytes.Buffer
	require.NoError(t, w.Write(&b, excelize.Options{Password: password}))
	return b.Bytes()
}

// corpus is sound files of every kind, by name.
func corpus(t testing.TB) map[string][]byte {
	t.Helper()
	var picture bytes.Buffer
	require.NoError(t, png.Encode(&picture, image.NewGray(image.Rect(0, 0, 40, 40))))
	files := map[string][]byte{
		"plain.csv":      []byte("a,b\n1,2\n"),
		"one.csv":        []byte("a"),
		"notes.txt":      []byte("Lars wrote: the quay's \"new\" lamp\x1f is broken.\n"),
		"utf8.txt":       []byte("Ærøskøbing – 3 €\n"),
		"marked.csv":     []byte("\xef\xbb\xbfa,b\n"),
		"windows.txt":    []byte("\xc6r\xf8 \x96 3 \x80\nSk\xe6r\n"),
		"wide.csv":       []byte("\xff\xfea\x00,\x00b\x00\n\x00"),
		"objects.json":   []byte("[\n {\"berth\": 3, \"what\": \"rope \\u00e6\"}\n]\n"),
		"none.json":      []byte("[]"),
		"lines.jsonl":    []byte("{\"berth\": 3}\n{\"berth\": 4}\n"),
		"list.xml":       []byte("<?xml version=\"1.0\"?>\n<berths><berth n='3'/></berths>\n"),
		"page.html":      []byte("<!DOCTYPE html><title>x</title>"),
		"rules.pdf":      []byte("%PDF-1.4\n1 0 obj\nendobj\n%%EOF\n"),
		"quay.png":       picture.Bytes(),
		"rows.csv.gz":    gz(t, strings.Repeat("a,b\n1,2\n", 1000)),
		"archive.zip":    pack(t, map[string]string{"a.csv": strings.Repeat("1,2\n", 500), "b/c.csv": "x"}),
		"written.xlsx":   workbook(t, ""),
		"by hand.xlsx":   book(t, transitional, "worksheets/sheet1.xml", "", ""),
		"unknown.xyz":    []byte("\x00\x01\x02\x03\x04\x05\x06\x07"),
		"scratch.sqlite": append([]byte("SQLite format 3\x00"), make([]byte, 200)...),
	}
	made, err := filepath.Glob("testdata/office/*.*")
	require.NoError(t, err)
	require.Greater(t, len(made), 10)
	for _, name := range made {
		content, err := os.ReadFile(name)
		require.NoError(t, err)
		if !strings.HasPrefix(filepath.Base(name), "locked") {
			files[filepath.Base(name)] = content
		}
	}
	return files
}

// A sound file yields no finding, and its name and content agree.
func TestSoundFiles(t *testing.T) {
	for name, content := range corpus(t) {
		kind, found := inspect(t, content)
		assert.Empty(t, found, name)
		_, borneOut := reading.Claim(name, kind)
		assert.True(t, borneOut, "%s is told as %s", name, kind)
	}
}

func TestInspect(t *testing.T) {
	read := func(name string) []byte {
		content, err := os.ReadFile("testdata/office/" + name)
		require.NoError(t, err)
		return content
	}
	flipped := workbook(t, "")
	flipped[len(flipped)/2] ^= 0x10
	for name, c := range map[string]struct {
		content []byte
		kind    reading.Kind
		code    finding.Code
		says    string
	}{
		"nothing":                  {nil, reading.Nothing, finding.Empty, ""},
		"a NUL":                    {[]byte("a,b\n1,\x002\n"), reading.Text, finding.NULBytes, "offset 6"},
		"a NUL far on":             {[]byte(strings.Repeat("a,b,c,d\n", 20000) + "\x00"), reading.Text, finding.NULBytes, "offset 160000"},
		"two encodings":            {[]byte("Ærø\nSk\xe6r\n"), reading.Text, finding.MixedEncodings, "offset 8 is none of UTF-8, and 2 characters"},
		"two, over the blocks":     {[]byte(strings.Repeat("x", 65535) + "æ" + "\xe6"), reading.Text, finding.MixedEncodings, "offset 65537"},
		"an object left open":      {[]byte(`{"berth": 3, "what": "ro`), reading.JSON, finding.CutShort, "object"},
		"an element left open":     {[]byte("<?xml version='1.0'?><a><b>x"), reading.XML, finding.CutShort, "element"},
		"a locked workbook":        {workbook(t, "skerry"), reading.WorkbookXML, finding.PasswordProtected, "encrypted"},
		"a locked old workbook":    {read("locked.xls"), reading.OldWorkbook, finding.PasswordProtected, "encrypted"},
		"a locked open one":        {read("locked.ods"), reading.ODSWorkbook, finding.PasswordProtected, "encrypted"},
		"a flipped bit in a part":  {flipped, reading.WorkbookXML, finding.Damaged, "the part"},
		"a web page":               {[]byte("\n <HTML><body>"), reading.WebPage, "", ""},
		"XHTML":                    {[]byte("<?xml version='1.0'?>\n<html xmlns='x'></html>"), reading.WebPage, "", ""},
		"a directory and no entry": {[]byte("PK\x05\x06" + strings.Repeat("\x00", 18)), reading.Zip, "", ""},
		"gzip of nothing more":     {gz(t, "x")[:12], reading.Gzip, finding.CutShort, "ends too early"},
		"gzip with a wrong sum":    {append(gz(t, "xyz")[:20], 1, 2, 3, 4, 5, 6, 7, 8), reading.Gzip, finding.Damaged, "checksum"},
	} {
		t.Run(name, func(t *testing.T) {
			kind, found := inspect(t, c.content)
			assert.Equal(t, c.kind.String(), kind.String())
			if c.code == "" {
				assert.Empty(t, found)
				return
			}
			require.NotEmpty(t, found)
			assert.Equal(t, c.code, found[0].Code, found[0].Sentence)
			assert.Contains(t, found[0].Sentence, c.says)
		})
	}
}

// Cut at every tenth of its length, a file with an end of its own is told as
// broken; whatever is cut or flipped, it is told and not tripped over.
func TestDamagedFiles(t *testing.T) {
	ends := []string{".xlsx", ".xls", ".ods", ".zip", ".gz", ".png", ".pdf"}
	random := rand.New(rand.NewPCG(7, 7))
	for name, content := range corpus(t) {
		if len(content) < 40 {
			continue
		}
		for tenth := 1; tenth < 10; tenth++ {
			_, found := inspect(t, content[:len(content)*tenth/10])
			if slices.Contains(ends, filepath.Ext(name)) {
				_, broken := finding.AnyBroken(found)
				assert.True(t, broken, "%s cut to %d tenths", name, tenth)
			}
		}
		for range 50 {
			flipped := bytes.Clone(content)
			for range 1 + random.IntN(4) {
				flipped[random.IntN(len(flipped))] ^= 1 << random.IntN(8)
			}
			inspect(t, flipped)
		}
	}
}

// A compressed file expands so far and no farther, whatever it says of itself.
func TestExpandsTooFar(t *testing.T) {
	reading.ExpandTo(t, 1<<20)
	half, whole := strings.Repeat("x", 600<<10), strings.Repeat("x", 2<<20)
	for name, content := range map[string][]byte{
		"gzip": gz(t, whole), "one member": pack(t, map[string]string{"a": whole}), "several": pack(t, map[string]string{"a": half, "b": half}),
	} {
		_, found := inspect(t, content)
		require.Len(t, found, 1, name)
		assert.Equal(t, finding.ExpandsTooFar, found[0].Code, name)
	}
	for _, content := range [][]byte{gz(t, half), pack(t, map[string]string{"a": half})} {
		_, found := inspect(t, content)
		assert.Empty(t, found)
	}
}

func TestClaim(t *testing.T) {
	for _, c := range []struct {
		name     string
		kind     reading.Kind
		borneOut bool
	}{
		{"a.csv", reading.Text, true}, {"a.CSV", reading.Text, true}, {"a.csv", reading.WebPage, false}, {"a.xls", reading.WebPage, false},
		{"a.xls", reading.WorkbookXML, false}, {"a.txt", reading.JSON, true}, {"a", reading.PDF, true}, {"a.csv", reading.Nothing, true}, {"a.csv", reading.PDF, false},
	} {
		_, borneOut := reading.Claim(c.name, c.kind)
		assert.Equal(t, c.borneOut, borneOut, "%s holding %s", c.name, c.kind)
	}
}

// What fails in reading or keeping the bytes is no finding.
func TestOpenFails(t *testing.T) {
	full := fmt.Errorf("no space left on device")
	_, err := reading.Open(bytes.NewReader(workbook(t, "")), func(io.Reader) (reading.Content, error) { return nil, full })
	assert.ErrorIs(t, err, full)
	noise := make([]byte, 9000)
	for i, random := 0, rand.New(rand.NewPCG(1, 1)); i < len(noise); i++ {
		noise[i] = byte(random.Uint32())
	}
	for _, start := range []string{"a,b\n" + strings.Repeat("x", 5000), string(gz(t, string(noise))[:6000]), "%PDF-1.4\n" + string(noise)} {
		f, err := reading.Open(io.MultiReader(strings.NewReader(start), failing{full}), spool)
		require.NoError(t, err)
		_, err = f.Inspect()
		assert.ErrorIs(t, err, full, "%q", start[:8])
	}
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

func FuzzInspect(f *testing.F) {
	for _, content := range corpus(f) {
		f.Add(content)
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		if len(content) > 1<<20 {
			t.Skip()
		}
		inspect(t, content)
	})
}
