package totals_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"jorvex/internal/core/totals"
)

// shown lays the summary of some rows out, a line each.
func shown(s totals.Summary, rows ...string) (lines []string) {
	tally := totals.NewTally(totals.Plan{Columns: []string{"terminal", "day", "n"}, Numeric: []bool{false, false, true}, Summaries: []totals.Summary{s}})
	for _, row := range rows {
		add(tally, row)
	}
	x := tally.Figures().Summaries[0].Crosstab()
	lines = append(lines, strings.Join(x.Header, "|"))
	for _, row := range x.Rows {
		lines = append(lines, strings.Join(row, "|"))
	}
	return lines
}

func TestCrosstab(t *testing.T) {
	rows := []string{"Eskvik,Mo,1", "Eskvik,Tu,2", "Fennay,Tu,4", ",Mo,8", "Eskvik,,16"}
	sum := []totals.Measure{{Kind: totals.Adds, Column: "n"}}
	for _, c := range []struct {
		name    string
		summary totals.Summary
		rows    []string
		want    []string
	}{
		{"groups down", totals.Summary{Rows: []string{"terminal"}, Measures: sum}, rows,
			[]string{"terminal|sum n", "all|31", "(blank)|8", "Eskvik|19", "Fennay|4"}},
		{"nested, with subtotals", totals.Summary{Rows: []string{"terminal", "day"}, Measures: sum}, rows,
			[]string{"terminal|day|sum n", "all||31", "(blank)|all|8", "(blank)|Mo|8", "Eskvik|all|19", "Eskvik|(blank)|16", "Eskvik|Mo|1", "Eskvik|Tu|2", "Fennay|all|4", "Fennay|Tu|4"}},
		{"across", totals.Summary{Rows: []string{"terminal"}, Columns: []string{"day"}, Measures: sum}, rows,
			[]string{"terminal|(blank)|Mo|Tu|all", "all|16|9|6|31", "(blank)||8||8", "Eskvik|16|1|2|19", "Fennay|||4|4"}},
		{"several measures across", totals.Summary{Rows: []string{"terminal"}, Columns: []string{"day"}, Measures: append([]totals.Measure{{Kind: totals.Count}}, sum...)}, rows[1:3],
			[]string{"terminal|Tu count|Tu sum n|all count|all sum n", "all|2|6|2|6", "Eskvik|1|2|1|2", "Fennay|1|4|1|4"}},
		{"numbers across, in their order", totals.Summary{Rows: []string{"terminal"}, Columns: []string{"n"}, Measures: []totals.Measure{{Kind: totals.Count}}}, []string{"A,Mo,10", "A,Mo,9", "A,Mo,9.0"},
			[]string{"terminal|9|10|all", "all|2|1|3", "A|2|1|3"}},
		{"no rows", totals.Summary{Rows: []string{"terminal"}, Columns: []string{"day"}, Measures: sum}, nil, []string{"terminal|all"}},
	} {
		assert.Equal(t, c.want, shown(c.summary, c.rows...), c.name)
	}
}

func TestFiguresOfTwo(t *testing.T) {
	s := totals.Summary{Name: "by terminal", Rows: []string{"terminal"}, Measures: []totals.Measure{{Kind: totals.Count}}}
	tally := totals.NewTally(totals.Plan{Columns: []string{"terminal"}, Numeric: []bool{false}, Summaries: []totals.Summary{s}})
	tally.Add([][]byte{[]byte("Eskvik")})
	f := tally.Figures()
	lines := f.Lines(s)
	assert.Equal(t, []string{"1"}, lines[totals.Line{Rows: []string{"Eskvik"}}.Key()])
	assert.Equal(t, []string{"1"}, lines[totals.Line{}.Key()])
	s.Measures = []totals.Measure{{Kind: totals.Distinct, Column: "terminal"}}
	assert.Empty(t, f.Lines(s), "it is declared otherwise")
}
