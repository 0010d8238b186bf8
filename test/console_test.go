package test

import (
	"context"
	"fmt"
	"html"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/demo"
	"jorvex/internal/testkit"
)

// browser is a page of a headless Chromium.
type browser struct {
	t   *testing.T
	ctx context.Context
	// pictures is the directory for screenshots, empty for none.
	pictures string
}

func openBrowser(t *testing.T) *browser {
	t.Helper()
	flags := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.Flag("disable-quic", true), chromedp.Flag("no-first-run", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.UserDataDir(t.TempDir()), chromedp.WindowSize(1280, 800))
	allocator, cancel := chromedp.NewExecAllocator(t.Context(), flags...)
	t.Cleanup(cancel)
	ctx, cancelPage := chromedp.NewContext(allocator)
	t.Cleanup(cancelPage)
	b := &browser{t: t, ctx: ctx, pictures: os.Getenv("JORVEX_SCREENSHOTS")}
	require.NoError(t, chromedp.Listen(ctx, func(event any) {
		if e, ok := event.(*runtime.EventExceptionThrown); ok {
			t.Errorf("the page threw: %+v", e.ExceptionDetails)
		}
	}), "Chromium did not start")
	return b
}

// do runs steps, which may take two minutes in all.
func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 2*time.Minute)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		b.t.Fatalf("in the browser: %v; the page says:\n%s", err, b.text())
	}
}

func (b *browser) text() string {
	ctx, cancel := context.WithTimeout(b.ctx, 5*time.Second)
	defer cancel()
	text, _ := chromedp.Run(ctx, chromedp.Evaluate[string]("document.body.innerText"))
	return text
}

// sees waits until the page matches a pattern, for forty seconds and what
// asking takes, and returns the match's groups.
func (b *browser) sees(pattern string) []string {
	b.t.Helper()
	expression := regexp.MustCompile(pattern)
	for end := time.Now().Add(40 * time.Second); time.Now().Before(end); {
		if found := expression.FindStringSubmatch(b.text()); found != nil {
			return found
		}
		time.Sleep(50 * time.Millisecond)
	}
	b.t.Fatalf("the page never said %q; it says:\n%s", pattern, b.text())
	return nil
}

// click presses the link or button with that text.
func (b *browser) click(text string) {
	b.t.Helper()
	b.still()
	b.do(chromedp.Click(fmt.Sprintf(`//main//*[self::a or self::button][contains(normalize-space(.), %q) and not(@disabled)]`, text), chromedp.NodeVisible))
}

// still waits until nothing moves on the page, for a click goes to where its
// target was when it was sought.
func (b *browser) still() {
	b.t.Helper()
	last := ""
	for range 50 {
		now, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`[...document.querySelectorAll('main *')].map((e) => Math.round(e.getBoundingClientRect().top)).join()`))
		require.NoError(b.t, err)
		if now == last {
			return
		}
		last = now
		b.do(chromedp.Sleep(60 * time.Millisecond))
	}
}

// picture takes a screenshot, if any are wanted.
func (b *browser) picture(name string, width, height int64, scheme string) {
	b.t.Helper()
	if b.pictures == "" {
		return
	}
	_, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}},
	})
	require.NoError(b.t, err)
	b.do(chromedp.EmulateViewport(width, height))
	_, err = chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.activeElement?.blur(); window.scrollTo(0, 0); ''"))
	require.NoError(b.t, err)
	b.do(chromedp.Sleep(300 * time.Millisecond))
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	require.NoError(b.t, err)
	require.NoError(b.t, os.MkdirAll(b.pictures, 0o755))
	require.NoError(b.t, os.WriteFile(filepath.Join(b.pictures, name+".png"), png, 0o644))
}

// terminal draws what commands print, as a picture.
func (b *browser) terminal(name string, s *testkit.Service, commands ...string) {
	b.t.Helper()
	if b.pictures == "" {
		return
	}
	var text strings.Builder
	for _, command := range commands {
		var args []string
		for _, quoted := range regexp.MustCompile(`"[^"]*"|\S+`).FindAllString(command, -1) {
			args = append(args, strings.Trim(quoted, `"`))
		}
		out := strings.ReplaceAll(s.Must(args...), s.Data, "/var/lib/jorvex")
		if lines := strings.SplitAfter(out, "\n"); len(lines) > 26 {
			out = strings.Join(lines[:26], "") + "…\n"
		}
		fmt.Fprintf(&text, "<b>$ jorvex %s</b>\n%s\n", html.EscapeString(command), html.EscapeString(out))
	}
	page := `<!doctype html><body style="margin:0;background:#10171d;color:#dfe6ea;font:13px/1.45 'DejaVu Sans Mono'"><pre style="margin:16px;white-space:pre">` + text.String()
	file := filepath.Join(b.t.TempDir(), "terminal.html")
	require.NoError(b.t, os.WriteFile(file, []byte(page), 0o644))
	b.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate("file://"+file))
	b.picture(name, 1280, 800, "dark")
}

// pictured starts a service whose paths may stand in pictures.
func pictured(t *testing.T, o testkit.Options) *testkit.Service {
	t.Helper()
	if os.Getenv("JORVEX_SCREENSHOTS") != "" {
		o.Data, o.Share, o.URL = "/tmp/jorvex", "/tmp/jorvex/demo/share", testkit.Database(t)
		require.NoError(t, os.MkdirAll(o.Share, 0o755))
		t.Cleanup(func() { assert.NoError(t, os.RemoveAll(o.Data)) })
	}
	return testkit.Start(t, o)
}

// The story in the console: a roster with reasons, a refresh, a file dropped
// and seen without reloading, a refresh, a receipt that moved by that file.
func TestConsole(t *testing.T) {
	t.Parallel()
	s := pictured(t, testkit.Options{Interval: 200 * time.Millisecond})
	require.NoError(t, demo.Generate(filepath.Dir(s.Share), demo.Options{Seed: 1, End: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)}))
	s.Must("place", "add", demo.Place, s.Share)
	definition := filepath.Join(t.TempDir(), "daily-loadings.yaml")
	require.NoError(t, os.WriteFile(definition, []byte(demo.Inputs[0]), 0o644))
	s.Must("input", "add", definition)

	b := openBrowser(t)
	b.do(chromedp.Navigate(s.Base))
	b.sees("This browser is not signed in")
	b.do(chromedp.Navigate(s.Link()))
	b.sees(`What needs you[\s\S]*1 expected file there twice\s*Daily loadings by terminal`)
	b.do(chromedp.Navigate(s.Base + "/inputs"))
	b.sees(`Daily loadings by terminal\s+skerry-share\s+238\s+9\s+238\s+0\s+0\s+0\s+none yet`)
	b.click("Daily loadings by terminal")
	b.sees(`all files 247\s*picked 238\s*left out 9\s*near misses 2\s*new 238`)
	b.sees(`Nearly picked, spelling: "loadngs" where the pattern has "loadings"\s*take in 1 file`)
	b.click("left out")
	b.sees(`loadings/Eskvik/2026/loadings 2026-11-17 \(1\).csv\s+652 B\s+.*\s+no pattern matches`)
	b.sees(`~\$loadings 2026-11-20.csv\s+6 B\s+.*\s+lock file of an office program`)
	b.click("(1).csv")
	b.sees(`So it is\s*left out: no pattern matches`)
	b.click("all files")

	b.click("Refresh")
	b.sees(`delivered .* [\d,]+ rows, 238 files read · receipt 1`)
	b.sees(`same 238`)

	late := "loadings/Fennay/2026/loadings 2026-11-19.csv"
	content, err := os.ReadFile(filepath.Join(filepath.Dir(s.Share), demo.Late, late))
	require.NoError(t, err)
	s.Write(late, string(content))
	b.sees(`new 1\s`)
	b.click("new 1")
	b.sees(`picked\s+new\s+loadings/Fennay/2026/loadings 2026-11-19.csv`)
	b.click("all files")
	b.sees(`same\s+loadings/Aldersund/2026/loadings 2026-09-28.csv`)
	b.picture("input", 1280, 800, "light")
	b.do(chromedp.EmulateViewport(1280, 800))
	b.click("Refresh")
	b.sees(`239 files read · receipt 2`)
	b.click("receipt 2")
	moved := b.sees(`rows\s+([\d,]+)\s+\+(\d+)\s+passengers\s+[\d,]+\s+\+[\d,]+`)
	assert.Equal(t, fmt.Sprint(strings.Count(string(content), "\n")-1), moved[2], "rows move by exactly the file's")
	b.sees(`What moved it\s+Against receipt 1: 1 in, 238 same[\s\S]*in\s+loadings/Fennay/2026/loadings 2026-11-19.csv\s+\+` + moved[2] + `\s`)
	b.sees(`239 files fed it`)
	b.sees(`Left out: 7 match no pattern, 2 scratch files\.`)
	b.picture("receipt", 1280, 800, "light")

	// What is broken stops the refresh, and is told where the analyst looks.
	b.do(chromedp.EmulateViewport(1280, 800))
	s.Write("loadings/Fennay/2026/loadings 2026-11-20.csv", "<html>Please sign in</html>")
	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings?state=broken"))
	b.sees(`broken\s+loadings/Fennay/2026/loadings 2026-11-20.csv\s[\s\S]*the content is no table that can be read: it is a web page`)
	b.click("Refresh")
	b.sees(`loadings 2026-11-20.csv cannot be used[\s\S]*What would let it pass: ask the sender for the data as delimited text`)
	b.picture("input-stopped", 1280, 800, "light")
	b.click("all files")
	b.do(chromedp.SendKeys(`//main//input`, "coldmere"))
	b.sees(`Coldmere/2026/loadings 2026-11-12.csv[\s\S]*"sailing" was taken as "Sailing"`)

	// A share that goes away is told, and nothing is called removed.
	require.NoError(t, os.Rename(s.Share, s.Share+"-away"))
	b.sees(`skerry-share cannot be reached: it is not there`)
	b.sees(`held back 240`)
	require.NoError(t, os.Rename(s.Share+"-away", s.Share))
	b.sees(`all files 249\s*picked 240\s*left out 9\s*near misses 2\s*broken 1\s*same 239`)
	b.do(chromedp.Navigate(s.Base + "/inputs"))
	b.sees(`Daily loadings by terminal`)
	b.picture("inputs", 1280, 800, "light")

	require.NoError(t, os.Remove(filepath.Join(s.Share, "loadings/Fennay/2026/loadings 2026-11-20.csv")))
	s.Must("look")
	b.terminal("terminal-files", s, "files daily-loadings -verdict left_out", `why daily-loadings "Eskvik/2026/loadings 2026-11-17 (1).csv"`)
	b.terminal("terminal-refresh", s, "refresh daily-loadings", "refreshes", "receipt 3", "verify")
}

// fill puts a text into the field with that label.
func (b *browser) fill(label, text string) {
	b.t.Helper()
	b.set(fmt.Sprintf(`[aria-label=%q]`, label), "input", text)
}

// set gives a field a value, as typing or choosing it does.
func (b *browser) set(selector, event, value string) {
	b.t.Helper()
	done, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf(
		`(() => { const f = document.querySelector(%q); f.value = %q; return f.dispatchEvent(new Event(%q)) })()`, selector, value, event)))
	require.NoError(b.t, err)
	require.True(b.t, done)
}

// press presses the button with that label.
func (b *browser) press(label string) {
	b.t.Helper()
	b.still()
	b.do(chromedp.Click(fmt.Sprintf(`//main//*[@aria-label=%q and not(@disabled)]`, label), chromedp.NodeVisible))
}

// Choosing in the console, without a word of YAML: a near miss taken in, a
// pattern built from an example, a condition, a window, undo and redo, the text
// in step; saving, a second editor told, versions compared and restored, holds.
func TestPickBench(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{Interval: 200 * time.Millisecond})
	end := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	require.NoError(t, demo.Generate(filepath.Dir(s.Share), demo.Options{Seed: 1, End: end}))
	s.Must("demo", "-dir", filepath.Dir(s.Share))
	b := openBrowser(t)
	b.do(chromedp.Navigate(s.Link()))
	b.sees(`Tariff card in force`)
	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings"))
	b.click("take in 1 file")
	b.sees(`239 of 247 files picked · 1 gained, 0 lost against version 1`)
	b.sees(`Brannhold/2026/loadngs 2026-11-09.csv`)
	b.picture("pick-bench", 1280, 900, "light")
	b.picture("pick-bench-narrow", 400, 900, "dark")
	b.do(chromedp.EmulateViewport(1280, 900))
	b.press("Undo")
	b.sees(`238 of 247 files picked\s`)
	b.press("Redo")
	b.sees(`239 of 247 files picked · 1 gained`)

	// A parameter, and a date made of two captures.
	b.click("Add a parameter")
	b.sees(`\$period`)
	b.fill("Name of the date", "sailed")
	b.fill("Captures it is made of", "year, day")
	b.click("Join")
	b.sees(`sailed is year and day together`)
	b.sees(`239 of 247 files picked · 1 gained`)
	b.click("Show the text")
	made, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.querySelector('textarea').value`))
	require.NoError(t, err)
	assert.Contains(t, made, "captures: {sailed: {from: [year, day]}}")
	assert.Contains(t, made, "parameters:\n  - name: period\n    type: period\n    default: this month\n")
	b.click("Show the fields")
	b.press("Remove sailed")
	b.press("Remove period")
	b.sees(`239 of 247 files picked · 1 gained`)

	// A pattern from an example: the draft, whose terminal varies.
	b.click("left out 8")
	b.sees(`all 247\s*left out\s`) // the list is short now, and the page no longer moves
	b.press("Build a pattern from loadings/Aldersund/2026/loadings 2026-11-19 draft.csv")
	b.sees(`Press a part of the example`)
	b.click("Aldersund")
	b.do(chromedp.Click(`(//main//div[@class="choice"]//input[@type="radio"])[2]`, chromedp.NodeVisible))
	b.fill("Name of the capture", "terminal")
	b.do(chromedp.Click(`(//main//p[@class="parts"]//button)[2]`), chromedp.Click(`(//main//div[@class="choice"]//input[@type="radio"])[3]`))
	b.do(chromedp.Click(`(//main//p[@class="parts"]//button)[4]`), chromedp.Click(`(//main//div[@class="choice"]//input[@type="radio"])[3]`))
	b.sees(`<terminal>/<year:yyyy>/loadings <day:yyyy-MM-dd> draft.csv`)
	b.click("Add this pattern")
	b.sees(`240 of 247 files picked · 2 gained`)

	// A rule against it, as fields; the text says the same.
	b.do(chromedp.Click(`//main//section[@aria-label="Leave out if"]//button[contains(., "Add a condition")]`))
	b.sees(`239 of 247 files picked · 1 gained, 0 lost`)
	b.set(`select[aria-label=Window]`, "change", "last")
	b.sees(`gained, \d{3} lost against version 1`)
	b.click("lost")
	b.sees(`day is 2026-10-\d\d, outside last week of day`)
	b.click("Show the text")
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.querySelector('textarea').value`))
	require.NoError(t, err)
	assert.Contains(t, text, "leave_out:\n  - name contains \"draft\"\nwindow: {span: last week, of: day}\nexpect: {every: working day,")
	b.do(chromedp.SendKeys(`//main//textarea`, "\nlatest: {of: dya}\n"))
	b.sees(`The definition is not valid yet\s*line \d+: there is no capture "dya"; did you mean "day"\?`)
	b.press("Undo")
	b.sees(`gained, \d{3} lost against version 1`)

	// Somebody else saves first.
	s.Must("input", "move", "daily-loadings", "-folder", "berths", "-yes")
	s.Must("input", "move", "daily-loadings", "-folder", "loadings", "-yes")
	save := `//main//button[contains(., "Save") and not(@disabled)]`
	b.do(chromedp.Click(save, chromedp.NodeVisible))
	b.sees(`daily-loadings is at version 3, saved by local at .*; nothing was overwritten`)
	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings/pick?add=" + "<terminal>/<year:yyyy>/loadngs <day:yyyy-MM-dd>.csv"))
	b.sees(`239 of 247 files picked · 1 gained`)
	b.do(chromedp.Click(save, chromedp.NodeVisible))
	b.sees(`Saved as version 4\.`)
	b.click("all versions")
	b.sees(`What version 4 changed against version 3[\s\S]*\+ +- <terminal>/<year:yyyy>/loadngs`)

	// A hold, seen wherever the file is, and released.
	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings?q=2026-11-17%20(1)"))
	b.click("(1).csv")
	b.fill("Note", "sent twice on purpose")
	b.click("Hold in")
	b.sees(`held in by local: sent twice on purpose`)
	b.sees(`holds 1`)
	b.click("Release")
	b.sees(`picked 239\s*left out 8`)

	// The other inputs: the newest card, the list with one that is missing.
	b.do(chromedp.Navigate(s.Base + "/inputs/quay-inspections"))
	b.sees(`warning a listed file is not there: 2026/Dunvara quays.xlsx`)
	b.sees(`named in the list\s*sheet Inspection, to All quays, from row 2`)
	b.do(chromedp.Navigate(s.Base + "/inputs/tariff-card"))
	b.sees(`not the latest: tariffs/tariff card 1 September 2026.xlsx is newer`)
}

// Trust in the console: what needs a person, the grid of expected files and an
// excuse, what changed, a file's story, the places.
func TestTrustPages(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{Interval: 200 * time.Millisecond})
	require.NoError(t, demo.Generate(filepath.Dir(s.Share), demo.Options{Seed: 1, End: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)}))
	s.Must("demo", "-dir", filepath.Dir(s.Share))
	s.Must("refresh", "daily-loadings")
	b := openBrowser(t)
	b.do(chromedp.Navigate(s.Link()))
	b.sees(`missing\s+\d+ expected files missing\s+Daily loadings by terminal`)
	b.sees(`warning\s+a listed file is not there: 2026/Dunvara quays.xlsx\s+Quay inspections`)
	b.sees(`What happened[\s\S]*new\s+238 files\s+Daily loadings`)
	s.Write("loadings/Coldmere/2026/loadings 2026-11-02.csv", "<html>Please sign in</html>")
	b.sees(`broken\s+1 file cannot be used\s+Daily loadings`)
	for i := 9; i < 20; i++ { // more than are believed gone
		for _, terminal := range []string{"Aldersund", "Brannhold", "Coldmere", "Dunvara", "Eskvik", "Fennay"} {
			_ = os.Remove(filepath.Join(s.Share, fmt.Sprintf("loadings/%s/2026/loadings 2026-11-%02d.csv", terminal, i)))
		}
	}
	b.sees(`in doubt\s+5\d files of 238 gone at once, which is not believed`)
	b.picture("today", 1280, 800, "light")
	s.Must("confirm", "daily-loadings")
	b.sees(`removed\s+5\d files`)

	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings/coverage?to=2026-11-20"))
	b.sees(`filled 1\d\d\s*missing 5\d\s*doubled|filled`)
	b.do(chromedp.Focus(`//*[name()="svg" and @role="application"]`))
	for range 32 {
		b.do(chromedp.KeyEvent(kb.ArrowRight))
	}
	b.sees(`Aldersund, 2026-11-\d\d: missing, due`)
	b.picture("coverage", 1280, 800, "light")
	b.fill("Note", "the quay was closed")
	b.click("Excuse it")
	b.sees(`excused 1`)
	b.sees(`excused, due .*: the quay was closed`)
	b.click("Take the excuse back")
	b.sees(`: missing, due`)

	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings/log"))
	b.sees(`removed was in doubt\s+loadings/\w+/2026/loadings 2026-11-1\d.csv`)
	b.do(chromedp.Navigate(s.Base + "/inputs/daily-loadings/story?path=loadings/Coldmere/2026/loadings 2026-11-02.csv"))
	b.sees(`picked\s+broken · 27 B[\s\S]*terminal is Coldmere[\s\S]*What it fed\s+receipt 1[\s\S]*broken was same`)
	b.picture("story", 1280, 900, "dark")
	b.do(chromedp.Navigate(s.Base + "/places"))
	b.sees(`skerry-share\s+reachable[\s\S]*Watched by looks every 0.2 seconds: this place has no events`)
	require.NoError(t, os.Rename(s.Share, s.Share+"-away"))
	b.sees(`unreachable[\s\S]*it is not there. Its files are unknown, not removed.`)
}
