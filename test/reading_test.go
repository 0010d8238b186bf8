package test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/testkit"
)

// The same table as .xlsx, .ods and .xls, written by a spreadsheet program, comes
// together as one typed table, each file with the same rows.
func TestWorkbooksOfAllForms(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	forms := []string{"values.xlsx", "values.ods", "values.xls", "values1904.xlsx", "values1904.xls"}
	for _, name := range forms {
		content, err := os.ReadFile("../internal/core/reading/testdata/office/" + name)
		require.NoError(t, err)
		s.Write("uplift/"+name, string(content))
	}
	s.Definition(`input: uplift
place: share
folder: uplift
pick: ["<made>"]
columns:
  - {name: file, file: name}
  - {name: vessel, required: true}
  - {name: day, type: date, required: true}
  - {name: at, headers: [Time], type: time}
  - {name: bunkered_at, headers: [Bunkered at], type: timestamp}
  - {name: litres, type: decimal, total: true}
  - {name: share, type: percent}
  - {name: price, type: money}
  - {name: paid, type: yes_no}
  - {name: note}
  - {name: doubled, headers: [Sum], type: decimal}
  - {name: bad, type: decimal}
deliver: [{table: uplift}, {file: uplift.csv}]
`)
	assert.Contains(t, s.Must("refresh", "uplift"), "60 rows from 5 files")
	assert.Equal(t, "5", s.Query("SELECT count(*)::text FROM (SELECT file FROM delivered.uplift GROUP BY file HAVING count(*) = 12) f"))
	assert.Equal(t, "12", s.Query(`SELECT count(*)::text FROM (SELECT vessel, day, at, bunkered_at, litres, share, price, paid, note, doubled
		FROM delivered.uplift GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9, 10 HAVING count(*) = 5) f`), "every row is the same in every form")
	for expression, want := range map[string]string{
		"min(day)": "2026-11-01", "max(day)": "2026-11-12", "max(at)": "12:00:00", "max(bunkered_at)": "2026-11-12 06:00:00", "sum(litres)": "64125.0",
		"max(share)": "0.6", "sum(price)": "172.50", "count(*) FILTER (WHERE paid)": "30", "max(note) FILTER (WHERE day = '2026-11-04')": "Ærø – 2nd\nline", "max(doubled)": "2275",
	} {
		assert.Equal(t, want, s.Query("SELECT ("+expression+")::text FROM delivered.uplift"), expression)
	}
	for path, list := range found(t, s, "uplift") {
		assert.Contains(t, strings.Join(list, "\n"), `error_values: cells with an error or without a stored value come back blank: in bad, 2 rows, the first is row 4: "#DIV/0!", "#N/A"`, path)
		assert.NotContains(t, strings.Join(list, "\n"), "not_", path)
	}
	assert.Contains(t, s.Must("rows", "uplift", "values.xls", "-raw", "-most", "3"), "above the header  Fuel uplift")
}

// One layout for files that people make in their own ways: what differs is taken
// where it can be, and told.
func TestFilesMadeInDifferentWays(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	for name, content := range map[string]string{
		"a plain":     "Port;Day;Litres\nEskvik;2026-10-05;1.000,5\n",
		"b titled":    "Fuel uplift;;\nOctober;;\n;;\nPort;Day;Litres\nEskvik;05.10.2026;2\n;06.10.2026;3\nSum Eskvik;;5\n",
		"c respelt":   "PORT; day ;Litres;Remarks\nFennay;2026-10-05;4;none\n",
		"d repeated":  "Port;Day;Litres\nFennay;2026-10-05;5\nPort;Day;Litres\nFennay;2026-10-06;6\n",
		"e two rows":  ";;Fuel\nPort;Day;Litres\nDunvara;2026-10-05;7\n",
		"f odd dates": "Port;Day;Litres\nDunvara;31.02.2026;8\nDunvara;soon;9,x\n",
	} {
		s.Write("fuel/"+name+".csv", content)
	}
	s.Definition(`input: fuel
place: share
folder: fuel
pick: ["<what>.csv"]
read: {decimal: comma, thousands: point, dates: dd.MM.yyyy, carry_down: port, leave_out: 'port starts with "Sum"'}
columns:
  - {name: what, capture: what}
  - {name: port, headers: [Port], required: true}
  - {name: day, type: date, required: true}
  - {name: litres, headers: [Litres, Fuel Litres], type: decimal, required: true, total: true}
deliver: [{file: fuel.csv}]
`)
	assert.Contains(t, s.Must("refresh", "fuel"), "9 rows from 6 files")
	assert.Equal(t, strings.ReplaceAll(`what,port,day,litres
a plain,Eskvik,2026-10-05,1000.5
b titled,Eskvik,2026-10-05,2
b titled,Eskvik,2026-10-06,3
c respelt,Fennay,2026-10-05,4
d repeated,Fennay,2026-10-05,5
d repeated,Fennay,2026-10-06,6
e two rows,Dunvara,2026-10-05,7
f odd dates,Dunvara,,8
f odd dates,Dunvara,,
`, "\n", "\r\n"), s.Delivered("fuel.csv"))
	codes := map[string]string{}
	for path, list := range found(t, s, "fuel") {
		var names []string
		for _, f := range list {
			code, _, _ := strings.Cut(f, ":")
			names = append(names, code)
		}
		codes[strings.TrimSuffix(strings.TrimPrefix(path, "fuel/"), ".csv")] = fmt.Sprint(names)
	}
	assert.Equal(t, map[string]string{
		"c respelt": "[header_respelt extra_columns]", "d repeated": "[header_repeated]", "f odd dates": "[not_date not_decimal]",
	}, codes)
}
