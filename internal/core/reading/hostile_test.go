package reading_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
)

// endless gives a head, then the same text over and over, so much of it in all.
type endless struct {
	head, body string
	left       int64
	at         int
}

func (e *endless) Read(p []byte) (int, error) {
	if e.head != "" {
		n := copy(p, e.head)
		e.head = e.head[n:]
		return n, nil
	}
	if e.left <= 0 {
		return 0, io.EOF
	}
	n := 0
	for n < len(p) {
		copied := copy(p[n:], e.body[e.at:])
		n += copied
		e.at = (e.at + copied) % len(e.body)
	}
	e.left -= int64(n)
	return n, nil
}

// readAll reads the first table of a file to its end.
func readAll(t testing.TB, r io.Reader) (rows int, err error) {
	t.Helper()
	f, err := reading.Open(r, func(r io.Reader) (reading.Content, error) {
		file, err := os.CreateTemp(t.TempDir(), "")
		require.NoError(t, err)
		size, err := io.Copy(file, r)
		return onDisk{file, size}, err
	})
	if err != nil {
		return 0, err
	}
	defer f.Close()
	if f, err = f.Unpacked(""); err != nil {
		return 0, err
	}
	var table reading.Rows
	book, err := f.Book()
	switch {
	case err != nil:
		return 0, err
	case book != nil && len(book.Sheets()) == 0:
		return 0, nil // charts alone
	case book != nil:
		sheet, err := book.Open(0)
		if err != nil {
			return 0, err
		}
		defer sheet.Close()
		table = sheet
	case f.Kind == reading.JSON || f.Kind == reading.XML:
		table, err = f.Records("")
	default:
		table = reading.NewDelimited(f)
	}
	for err == nil {
		if _, err = table.Next(); err == nil {
			rows++
		}
	}
	if err == io.EOF {
		err = nil
	}
	return rows, err
}

type onDisk struct {
	*os.File
	size int64
}

func (d onDisk) Size() int64 { return d.size }

// What is far too large is refused with a finding, and does not fill the memory.
func TestHostileFiles(t *testing.T) {
	const gigabyte = 1 << 30
	a := strings.Repeat("a", 512)
	for name, c := range map[string]struct {
		r    io.Reader
		code finding.Code
	}{
		"a million columns":            {strings.NewReader(strings.Repeat("x,", 1_000_000) + "x\n1\n"), finding.BeyondLimit},
		"a million columns, in quotes": {strings.NewReader(`"x"` + strings.Repeat(",x", 1_000_000) + "\n1\n"), finding.BeyondLimit},
		"a cell of 1 GB":               {&endless{head: "a,b\n1,", body: a, left: gigabyte}, finding.RowTooLong},
		"a cell of 1 GB, in quotes":    {&endless{head: "a,b\n1,\"", body: a, left: gigabyte}, finding.RowTooLong},
		"a JSON value of 1 GB":         {&endless{head: `[{"a": "`, body: a, left: gigabyte / 4}, finding.BeyondLimit},
		"a JSON key of many levels":    {&endless{head: `[{"a": `, body: `{"a":  `, left: 1 << 20}, finding.NotATable},
		"JSON with a million keys":     {strings.NewReader("[{" + keys(1_000_000) + "}]"), finding.NotATable},
		"an XML text of 1 GB":          {&endless{head: "<r><c>", body: a, left: gigabyte / 4}, finding.Damaged},
		"an XML tag of 1 GB":           {&endless{head: "<r><c x='1' ", body: a, left: gigabyte / 4}, finding.Damaged},
		"XML of many levels":           {&endless{head: "<r>", body: "<c> ", left: 1 << 20}, finding.Damaged},
		"XML of many paths":            {strings.NewReader("<r>" + paths(20_000) + "</r>"), finding.NotATable},
		"an entity from outside":       {strings.NewReader(`<?xml version="1.0"?><!DOCTYPE r SYSTEM "http://127.0.0.1:1/x"><r><c>1</c></r>`), finding.Damaged},
		"entities in entities":         {strings.NewReader(`<?xml version="1.0"?><!DOCTYPE r [<!ENTITY a "aa"><!ENTITY b "&a;&a;">]><r><c>&b;</c></r>`), finding.Damaged},
		"an entity that is not known":  {strings.NewReader(`<?xml version="1.0"?><r><c>&b;</c></r>`), finding.Damaged},
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := readAll(t, c.r)
			runtime.ReadMemStats(&after)
			var found finding.Finding
			require.ErrorAs(t, err, &found)
			assert.Equal(t, c.code, found.Code, found.Sentence)
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(1<<30))
		})
	}
}

func keys(n int) string {
	var b strings.Builder
	for i := range n {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, `"k%d":1`, i)
	}
	return b.String()
}

func paths(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "<c%d/>", i)
	}
	return b.String()
}

// libraryTests is the directory of the usual workbook library's own test files, in
// the module cache.
func libraryTests(t testing.TB) string {
	t.Helper()
	out, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/xuri/excelize/v2").Output()
	require.NoError(t, err)
	return filepath.Join(strings.TrimSpace(string(out)), "test")
}

// The test workbooks of the usual library are read, cell by cell as it reads them,
// or refused with a finding.
func TestWorkbooksOfOthers(t *testing.T) {
	list, err := filepath.Glob(filepath.Join(libraryTests(t), "*.xlsx"))
	require.NoError(t, err)
	require.NotEmpty(t, list)
	cells := 0
	for _, path := range list {
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		name := filepath.Base(path)
		f, err := reading.Open(bytes.NewReader(content), spool)
		require.NoError(t, err)
		book, err := f.Book()
		if _, broken := f.Broken(); broken || book == nil || err != nil {
			assert.True(t, strings.HasPrefix(name, "encrypt") || strings.HasPrefix(name, "Bad"), "%s: %v", name, err)
			continue
		}
		theirs, err := excelize.OpenReader(bytes.NewReader(content))
		if err != nil {
			continue // they do not read it either
		}
		for i, sheet := range book.Sheets() {
			rows, err := book.Open(i)
			if err != nil {
				continue // a sheet of a chart
			}
			ours := map[string]string{}
			for {
				row, err := rows.Next()
				if err == io.EOF {
					break
				}
				require.NoError(t, err, "%s, %s", name, sheet.Name)
				for c, cell := range row {
					ours[fmt.Sprint(rows.Row(), " ", c+1)] = string(cell.Text)
				}
			}
			want, err := theirs.GetRows(sheet.Name, excelize.Options{RawCellValue: true})
			require.NoError(t, err)
			for r, row := range want {
				for c, text := range row {
					have := ours[fmt.Sprint(r+1, " ", c+1)]
					_, number := strconv.ParseFloat(text, 64)
					if cells++; number == nil {
						assert.NotEmpty(t, have, "%s, %s, row %d, column %d", name, sheet.Name, r+1, c+1)
					} else if text != "TRUE" && text != "FALSE" {
						assert.Equal(t, strings.TrimSpace(text), strings.TrimSpace(have), "%s, %s, row %d, column %d", name, sheet.Name, r+1, c+1)
					}
				}
			}
		}
	}
	assert.Greater(t, cells, 100)
}
