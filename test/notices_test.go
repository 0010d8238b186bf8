package test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/core/notice"
	"jorvex/internal/demo"
	"jorvex/internal/standin"
	"jorvex/internal/testkit"
)

// noticed starts a service with stand-ins for mail and a web hook that takes
// only what the rule "desk" signed.
func noticed(t *testing.T, o testkit.Options) (*testkit.Service, *standin.Outbox) {
	t.Helper()
	var s *testkit.Service
	outbox, err := standin.Open(t.TempDir(), func() string {
		var r api.NoticeRule
		_ = json.Unmarshal([]byte(s.Run("notice-rule", "show", "desk", "-json").Out), &r)
		return r.Secret
	})
	require.NoError(t, err)
	t.Cleanup(func() { _ = outbox.Close() })
	o.Mail = outbox.SMTP
	s = testkit.Start(t, o)
	return s, outbox
}

// arrived waits until so many messages are in the outbox (mails are not counted
// where how many letters tell of them is a matter of chance: -1), sees that no
// more come, and returns the hook's sentences and the mails' subjects.
func arrived(t *testing.T, outbox *standin.Outbox, hooks, mails int) (posted []notice.Notice, subjects, bodies []string) {
	t.Helper()
	count := func() (int, int) {
		h, err := outbox.Hooks()
		require.NoError(t, err)
		m, err := outbox.Mails()
		require.NoError(t, err)
		return len(h), len(m)
	}
	eventually(t, func() bool { h, m := count(); return h >= hooks && m >= mails })
	time.Sleep(time.Second)
	h, m := count()
	posted, _ = outbox.Hooks()
	if mails < 0 {
		m = mails
	}
	require.Equal(t, fmt.Sprint(hooks, " ", mails), fmt.Sprint(h, " ", m), "%+v", posted)
	letters, _ := outbox.Mails()
	for _, letter := range letters {
		subject, err := new(mime.WordDecoder).DecodeHeader(letter.Header.Get("Subject"))
		require.NoError(t, err)
		body, err := io.ReadAll(letter.Body)
		require.NoError(t, err)
		subjects, bodies = append(subjects, subject), append(bodies, strings.ReplaceAll(string(body), "=\r\n", ""))
	}
	return posted, subjects, bodies
}

// eventually waits until something holds, asking one time after the other.
func eventually(t *testing.T, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(60 * time.Second); !holds(); time.Sleep(50 * time.Millisecond) {
		require.True(t, time.Now().Before(end), "it never came to hold")
	}
}

// What lasts is told once, to the console, by mail and by web hook, and again
// only when it came back; forty missing files are one notice.
func TestNotices(t *testing.T) {
	t.Parallel()
	c := &clock{}
	c.offset.Store(int64(time.Until(time.Date(2026, 10, 7, 6, 0, 0, 0, time.UTC))))
	s, outbox := noticed(t, testkit.Options{Clock: c.now})
	broken := "loadings/Eskvik/loadings 2026-10-06.csv"
	s.Write("loadings/days.ics", "BEGIN:VCALENDAR\nEND:VCALENDAR\n")
	s.Write(broken, "")
	s.Must("notice-rule", "set", "desk", "-kinds", "broken,missing,complete,late,unreachable,delivered,stopped", "-mail", "reporting@skerry.example", "-hook", outbox.Hook)
	s.Definition(expected)
	posted, subjects, bodies := arrived(t, outbox, 2, 1)
	assert.Equal(t, "loadings/Eskvik/loadings 2026-10-06.csv: the file is empty", posted[0].Named[0])
	assert.Equal(t, notice.Missing, posted[1].Kind)
	assert.Equal(t, "6 expected files are missing, the first is Eskvik, 2026-10-01", posted[1].Sentence)
	assert.Equal(t, s.Base+"/inputs/loadings/coverage", posted[1].Link)
	assert.Equal(t, "2 notices about loadings", subjects[0])
	assert.Contains(t, bodies[0], "Fennay, 2026-10-05")

	for range 3 {
		s.Must("look")
	}
	s.Must("refresh", "loadings", "-wait=false")
	posted, _, _ = arrived(t, outbox, 3, 2)
	assert.Equal(t, notice.Stopped, posted[2].Kind)
	assert.Contains(t, posted[2].Sentence, "a refresh was stopped: loadings/Eskvik/loadings 2026-10-06.csv cannot be used")

	// Mended, and everything that was missing came: a period is complete, and
	// what was delivered is told with what it came to.
	s.Write(broken, table("sailing", "SK1"))
	s.Write("loadings/Fennay/loadings 2026-10-06.csv", table("sailing", "SK2", "SK3"))
	s.Must("look")
	posted, subjects, _ = arrived(t, outbox, 5, 3)
	assert.Equal(t, "2 expected files came late, the first is Eskvik, 2026-10-06", posted[3].Sentence)
	assert.Equal(t, "all expected files of 1 period are there: 2026-10-06", posted[4].Sentence)
	assert.Equal(t, "2 notices about loadings", subjects[2])
	s.Must("refresh", "loadings")
	s.Write("loadings/Fennay/loadings 2026-10-05.csv", table("sailing", "SK4"))
	s.Must("refresh", "loadings")
	posted, _, _ = arrived(t, outbox, 8, -1)
	sentences := map[notice.Kind][]string{}
	for _, n := range posted[5:] {
		sentences[n.Kind] = append(sentences[n.Kind], n.Sentence)
	}
	assert.Equal(t, []string{"a refresh delivered 3 rows from 2 files", "a refresh delivered 4 rows (+1) from 3 files"}, sentences[notice.Delivered])
	assert.Equal(t, []string{"1 expected file came late: Fennay, 2026-10-05"}, sentences[notice.Late])

	// It broke again, and the place went: both are news. A restart is none.
	s.Write(broken, "")
	s.Must("look")
	require.NoError(t, os.Rename(s.Share, s.Share+"-away"))
	s.Run("look")
	posted, _, _ = arrived(t, outbox, 10, -1)
	assert.Equal(t, "1 file cannot be used: loadings/Eskvik/loadings 2026-10-06.csv: the file is empty", posted[8].Sentence)
	assert.Equal(t, "share cannot be reached: it is not there", posted[9].Sentence)
	require.NoError(t, os.Rename(s.Share+"-away", s.Share))
	s.Stop()
	s = testkit.Start(t, testkit.Options{Data: s.Data, Share: s.Share, URL: s.URL, Clock: c.now, Mail: outbox.SMTP})
	s.Must("look")
	arrived(t, outbox, 10, -1)

	out := s.Must("notices")
	assert.Contains(t, out, "new  2026-10-07")
	assert.Contains(t, out, "reporting@skerry.example, "+outbox.Hook)
	s.Must("notices", "-seen")
	assert.Equal(t, "nothing to tell\n", s.Must("notices", "-unseen"))
}

// What could not be sent is sent again until it arrives, once; after many tries
// it is given up, and that is told.
func TestNoticesAreRetried(t *testing.T) {
	t.Parallel()
	s, outbox := noticed(t, testkit.Options{})
	outbox.Fail(errors.New("the disk of the mail server is full"))
	s.Write("loadings/Eskvik/loadings 2026-10-06.csv", "")
	s.Must("notice-rule", "set", "desk", "-kinds", "broken", "-mail", "reporting@skerry.example", "-hook", outbox.Hook)
	s.Definition(loadings)
	eventually(t, func() bool { return strings.Count(s.Must("notices"), "failed, tried again:") == 2 })
	assert.Contains(t, s.Must("notices"), "503 Service Unavailable")
	outbox.Fail(nil)
	arrived(t, outbox, 1, 1)

	outbox.Fail(errors.New("never again"))
	s.Write("loadings/Fennay/loadings 2026-10-06.csv", "")
	s.Must("look")
	eventually(t, func() bool { return strings.Count(s.Must("notices", "-json"), `"given_up"`) == 2 })
	outbox.Fail(nil)
}

// Rules: what they refuse, and trying one out.
func TestNoticeRules(t *testing.T) {
	s, outbox := noticed(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-06.csv", "")
	s.Definition(loadings)
	rules := "/notice-rules"
	converse(t, s, []exchange{
		{"GET", rules, "", 200, []string{`"name":"console"`, `"mail_from":"jorvex@skerry.example"`, `"complete"`}},
		{"PUT", rules + "/desk", `{"kinds":["broken"],"inputs":["nothing"]}`, 404, []string{"nothing"}},
		{"PUT", rules + "/desk", `{"kinds":["wrong"]}`, 400, []string{"kinds"}},
		{"PUT", rules + "/desk", `{"kinds":[]}`, 400, []string{"kinds"}},
		{"PUT", rules + "/Desk!", `{"kinds":["broken"]}`, 422, []string{"Desk!"}},
		{"PUT", rules + "/desk", `{"kinds":["broken"],"mail":["nobody"]}`, 422, []string{"nobody"}},
		{"PUT", rules + "/desk", `{"kinds":["broken"],"hook":"ftp://somewhere"}`, 422, []string{"ftp://somewhere"}},
		{"PUT", rules + "/desk", `{"kinds":["broken","broken"],"inputs":["loadings"],"hook":"` + outbox.Hook + `"}`, 200, []string{`"kinds":["broken"]`, `"secret":"whsec_`}},
		{"POST", rules + "/desk/trials", "", 200, []string{`{"items":[{"address":"` + outbox.Hook + `","channel":"hook"}]}`}},
		{"POST", rules + "/console/trials", "", 200, []string{`{"items":[]}`}},
		{"POST", rules + "/other/trials", "", 404, []string{"jorvex notice-rule list"}},
		{"DELETE", rules + "/other", "", 404, []string{"other"}},
		{"GET", "/notices?limit=1", "", 200, []string{`"kind":"broken"`, `"unseen":1`}},
		{"GET", "/notices?cursor=x", "", 400, []string{"cursor"}},
		{"PUT", "/notices/seen", `{"through":1}`, 204, nil},
		{"GET", "/notices?unseen=true", "", 200, []string{`"items":[]`, `"unseen":0`}},
	})
	posted, err := outbox.Hooks()
	require.NoError(t, err)
	assert.Equal(t, "this is a trial of the notice rule desk; nothing happened", posted[0].Sentence)
	assert.Contains(t, s.Must("notice-rule", "try", "desk"), "arrived")
	outbox.Fail(errors.New("full"))
	r := s.Run("notice-rule", "try", "desk")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Out, "503")

	// A rule goes along when its input is renamed, keeps its secret, and goes.
	s.Must("input", "rename", "loadings", "harbour-loadings")
	assert.Contains(t, s.Must("notice-rule", "list"), "harbour-loadings")
	before := s.Must("notice-rule", "show", "desk")
	assert.Equal(t, strings.Replace(before, "broken", "missing", 1), s.Must("notice-rule", "set", "desk", "-kinds", "missing", "-inputs", "harbour-loadings", "-hook", outbox.Hook))
	s.Must("notice-rule", "drop", "desk")
	assert.Equal(t, 4, s.Run("notice-rule", "show", "desk").Code)

	alone := testkit.Start(t, testkit.Options{})
	r = alone.Run("notice-rule", "set", "desk", "-kinds", "broken", "-mail", "reporting@skerry.example")
	assert.Contains(t, r.Err, "JORVEX_SMTP")
}

// Notices in the console: a rule made and tried, what it tells with no reload,
// marked as seen, also in a second tab that hears through the first.
func TestNoticePages(t *testing.T) {
	t.Parallel()
	s, outbox := noticed(t, testkit.Options{Interval: 200 * time.Millisecond})
	require.NoError(t, demo.Generate(filepath.Dir(s.Share), demo.Options{Seed: 1, End: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)}))
	s.Must("demo", "-dir", filepath.Dir(s.Share))
	b := openBrowser(t)
	b.do(chromedp.Navigate(s.Link()))
	b.sees(`Notices\s+\d`)
	b.do(chromedp.Navigate(s.Base + "/settings"))
	b.sees(`console\s+broken, missing, in doubt, unreachable, stopped, failed, waiting\s+all inputs\s+nobody else`)
	b.click("Add a rule")
	b.do(chromedp.SendKeys(`//label[contains(., "Name")]/input`, "reporting-desk"),
		chromedp.Click(`//label[contains(., "a refresh delivered")]/input`),
		chromedp.Click(`//label[contains(., "fuel-uplift")]/input`),
		chromedp.SendKeys(`//label[contains(., "Mail to")]/input`, "nobody"))
	b.click("Save")
	b.sees(`"nobody" is no mail address\s+write it as name@host`)
	b.do(chromedp.SendKeys(`//label[contains(., "Mail to")]/input`, "@skerry.example"))
	b.click("Save")
	b.sees(`reporting-desk\s+broken, missing, in doubt, delivered\s+fuel-uplift\s+nobody@skerry.example`)
	b.click("Try")
	b.sees(`nobody@skerry.example: the trial arrived`)
	b.click("Add a rule")
	b.sees(`Tell when`)
	b.picture("settings", 1280, 800, "light")

	// A file's page shows its rows, and what became of each.
	b.do(chromedp.Navigate(s.Base + "/inputs/fuel-uplift/story?path=fuel/2026-05/Fulmar fuel.xlsx"))
	b.sees(`Its rows[\s\S]*\d+ rows below the header, \d+ kept[\s\S]*gas_oil_l[\s\S]*2026-05\s+Fulmar\s+Aldersund\s+2026-05-01`)
	b.click("as they are in the file")
	b.sees(`above the header\s+Skerry Line, fuel uplift[\s\S]*left out\s+Sum aldersund`)

	b.do(chromedp.Navigate(s.Base + "/notices"))
	b.sees(`missing\s+1 expected file is missing: Petrel, 2026-10`)
	b.sees(`2 files cannot be used, the first is fuel/2026-08/Gannet fuel.xls: the file is password-protected`)
	second := openTab(t, b, s.Base+"/notices")
	second.sees(`Petrel, 2026-10`)
	s.Write("fuel/2026-10/Fulmar fuel.xlsx", "PK\x03\x04 and no more")
	for _, tab := range []*browser{b, second} {
		tab.sees(`broken\s+1 file cannot be used: fuel/2026-10/Fulmar fuel.xlsx: the file is cut short[\s\S]*sent to nobody@skerry.example`)
	}
	second.picture("notices", 1280, 800, "light")
	second.click("Mark ")
	for _, tab := range []*browser{b, second} {
		tab.sees(`Notices\s+Settings[\s\S]*unseen alone\s+what is told`)
	}
	mails, err := outbox.Mails()
	require.NoError(t, err)
	assert.NotEmpty(t, mails)
}

// openTab opens another tab in the same browser.
func openTab(t *testing.T, b *browser, url string) *browser {
	t.Helper()
	ctx, cancel := chromedp.NewContext(b.ctx)
	t.Cleanup(cancel)
	tab := &browser{t: t, ctx: ctx, pictures: b.pictures}
	require.NoError(t, chromedp.Do(ctx)) // opens it, for as long as its own context
	tab.do(chromedp.Navigate(url))
	return tab
}

// A refresh that waits for somebody is on the first page, and is answered where
// it is shown.
func TestAskingInTheConsole(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Write("loadings/Fennay/loadings 2026-10-05.csv", "")
	s.Definition(loadings + "gate: {broken: wait}\n")
	s.Run("refresh", "loadings")
	b := openBrowser(t)
	b.do(chromedp.Navigate(s.Link()))
	b.sees(`asking\s+a refresh waits for you to decide: loadings/Fennay/loadings 2026-10-05.csv cannot be used`)
	b.click("a refresh waits for you")
	b.click("Go on without the file")
	b.sees(`delivered[\s\S]*1 row, 2 files read · receipt 1`)
}
