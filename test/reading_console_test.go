package test

import (
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/demo"
	"jorvex/internal/testkit"
)

// The read bench: columns learnt from a file, edited in place with immediate
// effect, undone and saved; then the rows of a delivery, and what a new version of
// a file changed.
func TestReadBench(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{Interval: 200 * time.Millisecond})
	require.NoError(t, demo.Generate(filepath.Dir(s.Share), demo.Options{Seed: 1, End: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)}))
	s.Must("place", "add", demo.Place, s.Share)
	for i, name := range []string{"fuel-uplift", "tariff-card"} {
		file := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(file, []byte(demo.Inputs[[]int{1, 3}[i]]), 0o644))
		s.Must("input", "add", file)
	}
	b := openBrowser(t)
	b.do(chromedp.Navigate(s.Link()))
	b.sees("What needs you")
	b.do(chromedp.Navigate(s.Base + "/inputs/tariff-card/read"))
	b.sees("None is declared, so files are chosen and not read")
	b.click("Learn from this file")
	b.sees(`Nothing was unsure[\s\S]*6 rows below the header, 6 kept`)
	assert.Contains(t, s.Must("input", "show", "tariff-card"), "latest: {of: from}\n")
	assert.NotContains(t, s.Must("input", "show", "tariff-card"), "columns", "nothing is saved")

	// A change is seen at once, and can be undone.
	b.fill("Name of column 2", "route")
	b.sees(`route\s+passenger\s+vehicle`)
	b.set(`select[aria-label="Type of passenger"]`, "change", "date")
	b.sees(`values that are no dates come back blank: in passenger, 6 rows, the first is row 4: "9\.15"[\s\S]*no value`)
	b.press("Undo")
	b.press("Undo")
	b.sees(`from\s+crossing\s+passenger\s+vehicle`)
	b.press("Take vehicle away")
	b.sees("the file has columns that are not declared; they are dropped: \"Vehicle\"")
	b.click("take in")
	b.sees("6 kept")
	b.click("Save")
	b.sees("Saved as version 2")
	assert.Contains(t, s.Must("input", "show", "tariff-card"), "  - {name: passenger, type: decimal, required: true, total: true}\n  - {name: vehicle, headers: [Vehicle]}\n")

	b.do(chromedp.Navigate(s.Base + "/inputs/fuel-uplift/read"))
	b.sees(`15 rows below the header, 11 kept[\s\S]*left out[\s\S]*Columns across the files[\s\S]*21 files[\s\S]*the file is cut short`)
	b.do(chromedp.EmulateViewport(1280, 1400))
	b.picture("read-bench", 1280, 1400, "light")

	s.Must("refresh", "fuel-uplift")
	b.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.Base+"/inputs/fuel-uplift/table"))
	b.sees(`rows from 21 files[\s\S]*2026-05\s+Fulmar\s+Aldersund`)
	b.do(chromedp.Navigate(s.Base + "/inputs/fuel-uplift/table?where=" + url.QueryEscape(`port is "Brannhold" and gas_oil_l above 10000`)))
	b.sees(`Brannhold\s+2026-\d\d-\d\d\s+1\d,\d\d\d`)
	assert.NotContains(t, strings.SplitN(b.text(), "All rows", 2)[1], "Aldersund")
	b.picture("table", 1280, 800, "light")
	b.do(chromedp.Navigate(s.Base + "/inputs/fuel-uplift/table?where=nonsense"))
	b.sees(`nonsense`)

	// What a new version of a file changed stands in its story.
	tallies := "input: tallies\nplace: skerry-share\nfolder: tallies\npick: [\"*.csv\"]\ncolumns: [{name: berth, required: true, key: true}, {name: tonnes, type: decimal}]\ndeliver: [{file: tallies.csv}]\n"
	s.Write("tallies/quay 2.csv", table("Berth,Tonnes", "A1,10", "A2,20", "A3,30"))
	s.Definition(tallies)
	s.Must("refresh", "tallies")
	s.Write("tallies/quay 2.csv", table("berth,Tonnes,Note", "A1,10,", "A2,25,late", "A4,4,"))
	s.Must("look")
	b.do(chromedp.Navigate(s.Base + "/inputs/tallies/story?path=tallies/quay 2.csv"))
	b.sees(`Against the version before\s+1 row added, 1 gone, 1 altered\s+Berth is now written berth · columns added: Note[\s\S]*before\s+A2\s+20\s+after\s+A2\s+25[\s\S]*gone\s+A3[\s\S]*added\s+A4`)

	// A narrow page keeps the tables of files as tables, scrolled sideways.
	b.do(chromedp.EmulateViewport(400, 800), chromedp.Navigate(s.Base+"/inputs/fuel-uplift/table"))
	b.sees(`rows from 21 files`)
	wide, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`document.documentElement.scrollWidth <= 400 && getComputedStyle(document.querySelector('.sideways td')).display === 'table-cell'`))
	require.NoError(t, err)
	assert.True(t, wide)
}
