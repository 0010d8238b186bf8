package client

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jorvex/internal/api"
)

// printed returns what a call prints, a line each, with runs of blanks as one.
func printed(print func(c *Call)) []string {
	var out bytes.Buffer
	print(&Call{Env: Env{Stdout: &out, Stderr: &out}})
	var lines []string
	for _, line := range strings.Split(strings.TrimRight(out.String(), "\n"), "\n") {
		lines = append(lines, strings.Join(strings.Fields(line), " "))
	}
	return lines
}

func TestPrintMoves(t *testing.T) {
	m := api.ReceiptComparison{
		Input: "a", Totals: []api.TotalMove{{Column: "n", Before: "1", After: "3", Moved: "+2"}}, Counts: map[string]int{"in": 1, "same": 1200, "changed": 4},
		Watched: []api.WatchedMove{{Column: "terminal", Value: "Eskvik", RowsAfter: 1}, {Column: "terminal", RowsBefore: 2}, {Column: "terminal", Value: "Fennay", RowsBefore: 5, RowsAfter: 3}},
		Items:   []api.FileMove{{Change: "in", Path: "x.csv", RowsAfter: 1500, Totals: []api.TotalMove{{Column: "n", Moved: "+2000"}}}, {Change: "moved", Path: "z.csv", From: "y.csv"}},
	}
	assert.Equal(t, []string{
		"terminal gained Eskvik, 1 row", "terminal lost (blank), 2 rows", "terminal Fennay: -2 rows", "",
		"change file rows n", "in x.csv +1,500 +2,000", "moved z.csv, from y.csv", "files: 1 in, 4 changed, 1,200 same; the first 2 are shown",
	}, printed(func(c *Call) { c.printMoves(m) }))
	m.Watched = make([]api.WatchedMove, mostWatched+3)
	assert.Contains(t, printed(func(c *Call) { c.printMoves(m) }), "and 3 watched values more; jorvex summary a shows them")
}

func TestHandedOverInWords(t *testing.T) {
	r := api.Receipt{Handover: "move", HandedOver: []api.HandedOver{{Path: "a", State: "done"}, {Path: "b", State: "done"}, {Path: "c", State: "due"}, {Path: "d", State: "failed", Problem: "it was gone"}}}
	assert.Equal(t, []string{"handed over: 2 files moved", "still to be handed over: 1 file; the next refresh or start does", "not handed over: d: it was gone"},
		printed(func(c *Call) { c.handedOver(r) }))
	assert.Equal(t, []string{""}, printed(func(c *Call) { c.handedOver(api.Receipt{}) }))
}

func TestWatchedInWords(t *testing.T) {
	list := []api.WatchedColumn{{Column: "terminal", Beyond: 7, Values: []api.WatchedValue{{Value: "", Rows: 3, RowsBefore: 3}, {Value: "Eskvik", Rows: 4, Change: "gained"}},
		Gone: []api.WatchedValue{{Value: "Fennay", RowsBefore: 9}}}}
	assert.Equal(t, []string{"", "terminal: 2 values, and 7 rows of more values", "value rows since", "(blank) 3", "Eskvik 4 +4 gained", "Fennay 0 -9 lost"},
		printed(func(c *Call) { c.watched(list) }))
}

func TestCrosstabOfTheContract(t *testing.T) {
	table := api.SummaryTable{Rows: []string{"terminal"}, Columns: []string{"day"}, Measures: []string{"sum n"}, Lines: []api.SummaryLine{
		{Rows: []string{}, Columns: []string{}, Values: []string{"12345.5"}}, {Rows: []string{}, Columns: []string{"Mo"}, Values: []string{"12345.5"}},
		{Rows: []string{""}, Columns: []string{}, Values: []string{"12345.5"}}, {Rows: []string{""}, Columns: []string{"Mo"}, Values: []string{"12345.5"}},
	}}
	assert.Equal(t, []string{"terminal Mo all", "all 12,345.5 12,345.5", "(blank) 12,345.5 12,345.5"}, printed(func(c *Call) { c.crosstab(table).print(c.Stdout) }))
	assert.Equal(t, []string{"terminal,Mo,all", "all,12345.5,12345.5", "(blank),12345.5,12345.5"}, printed(func(c *Call) {
		c.csv = true
		assert.NoError(t, c.crosstab(table).printCSV(c.Stdout))
	}))
}

func TestKeptInWords(t *testing.T) {
	assert.Equal(t, "the bytes of all receipts", keptWords(0, 0))
	assert.Equal(t, "the bytes of receipts younger than 400 days, and of the newest", keptWords(400, 0))
	assert.Equal(t, "the bytes of the newest 1 receipt of each input", keptWords(0, 1))
	assert.Equal(t, "the bytes of receipts younger than 1 day, and of the newest 12 receipts of each input", keptWords(1, 12))
}

// The bar is drawn on a terminal alone, over the one before.
func TestProgress(t *testing.T) {
	r := api.Refresh{Stage: "reading", Bytes: 1000, BytesDone: 250, Files: 1200, FilesDone: 300, Rows: 45678, Started: time.Now().Add(-10 * time.Second)}
	var out bytes.Buffer
	c := &Call{Env: Env{Stderr: &out}}
	c.progress(r)
	c.progressEnd()
	assert.Empty(t, out.String())
	c.Terminal = true
	c.progress(r)
	assert.Regexp(t, `^\r\x1b\[Kreading    \[=+ +\] 300 of 1,200 files, 45,678 rows, some 30s left$`, out.String())
	assert.Equal(t, barWidth/4, strings.Count(out.String(), "="))
	for _, quiet := range []api.Refresh{{Stage: "looking"}, {Stage: "delivering", Bytes: 10, BytesDone: 10, Started: r.Started}, {Stage: "reading", Bytes: 100, BytesDone: 99, Started: r.Started}} {
		out.Reset()
		c.progress(quiet)
		assert.NotContains(t, out.String(), "left", quiet.Stage)
	}
	out.Reset()
	c.progressEnd()
	assert.Equal(t, "\r\x1b[K", out.String())
}
