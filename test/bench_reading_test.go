package test

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/client"
	"jorvex/internal/testkit"
)

// From a folder of files to a clean table by what is learnt from one of them:
// learn, look at what it yields, save, refresh, see the rows and what a new
// version changed.
func TestLearnReadAndCompare(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	one := "loadings/Eskvik/loadings 2026-10-05.csv"
	s.Write(one, table("Sailing no;Passengers;Freight (t)", "SK1;10;1,5", "SK2;n/a;2,25", "SK3;30;0,5"))
	s.Write("loadings/Fennay/loadings 2026-10-05.csv", table("sailing no;Passengers;Freight (t);Note", "FN1;7;10,5;late", "FN2;8,5;3;"))
	s.Write("loadings/Coldmere/loadings 2026-10-05.csv", table("Sailing no;Passengers", "CM1;1"))
	s.Write("loadings/Dunvara/loadings 2026-10-05.csv", "")
	bare := "input: loadings\nplace: share\nfolder: loadings\n# whatever the terminal\npick: [\"<terminal>/loadings <day:yyyy-MM-dd>.csv\"]\ngate: {broken: leave_out}\n"
	s.Definition(bare)
	assert.Contains(t, s.Run("rows", "loadings").Err, "jorvex learn loadings")
	assert.Contains(t, s.Run("columns", "loadings").Err, "jorvex learn loadings")
	assert.Contains(t, s.Run("learn", "loadings", "Dunvara/loadings 2026-10-05.csv").Err, "the file is empty")
	assert.Equal(t, client.NotFound, s.Run("learn", "loadings", "nowhere.csv").Code)

	r := s.Run("learn", "loadings", "Eskvik/loadings 2026-10-05.csv")
	require.Zero(t, r.Code, r.Err)
	assert.Equal(t, strings.Replace(bare, "gate:", `read:
  decimal: comma
  null_words: ["n/a"]
columns:
  - {name: terminal, capture: terminal}
  - {name: day, capture: day}
  - {name: sailing_no, headers: ["Sailing no"], required: true}
  - {name: passengers, type: decimal, total: true}
  - {name: freight_t, headers: ["Freight (t)"], type: decimal, total: true}
gate:`, 1), r.Out)
	assert.Contains(t, r.Err, "unsure: freight_t: 1 of 3 other files have no such column")
	assert.Contains(t, r.Err, "Dunvara/loadings 2026-10-05.csv cannot be read so: the file is empty")

	text := strings.Replace(r.Out, `["Sailing no"], required: true`, `["Sailing no"], required: true, key: true`, 1) + "deliver: [{table: loadings}]\n"
	file := filepath.Join(t.TempDir(), "definition.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	rows := s.Must("rows", "loadings", "Eskvik/loadings 2026-10-05.csv", "-by", file)
	assert.Contains(t, rows, "3  Eskvik    2026-10-05  SK2                     2.25")
	columns := s.Must("columns", "loadings", "-by", file)
	assert.Contains(t, columns, "sailing_no *  Sailing no   as sailing no")
	assert.Contains(t, columns, "extra")
	assert.Contains(t, columns, "loadings/Dunvara/loadings 2026-10-05.csv   the file is empty")

	s.Must("input", "save", file, "-over", "1")
	assert.Contains(t, s.Must("refresh", "loadings"), "6 rows from 3 files")
	base := "/inputs/loadings"
	converse(t, s, []exchange{
		{"GET", base + "/table?limit=2", "", 200, []string{`"file":"loadings/Coldmere/loadings 2026-10-05.csv","row":2`, `"rows":6`, `"next":"`}},
		{"GET", base + "/table?where=" + url.QueryEscape(`terminal is "Eskvik" and freight_t above 1`), "", 200, []string{`"row":2,"values":["Eskvik","2026-10-05","SK1","10","1.5"]`, `"row":3,`}},
		{"GET", base + "/table?file=" + url.QueryEscape("Fennay/loadings 2026-10-05.csv"), "", 200, []string{`"items":[{"file":"loadings/Fennay/loadings 2026-10-05.csv","row":2`}},
		{"GET", base + "/table?file=nowhere", "", 404, []string{"jorvex receipt 1 -files"}},
		{"GET", base + "/table?where=x", "", 400, []string{"x"}},
		{"GET", base + "/table?cursor=x", "", 400, []string{"cursor"}},
		{"POST", base + "/rows", `{"limit":3}`, 200, []string{`"path":"loadings/Coldmere/loadings 2026-10-05.csv"`, `"bound":[-1,-1,0,1,-1]`}},
		{"POST", base + "/rows", `{"definition":"input: loadings"}`, 422, []string{`the key \"place\" is missing`}},
		{"POST", base + "/rows", `{"path":"nowhere.csv"}`, 404, []string{"nowhere.csv"}},
		{"POST", base + "/column-map", `{}`, 200, []string{`"fit":"respelt","written":"sailing no"`, `"fit":"unknown"`, `"files_read":4`}},
		{"GET", base + "/file-differences?path=" + url.QueryEscape(one), "", 404, []string{"there is one version"}},
		{"GET", base + "/file-differences?path=" + url.QueryEscape(one) + "&before=" + strings.Repeat("0", 64), "", 404, []string{"version of " + one}},
		{"GET", "/inputs/none/table", "", 404, []string{"none"}},
	})

	s.Write(one, table("Sailing no;Passengers;Freight (T);Berth", "SK1;10;1,5;A", "SK2;25;2,25;B", "SK4;4;4;B"))
	s.Must("look")
	differences := s.Must("differences", "loadings", one)
	assert.Contains(t, differences, "-  Eskvik    2026-10-05  SK2                     2.25\n+  Eskvik    2026-10-05  SK2         25          2.25\n")
	assert.Contains(t, differences, "columns added: Berth\nthe column Freight (t) is now written Freight (T)\n1 row added, 1 gone, 1 altered\n")
	s.Write(one, "")
	s.Must("look")
	assert.Contains(t, s.Must("differences", "loadings", one), "the later version has no rows to compare: the file is empty")
}

// What did not change is not shaped again, and what is kept of it makes the same
// delivery; a kept part that was damaged is made anew.
func TestShapedPartsAreKept(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1.5"))
	s.Write("loadings/Fennay/loadings 2026-10-05.csv", table(header, "FN1,7,0.5"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	kept := func() (list []string) {
		list, err := filepath.Glob(filepath.Join(s.Data, "parts", "??", "*.json"))
		require.NoError(t, err)
		return list
	}
	delivered, err := os.ReadFile(filepath.Join(s.Data, "deliveries", "loadings.csv"))
	require.NoError(t, err)
	assert.Len(t, kept(), 2)
	s.Must("refresh", "loadings")
	again, err := os.ReadFile(filepath.Join(s.Data, "deliveries", "loadings.csv"))
	require.NoError(t, err)
	assert.Equal(t, delivered, again)
	assert.Len(t, kept(), 2)

	for _, known := range kept() {
		require.NoError(t, os.WriteFile(strings.TrimSuffix(known, ".json"), []byte("not what was written"), 0o600))
	}
	assert.Contains(t, s.Must("refresh", "loadings"), "2 rows from 2 files")
	again, err = os.ReadFile(filepath.Join(s.Data, "deliveries", "loadings.csv"))
	require.NoError(t, err)
	assert.Equal(t, delivered, again)

	s.Must("input", "save", saved(t, strings.Replace(loadings, "{name: sailing, required: true}", "{name: sailing, required: true, replace: {SK: Sk}}", 1)), "-over", "1")
	s.Must("refresh", "loadings")
	again, err = os.ReadFile(filepath.Join(s.Data, "deliveries", "loadings.csv"))
	require.NoError(t, err)
	assert.Contains(t, string(again), "Sk1")
	assert.Len(t, kept(), 4, "another layout, other parts")
}

// saved writes a definition to a file.
func saved(t *testing.T, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "definition.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	return file
}

// Whatever page size it is read in, the table has every row once, in the order of
// the files, with the row of the file that each comes from; so it has with a
// condition.
func TestTableInPages(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	var want []string
	for _, terminal := range []string{"Aldersund", "Eskvik", "Fennay"} {
		lines := []string{"sailing,Jan,Feb"}
		for i := range 40 {
			switch {
			case i%7 == 3:
				lines = append(lines, "") // row numbers are those of the file
			case i%5 == 0:
				lines = append(lines, fmt.Sprintf("SK%d,%d,", i, i))
				want = append(want, fmt.Sprintf("%s %d SK%d Jan %d", terminal, i+2, i, i))
			default:
				lines = append(lines, fmt.Sprintf("SK%d,%d,%d", i, i, i+1))
				want = append(want, fmt.Sprintf("%s %d SK%d Jan %d", terminal, i+2, i, i), fmt.Sprintf("%s %d SK%d Feb %d", terminal, i+2, i, i+1))
			}
		}
		s.Write("months/"+terminal+".csv", table(lines...))
	}
	s.Write("months/none.csv", table("sailing,Jan"))
	s.Definition(`input: months
place: share
folder: months
pick: ["<terminal>.csv"]
read: {turn: {headers: [Jan, Feb], name: Month, value: Passengers}}
columns:
  - {name: sailing, required: true}
  - {name: month, headers: [Month], required: true}
  - {name: passengers, headers: [Passengers], type: whole, required: true}
deliver: [{file: months.csv}]
`)
	s.Must("refresh", "months")
	pages := func(limit int, where string) (rows []string, count int) {
		cursor := ""
		for {
			answer, err := s.API.GetTableWithResponse(t.Context(), "months", &api.GetTableParams{Limit: limit, Where: where, Cursor: cursor})
			require.NoError(t, err)
			require.NotNil(t, answer.JSON200, string(answer.Body))
			assert.LessOrEqual(t, len(answer.JSON200.Items), limit)
			for _, r := range answer.JSON200.Items {
				name := strings.TrimSuffix(filepath.Base(r.File), ".csv")
				rows = append(rows, fmt.Sprintf("%s %d %s", name, r.Row, strings.Join(r.Values, " ")))
			}
			count++
			if cursor = answer.JSON200.Next; cursor == "" {
				return rows, count
			}
		}
	}
	for _, limit := range []int{1, 7, 50, 1000} {
		rows, count := pages(limit, "")
		assert.Equal(t, want, rows, "pages of %d", limit)
		assert.LessOrEqual(t, count, len(want)/limit+1)
	}
	rows, _ := pages(5, `month is "Feb" and passengers above 38`)
	assert.Equal(t, []string{"Aldersund 41 SK39 Feb 40", "Eskvik 41 SK39 Feb 40", "Fennay 41 SK39 Feb 40"}, rows)
	rows, _ = pages(5, `sailing is "nothing"`)
	assert.Empty(t, rows)
	// The vault alone is enough for what is not kept any more.
	require.NoError(t, os.RemoveAll(filepath.Join(s.Data, "parts")))
	require.NoError(t, os.MkdirAll(filepath.Join(s.Data, "parts", "incoming"), 0o700))
	rows, _ = pages(1000, "")
	assert.Equal(t, want, rows)
}

// What a file's name and the other files tell of it: a code that no lookup has,
// columns in another order than in the others, and the same rows twice.
func TestFindingsBesideTheBytes(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	path := func(terminal string) string { return "loadings/" + terminal + "/loadings 2026-10-05.csv" }
	for _, terminal := range []string{"AL", "BR", "CO", "DU", "ES", "GA", "HA", "IN"} {
		s.Write(path(terminal), table("sailing,passengers,note", terminal+"1,10,", terminal+"2,20,x"))
	}
	s.Write(path("FE"), table("passengers,sailing,note", "7,FE1,x", "8,FE1,"))
	s.Write(path("XX"), table("note,Sailing,passengers", ",XX1,700", ",XX2,8"))
	s.Definition(`input: loadings
place: share
folder: loadings
pick: ["<code>/loadings <day:yyyy-MM-dd>.csv"]
columns:
  - {name: terminal, capture: code, lookup: {AL: Aldersund, BR: Brannhold, CO: Coldmere, DU: Dunvara, ES: Eskvik, FE: Fennay, GA: Garvik, HA: Halland, IN: Innvik}}
  - {name: year, capture: day, matches: '^\d+', type: whole, most: "2025"}
  - {name: sailing, required: true, key: true}
  - {name: passengers, type: whole, most: "500"}
  - {name: note}
deliver: [{file: loadings.csv}]
`)
	s.Must("look")
	got := found(t, s, "loadings")
	beyond := `out_of_bounds: values lie outside the declared bounds; they are kept: in year, which comes with the file: "2026"`
	assert.Equal(t, []string{beyond}, got[path("AL")])
	assert.ElementsMatch(t, []string{
		beyond,
		"key_doubled: rows have the same key: 1 row; rows 2 and 3: FE1",
		"other_order: the columns stand in another order than in the other files: passengers, sailing, note, and 8 of 10 files have sailing, passengers, note",
	}, got[path("FE")])
	all := strings.Join(got[path("XX")], "\n")
	assert.Contains(t, all, `not_in_lookup: values that the lookup does not have come back blank: in terminal, which comes with the file: "XX"`)
	assert.Contains(t, all, `out_of_bounds: values lie outside the declared bounds; they are kept: in passengers, 1 row, the first is row 2: "700"`)
	assert.Contains(t, all, "column_blank: a column has its header and no value: note, in 2 rows")
	s.Must("refresh", "loadings")
	delivered, err := os.ReadFile(filepath.Join(s.Data, "deliveries", "loadings.csv"))
	require.NoError(t, err)
	assert.Contains(t, string(delivered), "Aldersund,2026,AL1,10,\r\n")
	assert.Contains(t, string(delivered), ",2026,XX1,700,\r\n")
}
