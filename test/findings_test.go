package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/testkit"
)

// found returns what is told of every file of an input: CODE: SENTENCE, by path.
func found(t *testing.T, s *testkit.Service, input string) map[string][]string {
	t.Helper()
	var page api.FilePage
	require.NoError(t, json.Unmarshal([]byte(s.Must("files", input, "-json")), &page))
	got := map[string][]string{}
	for _, f := range page.Items {
		for _, finding := range f.Findings {
			got[f.Path] = append(got[f.Path], finding.Code+": "+finding.Sentence)
		}
	}
	return got
}

// many makes a loadings table of n rows, with different sailings.
func many(n int, seed string) string {
	rows := make([]string, n)
	for i := range rows {
		rows[i] = fmt.Sprintf("%s%d,%d,1.5", seed, i, 10+i%3)
	}
	return table(append([]string{header}, rows...)...)
}

// A file that holds far more or less than its like is told, until it has been
// delivered.
func TestUnusualAmounts(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	day := func(terminal string, n int) string {
		return fmt.Sprintf("loadings/%s/loadings 2026-10-%02d.csv", terminal, n)
	}
	for n := 1; n <= 10; n++ {
		s.Write(day("Eskvik", n), many(20+n%4, fmt.Sprint("E", n, "x")))
		s.Write(day("Fennay", n), many(200+n%4, fmt.Sprint("F", n, "x")))
	}
	s.Definition(loadings)
	assert.Empty(t, found(t, s, "loadings"))
	s.Must("refresh", "loadings")

	s.Write(day("Eskvik", 11), many(2, "short"))
	s.Write(day("Eskvik", 12), many(205, "long"))
	s.Write(day("Fennay", 11), many(195, "fair"))
	s.Must("look")
	got := found(t, s, "loadings")
	assert.Len(t, got, 2)
	require.Len(t, got[day("Eskvik", 11)], 1)
	short := got[day("Eskvik", 11)][0]
	for _, says := range []string{"unusual_amount", "2 rows, and the 11 other files of Eskvik have 20 to 205 (usual is ", "total passengers 21, and", "total freight_t 3, and"} {
		assert.Contains(t, short, says)
	}
	require.Len(t, got[day("Eskvik", 12)], 1)
	assert.Contains(t, got[day("Eskvik", 12)][0], "205 rows, and the 11 other files of Eskvik have 2 to 23")
	assert.Contains(t, s.Must("why", "loadings", day("Eskvik", 11)), "2 rows, and the 11 other files")

	s.Must("refresh", "loadings")
	assert.Contains(t, s.Must("receipt", "2", "-files", "-json"), "unusual_amount", "the receipt keeps it")
	assert.Empty(t, found(t, s, "loadings"), "what was delivered is usual from now on")

	// A file that is rewritten is held against its own past.
	weekly := "loadings/Petrel/loadings 2026-10-01.csv"
	for n := range 9 {
		s.Write(weekly, many(60+n, fmt.Sprint("P", n, "x")))
		s.Must("refresh", "loadings")
	}
	s.Write(weekly, many(600, "P10x"))
	s.Must("look")
	require.Len(t, found(t, s, "loadings")[weekly], 1)
	assert.Contains(t, found(t, s, "loadings")[weekly][0], "600 rows, and its 9 earlier versions have 60 to 68")
}

// What is told of a file beside others, by its name, or by the time.
func TestNotableFiles(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	at := func(n int) string { return fmt.Sprintf("loadings/Eskvik/loadings 2026-10-%02d.csv", n) }
	for n := 1; n <= 6; n++ {
		s.Write(at(n), many(3, fmt.Sprint("E", n, "x")))
	}
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	assert.Empty(t, found(t, s, "loadings"))

	s.Write(at(1), many(4, "again"))
	s.Age(at(1), 100*24*time.Hour)
	s.Write(at(7), strings.ReplaceAll(many(3, "semicolons"), ",", ";"))
	s.Write(at(8), many(3, "E2x"))
	s.Write(at(9), many(3, "future"))
	s.Age(at(9), -time.Hour)
	s.Must("look")
	got := found(t, s, "loadings")
	for path, says := range map[string]string{
		at(1): "older_than_before: the file is older than the one that it replaced: it is of ",
		at(7): `other_delimiter: the cells are apart by another delimiter than in the other files: ";", and 8 of 9 files have ","`,
		at(8): "same_content: the file has the same content as another: " + at(2),
		at(9): "future_time: the file was modified in the future: at ",
	} {
		require.Len(t, got[path], 1, path)
		assert.Contains(t, got[path][0], says)
	}
	assert.Len(t, got, 4)
}

// Whatever an input picks is looked into, columns or not: what is sound is left
// alone, what is not is told with its reason.
func TestContentIsLookedInto(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	office, err := filepath.Glob("../internal/core/reading/testdata/office/*.*")
	require.NoError(t, err)
	want := map[string]string{
		"anything/page.xls":       "wrong_content: the content is not what the name says: it is a web page, and .xls says an .xls workbook",
		"anything/text.xls":       "other_format: the content has another format than the name says: it is text, and .xls says an .xls workbook",
		"anything/rules.csv":      "wrong_content: the content is not what the name says: it is a PDF document, and .csv says text",
		"anything/none.json":      "empty: the file is empty",
		"anything/half.xlsx":      "cut_short: the file is cut short: the directory at its end is missing",
		"anything/locked.xls":     "password_protected: the file is password-protected: its content is encrypted",
		"anything/locked.ods":     "password_protected: the file is password-protected: its parts are encrypted",
		"anything/mixed.txt":      "mixed_encodings: the text is in more than one encoding: the byte at offset 5",
		"anything/values1904.csv": "same_content: the file has the same content as another: anything/values.csv",
		"anything/values.xls":     "",
		"anything/values.xlsx":    "",
		"anything/sheets.ods":     "",
		"anything/windows.txt":    "",
		"anything/objects.json":   "",
	}
	for _, name := range office {
		content, err := os.ReadFile(name)
		require.NoError(t, err)
		s.Write("anything/"+filepath.Base(name), string(content))
		if filepath.Base(name) == "values.xlsx" {
			s.Write("anything/half.xlsx", string(content[:len(content)/2]))
		}
	}
	for name, content := range map[string]string{
		"page.xls": "<!doctype html><title>Sign in</title>", "text.xls": "a\tb\n1\t2\n", "rules.csv": "%PDF-1.4\n%%EOF\n", "none.json": "",
		"mixed.txt": "Ærø\xe6\n", "windows.txt": "Sk\xe6r\n", "objects.json": `{"berth": 3}`,
	} {
		s.Write("anything/"+name, content)
	}
	s.Definition("input: anything\nplace: share\nfolder: anything\npick: [\"<what>\"]\nleave_out: [extension is \"py\"]\n")
	got := found(t, s, "anything")
	for path, says := range want {
		if says == "" {
			assert.Empty(t, got[path], path)
			continue
		}
		if assert.Len(t, got[path], 1, path) {
			assert.True(t, strings.HasPrefix(got[path][0], says), got[path][0])
		}
	}
	broken := 0
	for _, state := range states(t, s, "anything") {
		if state == "picked broken" {
			broken++
		}
	}
	assert.Equal(t, 6, broken)
	told := slices.DeleteFunc(slices.Collect(func(yield func(string) bool) {
		for path := range got {
			if !yield(path) {
				return
			}
		}
	}), func(path string) bool { return want[path] != "" })
	assert.Empty(t, told, "no false alarm")
}

// When nothing new comes for longer than it should, it is told.
func TestChangedWithin(t *testing.T) {
	c := &clock{}
	s := testkit.Start(t, testkit.Options{Clock: c.now})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", many(3, "E"))
	s.Definition(loadings + "changed_within: 10 days\n")
	assert.NotContains(t, s.Must("input", "list", "-json"), "unchanged_long")
	c.offset.Store(int64(11 * 24 * time.Hour))
	s.Must("look")
	assert.Contains(t, s.Must("input", "list", "-json"), "nothing new came for longer than expected: the newest file, loadings/Eskvik/loadings 2026-10-05.csv, is of ")
	s.Write("loadings/Eskvik/loadings 2026-10-06.csv", many(3, "F"))
	s.Age("loadings/Eskvik/loadings 2026-10-06.csv", -11*24*time.Hour)
	s.Must("look")
	assert.NotContains(t, s.Must("input", "list", "-json"), "unchanged_long")
}
