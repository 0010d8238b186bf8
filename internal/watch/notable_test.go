package watch

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/changes"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/selection"
	"jorvex/internal/records"
)

func TestClaims(t *testing.T) {
	for _, c := range []struct {
		name string
		kind reading.Kind
		code finding.Code
	}{
		{"a.csv", reading.Text, ""}, {"a.xls", reading.OldWorkbook, ""}, {"a.xls", reading.WorkbookXML, finding.OtherFormat}, {"a.xls", reading.Text, finding.OtherFormat},
		{"a.xls", reading.WebPage, finding.WrongContent}, {"a.csv", reading.PDF, finding.WrongContent}, {"a.csv", reading.Zip, finding.OtherFormat},
		{"a.xlsx", reading.Zip, finding.WrongContent}, {"a.pdf", reading.Text, finding.WrongContent}, {"a.dat", reading.PDF, ""}, {"a.csv", "", ""},
	} {
		f, is := claim("folder/"+c.name, c.kind)
		assert.Equal(t, c.code != "", is, "%+v", c)
		assert.Equal(t, c.code, f.Code, "%+v", c)
	}
}

// entered is files of an input, as the judge sees them: TERMINAL DAY ROWS a
// line, and after = what the last delivery had instead.
func entered(t *testing.T, def *definition.Definition, lines string) (*entering, map[string]records.Known) {
	t.Helper()
	e := &entering{view: &View{Definition: def}, set: &set{}, base: map[string]changes.Entry{}}
	checked := map[string]records.Known{}
	for line := range strings.Lines(strings.TrimSpace(lines)) {
		now, before, had := strings.Cut(strings.TrimSpace(line), " = ")
		var terminal, day, delimiter string
		var rows int64
		n, _ := fmt.Sscan(now, &terminal, &day, &rows, &delimiter)
		require.GreaterOrEqual(t, n, 3, line)
		path := terminal + "/loadings " + day + ".csv"
		digest := strings.ReplaceAll(now, " ", "")
		checked[digest] = records.Known{Rows: rows, Kind: "text", Delimiter: delimiter, Totals: map[string]string{"passengers": fmt.Sprint(10 * rows)}}
		e.set.files = append(e.set.files, selection.File{Path: path, Size: 100 * rows, Modified: 1, Digest: digest})
		if had && before == "same" {
			before = digest
		}
		if had {
			e.base[path] = changes.Entry{Path: path, Digest: before, Modified: 1}
		}
	}
	e.result = selection.New(def, selection.Surroundings{AsOf: time.Now()}).Judge(e.set.files)
	require.Len(t, e.result.Picked, len(e.set.files))
	return e, checked
}

func TestAmounts(t *testing.T) {
	const columns = "columns: [{name: sailing}, {name: passengers, type: whole, total: true}]\n"
	group := func(terminal string, rows int, days int, mark string) (lines string) {
		for day := range days {
			lines += fmt.Sprintf("%s 2026-10-%02d %d%s\n", terminal, day+1, rows+day%3, mark)
		}
		return lines
	}
	for name, c := range map[string]struct {
		columns, files string
		own            map[string][]string
		told           string // what is told of the last file
	}{
		"too few to tell":              {columns, group("Eskvik", 20, 7, " = same") + "Eskvik 2026-11-01 900", nil, ""},
		"like the others":              {columns, group("Eskvik", 20, 9, " = same") + "Eskvik 2026-11-01 23", nil, ""},
		"far more than its group":      {columns, group("Eskvik", 20, 9, " = same") + group("Fennay", 900, 9, " = same") + "Eskvik 2026-11-01 900", nil, "900 rows, and the 9 other files of Eskvik have 20 to 22"},
		"a group of its own, all else": {columns, group("Eskvik", 20, 9, " = same") + "Dunvara 2026-11-01 1", nil, "1 row, and the 9 other files picked have 20 to 22"},
		"delivered, so it is usual":    {columns, group("Eskvik", 20, 9, " = same") + "Eskvik 2026-11-01 900 = same", nil, ""},
		"changed since it was":         {columns, group("Eskvik", 20, 9, " = same") + "Eskvik 2026-11-01 900 = other", nil, "900 rows"},
		"totals beside rows":           {columns, group("Eskvik", 20, 9, " = same") + "Eskvik 2026-11-01 2", nil, "total passengers 20, and the 9 other files of Eskvik have 200 to 220"},
		"bytes without columns":        {"", group("Eskvik", 20, 9, " = same") + "Eskvik 2026-11-01 900", nil, "90000 bytes, and the 9 other files of Eskvik have 2000 to 2200"},
		"its own past comes first": {columns, group("Eskvik", 20, 9, " = same") + "Eskvik 2026-11-01 900 = x1",
			map[string][]string{"Eskvik/loadings 2026-11-01.csv": {"x1", "x2", "x3", "x4", "x5", "x6", "x7", "x8"}}, ""},
		"many are compared at once": {columns, manyLines(150) + "Eskvik 2026-11-01 900", nil, "900 rows, and the 151 files of Eskvik have 20 to 900"},
	} {
		t.Run(name, func(t *testing.T) {
			def, err := definition.Parse("input: a\nplace: b\npick: [\"<terminal>/loadings <day:yyyy-MM-dd>.csv\"]\n"+c.columns, time.Now())
			require.NoError(t, err)
			e, checked := entered(t, def, c.files)
			for i := range 8 {
				checked[fmt.Sprint("x", i+1)] = records.Known{Rows: 890 + int64(i), Totals: map[string]string{"passengers": "9000"}}
			}
			n := &notable{e: e, checked: checked, own: c.own, now: time.Now()}
			found := n.find()
			last := len(e.set.files) - 1
			for i, list := range found {
				assert.Equal(t, last, i, "%+v", list)
			}
			if c.told == "" {
				assert.Empty(t, found[last])
				return
			}
			require.Len(t, found[last], 1)
			assert.Equal(t, finding.UnusualAmount, found[last][0].Code)
			assert.Contains(t, found[last][0].Sentence, c.told)
		})
	}
}

// manyLines is files of one terminal on as many days.
func manyLines(n int) (lines string) {
	day := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for i := range n {
		lines += fmt.Sprintf("Eskvik %s %d = same\n", day.AddDate(0, 0, i).Format(time.DateOnly), 20+i%3)
	}
	return lines
}

func TestDelimiters(t *testing.T) {
	def, err := definition.Parse("input: a\nplace: b\npick: [\"<terminal>/loadings <day:yyyy-MM-dd>.csv\"]\n", time.Now())
	require.NoError(t, err)
	for files, told := range map[string]int{
		"A 2026-10-01 1 ,\nA 2026-10-02 2 ,\nA 2026-10-03 3 ,\nA 2026-10-04 4 ,\nA 2026-10-05 5 ;": 1,
		"A 2026-10-01 1 ,\nA 2026-10-02 2 ,\nA 2026-10-03 3 ,\nA 2026-10-04 4 ;\nA 2026-10-05 5 ;": 0, // no four in five
		"A 2026-10-01 1 ,\nA 2026-10-02 2 ,\nA 2026-10-03 3 ,\nA 2026-10-04 4 ;":                   0, // too few
		"A 2026-10-01 1 ,\nA 2026-10-02 2 ,\nA 2026-10-03 3 ,\nA 2026-10-04 4 ,\nA 2026-10-05 5 ,": 0,
	} {
		e, checked := entered(t, def, files)
		found := (&notable{e: e, checked: checked, now: time.Now()}).find()
		assert.Len(t, found, told, files)
		for _, list := range found {
			assert.Equal(t, finding.OtherDelimiter, list[0].Code)
		}
	}
}

func TestUnchangedLong(t *testing.T) {
	def, err := definition.Parse("input: a\nplace: b\npick: [\"<what>.csv\"]\nchanged_within: 3 days\n", time.Now())
	require.NoError(t, err)
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	files := []selection.File{{Path: "a.csv", Modified: now.AddDate(0, 0, -9).UnixNano()}, {Path: "b.csv", Modified: now.AddDate(0, 0, -2).UnixNano()}}
	r := selection.New(def, selection.Surroundings{AsOf: now}).Judge(files)
	list, due := unchangedLong(def, r, files, now)
	assert.Empty(t, list)
	assert.Equal(t, now.AddDate(0, 0, 1).Add(time.Second), due, "judged again when it may have to be told")
	list, due = unchangedLong(def, r, files, due)
	require.Len(t, list, 1)
	assert.Contains(t, list[0].Sentence, "b.csv, is of 18 November 2026; something is expected every 3 days")
	assert.True(t, due.IsZero())
}
