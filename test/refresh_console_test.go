package test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/testkit"
)

// A Monday in the console, on a demo with eight weeks behind it: a report rehearsed
// and refreshed, what moved, the summaries, a gate that waits for a person, the
// schedule, and last week's refresh run again.
func TestRefreshPages(t *testing.T) {
	t.Parallel()
	c := &clock{}
	c.offset.Store(int64(time.Until(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))))
	s := pictured(t, testkit.Options{Clock: c.now})
	require.NoError(t, os.Remove(s.Share))
	s.Must("demo", "-dir", filepath.Dir(s.Share), "-end", "2026-11-20")
	b := openBrowser(t)
	b.do(chromedp.Navigate(s.Link()))
	b.sees(`What runs next\s+.*Weekly sailings\s+daily-loadings, crew-hours, tariff-card`)

	b.do(chromedp.Navigate(s.Base + "/refreshes"))
	b.sees(`Weekly sailings[\s\S]*What they came to[\s\S]*16\s+weekly-sailings\s+delivered\s+local[\s\S]*month-end-fuel`)
	assert.Equal(t, "16", s.Query("SELECT count(*)::text FROM receipts"))
	b.picture("refreshes", 1280, 900, "light")
	b.do(chromedp.EmulateViewport(1280, 900), chromedp.Click(`//main//tr[contains(., "Weekly sailings")]//button[contains(., "Rehearse")]`, chromedp.NodeVisible))
	b.sees(`Rehearsal 17 of weekly-sailings[\s\S]*Nothing was delivered, and no source file was touched`)
	b.sees(`rows\s+[\d,]+\s+\+\d+[\s\S]*daily-loadings.passengers\s+[\d,]+\s+\+[\d,]+`)
	b.sees(`What would move it\s+Against receipt \d+: \d+ in, \d+ same[\s\S]*daily-loadings.terminal\s+Aldersund \+\d+`)
	b.sees(`in\s+loadings/Aldersund/2026/loadings 2026-11-20.csv`)
	b.picture("rehearsal", 1280, 900, "light")
	b.do(chromedp.EmulateViewport(1280, 900))
	assert.NotContains(t, s.Must("refreshes"), "receipt 17")
	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings/table?rehearsal=17"))
	b.sees(`rehearsal 17 · [\d,]+ rows from \d+ files`)

	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings/summary"))
	before := b.sees(`against receipt (\d+)[\s\S]*by terminal[\s\S]*all\s+[\d,]+\s+\+\d+`)
	b.sees(`passengers from and to[\s\S]*Watched values\s+terminal 6 values`)
	b.picture("summary", 1280, 900, "dark")
	b.do(chromedp.EmulateViewport(1280, 900))
	b.click("receipt " + before[1])
	b.sees(`receipt ` + before[1] + ` · against receipt \d+`)

	// The gate is to wait for a person; its words go into the definition.
	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings/refreshing"))
	b.sees(`a picked file cannot be used`)
	b.set(`select[aria-label="a picked file cannot be used"]`, "change", "wait")
	b.set(`textarea`, "change", "0 25 * * mon")
	b.sees(`line \d+: "0 25 \* \* mon" is no cron expression`)
	b.set(`textarea`, "change", "30 5 * * 1-5")
	b.do(chromedp.WaitNotPresent(`.faults`))
	b.picture("gate", 1280, 800, "light")
	b.do(chromedp.EmulateViewport(1280, 900), chromedp.Click(`//main//button[contains(., "Save") and not(@disabled)]`, chromedp.NodeVisible))
	b.sees(`Saved as version 2`)
	text := s.Must("input", "show", "daily-loadings")
	assert.Contains(t, text, "gate:\n  broken: wait\n")
	assert.Contains(t, text, "cron: 30 5 * * 1-5")

	s.Write("loadings/Coldmere/2026/loadings 2026-11-19.csv", "\n")
	s.Must("look")
	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings"))
	b.sees(`Refreshed at 30 5 \* \* 1-5 \(cron\), next`)
	b.sees(`broken 1`)
	b.click("Refresh")
	b.sees(`loadings 2026-11-19.csv cannot be used`)
	b.do(chromedp.Navigate(s.Base + "/"))
	b.sees(`asking\s+a refresh waits for you to decide`)
	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings"))
	b.click("Go on without the file")
	receipt := b.sees(`delivered[\s\S]*receipt (\d+)`)[1]

	b.do(chromedp.Navigate(s.Base + "/receipts/" + receipt))
	b.sees(`passed loadings/Coldmere/2026/loadings 2026-11-19.csv cannot be used[\s\S]*the gate answers leave out`)
	b.click("Replay")
	b.sees(`Run again out of the vault, it comes to the same: [\d,]+ rows, 3 digests compared`)
	b.do(chromedp.Navigate(s.Base + "/settings"))
	b.sees(`What the vault keeps[\s\S]*What would that free`)
	b.set(`.line label:nth-child(2) input`, "input", "2")
	b.click("What would that free?")
	b.sees(`\d+ objects, [\d.]+ [KM]?B on the disk`)
}
