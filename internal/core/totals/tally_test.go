package totals_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/totals"
)

func plan() totals.Plan {
	return totals.Plan{
		Columns: []string{"terminal", "day", "n"}, Numeric: []bool{false, false, true}, Watched: []string{"Terminal", "n"},
		Summaries: []totals.Summary{{
			Name: "all measures", Rows: []string{"terminal"}, Columns: []string{"day"},
			Measures: []totals.Measure{{totals.Count, ""}, {totals.Count, "n"}, {totals.Adds, "n"}, {totals.Mean, "n"}, {totals.Least, "n"}, {totals.Most, "n"}, {totals.Distinct, "n"}},
		}},
	}
}

func add(t *totals.Tally, row string) {
	var values [][]byte
	for _, v := range strings.Split(row, ",") {
		values = append(values, []byte(v))
	}
	t.Add(values)
}

func TestTally(t *testing.T) {
	tally := totals.NewTally(plan())
	for _, row := range []string{"Eskvik,Mo,9", "Eskvik,Mo,10", "Eskvik,Tu,", "Fennay,Mo,-1.5", "Fennay,Mo,-1.5", ",Tu,100"} {
		add(tally, row)
	}
	f := tally.Figures()
	var values []string
	for _, w := range f.Watched {
		for _, v := range w.Values {
			values = append(values, fmt.Sprintf("%s %s:%d", w.Column, v.Value, v.Rows))
		}
	}
	assert.Equal(t, []string{"Terminal :1", "Terminal Eskvik:3", "Terminal Fennay:2", "n :1", "n -1.5:2", "n 9:1", "n 10:1", "n 100:1"}, values, "numbers in the order of numbers")
	var lines []string
	for _, l := range f.Summaries[0].Lines {
		lines = append(lines, strings.Join(l.Rows, "")+"/"+strings.Join(l.Columns, "")+" "+strings.Join(l.Values, " "))
	}
	assert.Equal(t, []string{
		"/ 6 5 116.0 23.200 -1.5 100 4",
		"/Mo 4 4 16.0 4.000 -1.5 10 3",
		"/Tu 2 1 100 100.00 100 100 1",
		"/ 1 1 100 100.00 100 100 1", // the blank terminal
		"/Tu 1 1 100 100.00 100 100 1",
		"Eskvik/ 3 2 19 9.50 9 10 2",
		"Eskvik/Mo 2 2 19 9.50 9 10 2",
		"Eskvik/Tu 1 0     0",
		"Fennay/ 2 2 -3.0 -1.500 -1.5 -1.5 1",
		"Fennay/Mo 2 2 -3.0 -1.500 -1.5 -1.5 1",
	}, lines, "subtotals are told of all rows, not of the groups' figures")
}

// However rows are spread over files, kept and merged, the figures are the same.
func TestTallyMerges(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	whole := totals.NewTally(plan())
	parts := make([]*totals.Tally, 5)
	for i := range parts {
		parts[i] = totals.NewTally(plan())
	}
	for range 2000 {
		row := fmt.Sprintf("T%d,D%d,%d.%d", random.IntN(4), random.IntN(3), random.IntN(50)-25, random.IntN(100))
		add(whole, row)
		add(parts[random.IntN(len(parts))], row)
	}
	merged := totals.NewTally(plan())
	for _, p := range parts {
		text, err := json.Marshal(p)
		require.NoError(t, err)
		var kept totals.Tally
		require.NoError(t, json.Unmarshal(text, &kept))
		kept.Of(plan())
		merged.Merge(&kept)
	}
	assert.Equal(t, whole.Figures(), merged.Figures())
}

func TestTallyIsBounded(t *testing.T) {
	tally := totals.NewTally(plan())
	for i := range totals.MostValues + 25 {
		add(tally, fmt.Sprintf("T%d,Mo,1", i))
	}
	f := tally.Figures()
	assert.Len(t, f.Watched[0].Values, totals.MostValues)
	assert.Equal(t, int64(25), f.Watched[0].Beyond)
	assert.Zero(t, f.Summaries[0].Beyond)
}

func TestCompareWatched(t *testing.T) {
	figures := func(rows ...string) totals.Figures {
		tally := totals.NewTally(plan())
		for _, row := range rows {
			add(tally, row)
		}
		return tally.Figures()
	}
	moves := totals.CompareWatched(figures("A,Mo,1", "B,Mo,1", "C,Mo,1"), figures("A,Mo,1", "A,Mo,1", "C,Mo,1", "D,Mo,1"))
	assert.Equal(t, []totals.WatchedMove{{"Terminal", "D", 0, 1}, {"Terminal", "B", 1, 0}, {"Terminal", "A", 1, 2}, {"n", "1", 3, 4}}, moves)
	assert.Empty(t, totals.CompareWatched(totals.Figures{}, figures("A,Mo,1")), "what nobody watched before is not told")
}
