package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jorvex/internal/api"
	"jorvex/internal/client"
	"jorvex/internal/testkit"
)

// span is how long files must stand still in these tests.
const span = time.Second

// live starts a service that hears file events and lets files settle.
func live(t *testing.T) *testkit.Service {
	return testkit.Start(t, testkit.Options{Events: true, Settle: span})
}

// drop writes a file now, as a colleague does.
func drop(t *testing.T, s *testkit.Service, path, content string) {
	t.Helper()
	full := filepath.Join(s.Share, path)
	require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(t, os.WriteFile(full, []byte(content), 0o644))
}

// becomes waits until a file has a state, and fails if it ever has one of those
// it must not have.
func becomes(t *testing.T, s *testkit.Service, input, path, want string, never ...string) {
	t.Helper()
	last := ""
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		last = states(t, s, input)[path]
		if last == want {
			return
		}
		for _, no := range never {
			require.NotEqual(t, no, last, path)
		}
	}
	require.Equal(t, want, last, path)
}

// A half-copied file is arriving and never read as whole; once it stands still
// it is new, and whoever listens is told.
func TestArriving(t *testing.T) {
	s := live(t)
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	becomes(t, s, "loadings", "loadings/Eskvik/loadings 2026-10-05.csv", "picked new")

	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	told := make(chan api.LogEntry, 100)
	listen(t, ctx, s, told)

	path := "loadings/Fennay/loadings 2026-10-06.csv"
	for i := 1; i <= 4; i++ {
		drop(t, s, path, table(header, "SK2,20,1")[:10*i])
		becomes(t, s, "loadings", path, "held_back arriving", "picked new", "picked broken")
		time.Sleep(span / 8)
	}
	r := s.Run("refresh", "loadings")
	assert.Equal(t, client.GateStopped, r.Code)
	assert.Contains(t, r.Err, "1 file still arriving, the first is loadings/Fennay/loadings 2026-10-06.csv")
	drop(t, s, path, table(header, "SK2,20,1"))
	written := time.Now()
	becomes(t, s, "loadings", path, "picked new", "picked broken")
	assert.Less(t, time.Since(written), span+5*time.Second)
	for e := range told {
		if e.Path == path && e.State == "new" {
			assert.Equal(t, "arriving", e.BeforeState)
			break
		}
	}
	assert.Contains(t, s.Must("refresh", "loadings"), "2 rows from 2 files")
}

// listen hands on every change that the service tells of.
func listen(t *testing.T, ctx context.Context, s *testkit.Service, told chan<- api.LogEntry) {
	t.Helper()
	answer, err := s.API.StreamEvents(ctx, &api.StreamEventsParams{})
	require.NoError(t, err)
	var group sync.WaitGroup
	group.Go(func() {
		defer answer.Body.Close()
		buffer, rest := make([]byte, 1<<16), ""
		for {
			n, err := answer.Body.Read(buffer)
			if err != nil {
				return
			}
			rest += string(buffer[:n])
			for {
				line, after, whole := strings.Cut(rest, "\n")
				if !whole {
					break
				}
				rest = after
				var e api.ChangesEvent
				if data, is := strings.CutPrefix(line, "data: "); is && json.Unmarshal([]byte(data), &e) == nil {
					for _, entry := range e.First {
						select {
						case told <- entry:
						default:
						}
					}
				}
			}
		}
	})
	t.Cleanup(group.Wait)
}

// A thousand files at once, in folders moved in whole: all are right, and the
// log of each says one thing.
func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	s := live(t)
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	outside := filepath.Join(t.TempDir(), "bulk")
	for i := range 1000 {
		testkit.WriteFile(t, filepath.Join(outside, fmt.Sprintf("T%d/loadings %s.csv", i/100, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, i%100).Format(time.DateOnly))),
			table(header, fmt.Sprintf("S%d,%d,1", i, i)))
	}
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	for _, e := range entries {
		require.NoError(t, os.CopyFS(filepath.Join(s.Share, "loadings", e.Name()), os.DirFS(filepath.Join(outside, e.Name()))))
	}
	for end := time.Now().Add(60 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		in, err := s.API.GetInputWithResponse(t.Context(), "loadings")
		require.NoError(t, err)
		if in.JSON200.Counts.ByState["new"] == 1001 {
			break
		}
		require.True(t, time.Now().Before(end), "%+v", in.JSON200.Counts)
	}
	assert.Equal(t, "1001", s.Query("SELECT count(*)::text FROM jorvex.changes WHERE state = 'new'"))
	assert.Contains(t, s.Must("refresh", "loadings"), "from 1,001 files")

	// A folder that goes whole is removed, one look a span after the other.
	require.NoError(t, os.RemoveAll(filepath.Join(s.Share, "loadings/T3")))
	becomes(t, s, "loadings", "loadings/T3/loadings 2026-01-01.csv", "left_out removed")
	assert.Regexp(t, "removed +unknown", s.Must("changes", "loadings", "-log", "-file", "T3/loadings 2026-01-01.csv"))
}

// States against the baseline, through moves, removals, returns and touches.
func TestStatesOverTime(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	a, b := "loadings/Eskvik/loadings 2026-10-05.csv", "loadings/Fennay/loadings 2026-10-05.csv"
	s.Write(a, table(header, "SK1,10,1"))
	s.Write(b, table(header, "SK2,20,1"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")

	moved := "loadings/Eskvik port/loadings 2026-10-05.csv"
	require.NoError(t, os.Rename(filepath.Join(s.Share, "loadings/Eskvik"), filepath.Join(s.Share, "loadings/Eskvik port")))
	s.Must("look")
	got := states(t, s, "loadings")
	assert.Equal(t, "picked moved", got[moved])
	assert.NotContains(t, got, a, "told at its new path alone")
	assert.Contains(t, s.Must("changes", "loadings"), "moved from "+a)
	s.Must("refresh", "loadings")
	assert.Equal(t, "picked same", states(t, s, "loadings")[moved])

	require.NoError(t, os.Remove(filepath.Join(s.Share, b)))
	s.Must("look")
	assert.Equal(t, "left_out removed", states(t, s, "loadings")[b])
	s.Must("refresh", "loadings")
	assert.NotContains(t, states(t, s, "loadings"), b, "it is no part of the new baseline")
	s.Write(b, table(header, "SK2,25,1"))
	s.Must("look")
	assert.Equal(t, "picked returned", states(t, s, "loadings")[b])
	s.Must("refresh", "loadings")
	s.Write(b, table(header, "SK2,30,1"))
	s.Must("look")
	s.Write(b, table(header, "SK2,35,1"))
	s.Must("look")

	log := s.Must("changes", "loadings", "-log", "-file", b)
	var order []string
	for _, line := range strings.Split(log, "\n")[1:] {
		if words := strings.Fields(line); len(words) > 3 {
			order = append(order, words[2])
		}
	}
	assert.Equal(t, []string{"changed", "changed", "same", "returned", "went", "removed", "same", "new"}, order, log)
	story, err := s.API.GetStoryWithResponse(t.Context(), "loadings", &api.GetStoryParams{Path: b})
	require.NoError(t, err)
	require.NotNil(t, story.JSON200, string(story.Body))
	require.Len(t, story.JSON200.Fed, 2, "one version fed receipts 1 and 2, another 4")
	assert.Equal(t, []int64{4, 4, 1, 2}, []int64{story.JSON200.Fed[0].First, story.JSON200.Fed[0].Last, story.JSON200.Fed[1].First, story.JSON200.Fed[1].Last})
	assert.Equal(t, 404, func() int {
		r, err := s.API.GetStoryWithResponse(t.Context(), "loadings", &api.GetStoryParams{Path: "never"})
		require.NoError(t, err)
		return r.StatusCode()
	}())
}

// That all files are gone, or many, is not believed at once.
func TestDoubt(t *testing.T) {
	c := &clock{}
	s := testkit.Start(t, testkit.Options{Clock: c.now})
	name := func(i int) string { return fmt.Sprintf("loadings/T/loadings 2026-10-%02d.csv", i+1) }
	for i := range 24 {
		s.Write(name(i), table(header, fmt.Sprintf("S%d,1,1", i)))
	}
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	before := s.Delivered("loadings.csv")
	keep := filepath.Join(t.TempDir(), "keep")
	require.NoError(t, os.CopyFS(keep, os.DirFS(filepath.Join(s.Share, "loadings"))))

	// All of them: only a person confirms it.
	require.NoError(t, os.RemoveAll(filepath.Join(s.Share, "loadings/T")))
	s.Must("look")
	assert.Equal(t, "held_back in_doubt", states(t, s, "loadings")[name(0)])
	r := s.Run("refresh", "loadings")
	assert.Equal(t, client.GateStopped, r.Code)
	assert.Equal(t, before, s.Delivered("loadings.csv"))
	c.offset.Store(int64(2 * time.Hour))
	s.Must("look")
	assert.Equal(t, "held_back in_doubt", states(t, s, "loadings")[name(0)], "two hours do not confirm it")

	// Back again: as if nothing had been.
	require.NoError(t, os.CopyFS(filepath.Join(s.Share, "loadings"), os.DirFS(keep)))
	s.Must("look")
	assert.Equal(t, "picked same", states(t, s, "loadings")[name(0)])
	assert.Contains(t, s.Run("confirm", "loadings").Err, "no file of loadings is in doubt")

	// Half of them: another look an hour later confirms it.
	for i := range 12 {
		require.NoError(t, os.Remove(filepath.Join(s.Share, name(i))))
	}
	s.Must("look")
	assert.Equal(t, "held_back in_doubt", states(t, s, "loadings")[name(0)])
	assert.Equal(t, "picked same", states(t, s, "loadings")[name(20)])
	c.offset.Store(int64(4 * time.Hour))
	s.Must("look")
	assert.Equal(t, "left_out removed", states(t, s, "loadings")[name(0)])
	assert.Contains(t, s.Must("refresh", "loadings"), "12 rows from 12 files")

	require.NoError(t, os.RemoveAll(filepath.Join(s.Share, "loadings/T")))
	s.Must("look")
	assert.Contains(t, s.Must("confirm", "loadings"), "12 files of loadings confirmed as gone")
	assert.Equal(t, "left_out removed", states(t, s, "loadings")[name(20)])
	assert.Contains(t, s.Run("refresh", "loadings").Err, "no file is picked")
}

// Events lost, a limit reached, a place without events: the next timed look
// puts it right, and the place says how it is watched.
func TestTimedLooksStandBehindEvents(t *testing.T) {
	s := testkit.Start(t, testkit.Options{Interval: 300 * time.Millisecond, Settle: span})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end) && !strings.Contains(s.Must("place", "show", "share"), "by timed looks"); {
		time.Sleep(50 * time.Millisecond)
	}
	assert.Contains(t, s.Must("place", "show", "share"), "watched    by timed looks: this place has no events")
	drop(t, s, "loadings/Fennay/loadings 2026-10-06.csv", table(header, "SK2,20,1"))
	becomes(t, s, "loadings", "loadings/Fennay/loadings 2026-10-06.csv", "picked new", "picked broken")

	with := live(t)
	with.Write("x/y.csv", "n\n1\n")
	with.Definition("input: x\nplace: share\npick: [\"**\"]\n")
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end) && !strings.Contains(with.Must("place", "show", "share"), "by events"); {
		time.Sleep(50 * time.Millisecond)
	}
	assert.Contains(t, with.Must("place", "show", "share"), "watched    by events and timed looks")
}

// jorvex watch prints what changes, as it happens.
func TestWatchCommand(t *testing.T) {
	s := live(t)
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	becomes(t, s, "loadings", "loadings/Eskvik/loadings 2026-10-05.csv", "picked new")
	var out lockedText
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan int)
	go func() {
		done <- client.Main(ctx, client.Env{Stdout: &out, Stderr: &out, Version: "test", Getenv: func(name string) string {
			return map[string]string{"JORVEX_DATA": s.Data}[name]
		}}, []string{"watch", "loadings"})
	}()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end) && !strings.Contains(out.String(), "new         loadings: loadings/Fennay"); time.Sleep(300 * time.Millisecond) {
		drop(t, s, "loadings/Fennay/loadings 2026-10-06.csv", table(header, "SK2,20,1"))
		time.Sleep(2 * span)
	}
	cancel()
	assert.Equal(t, client.Done, <-done)
	assert.Contains(t, out.String(), "arriving    loadings: loadings/Fennay/loadings 2026-10-06.csv")
	assert.Contains(t, out.String(), "new         loadings: loadings/Fennay/loadings 2026-10-06.csv")
}

// lockedText takes text from one goroutine while another reads it.
type lockedText struct {
	mu sync.Mutex
	b  strings.Builder
}

func (l *lockedText) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedText) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

const expected = `input: loadings
place: share
folder: loadings
zone: Europe/Oslo
pick: ["<terminal>/loadings <day:yyyy-MM-dd>.csv"]
expect: {every: working day, each: terminal, members: [Eskvik, Fennay], from: 2026-10-01, due: "1 working day after, 09:00", holidays: days.ics}
columns: [{name: sailing}]
`

// Which expected files came: working days without holidays, by member.
func TestCoverage(t *testing.T) {
	c := &clock{}
	c.offset.Store(int64(time.Until(time.Date(2026, 10, 7, 6, 0, 0, 0, time.UTC)))) // 08:00 in Oslo, a Wednesday
	s := testkit.Start(t, testkit.Options{Clock: c.now})
	s.Write("loadings/days.ics", "BEGIN:VCALENDAR\nBEGIN:VEVENT\nDTSTART;VALUE=DATE:20261002\nEND:VEVENT\nEND:VCALENDAR\n")
	for _, file := range []string{"Eskvik/loadings 2026-10-01.csv", "Eskvik/loadings 2026-10-05.csv", "Fennay/loadings 2026-10-01.csv", "Fennay/loadings 2026-10-01 (1).csv", "Gull/loadings 2026-10-01.csv"} {
		s.Write("loadings/"+file, "sailing\nSK1\n")
		at := time.Date(2026, 10, 1, 12, 0, 0, 0, time.UTC)
		require.NoError(t, os.Chtimes(filepath.Join(s.Share, "loadings", file), at, at))
	}
	s.Write("loadings/Eskvik/loadings 2026-10-06.csv", "")
	s.Definition(expected)
	out := s.Must("coverage", "loadings")
	for _, want := range []string{
		"2026-10-01 to 2026-10-07:  # filled 2  M missing 1  2 doubled 1  X broken 1  . not due 3",
		"Eskvik  ##X.\nFennay  2M..\n", "Fennay 2026-10-01  doubled  2026-10-05 ", "Fennay 2026-10-05  missing  2026-10-06 ", "1 file picked and in no slot",
	} {
		assert.Contains(t, out, want)
	}
	show := s.Must("input", "show", "loadings", "-json")
	assert.Contains(t, show, "expected files are missing: 1, the first is Fennay, 2026-10-05")
	assert.Contains(t, show, "expected files are there twice: 1, the first is Fennay, 2026-10-01")

	// At nine the next is missing, without a file being touched.
	c.offset.Add(int64(90 * time.Minute))
	s.Must("look")
	assert.Contains(t, s.Must("coverage", "loadings"), "Eskvik  ##X.\nFennay  2MM.\n")
	assert.Contains(t, s.Must("input", "show", "loadings", "-json"), "expected files are missing: 2")

	assert.Equal(t, "Fennay 2026-10-05 is excused\n", s.Must("excuse", "loadings", "Fennay", "2026-10-05", "-note", "no sailings"))
	out = s.Must("coverage", "loadings", "-from", "2026-10-05", "-to", "2026-10-06")
	assert.Contains(t, out, "Eskvik  #X\nFennay  -M\n")
	assert.Regexp(t, "Fennay 2026-10-05  excused .* no sailings", out)
	assert.Contains(t, s.Must("coverage", "loadings", "-csv"), "Fennay,2026-10-06,missing,")
	s.Must("excuse", "loadings", "Fennay", "2026-10-05", "-back")
	assert.Contains(t, s.Must("coverage", "loadings"), "Fennay  2MM.")
	assert.Equal(t, client.NotFound, s.Run("excuse", "loadings", "Fennay", "2026-10-05", "-back").Code)
	assert.Contains(t, s.Run("coverage", "loadings", "-from", "soon").Err, `"soon" is no day`)
	assert.Contains(t, s.Run("coverage", "loadings", "-to", "9000-01-01").Err, "choose a shorter span")

	s.Write("loadings/days.ics", "no calendar")
	s.Must("look")
	assert.Contains(t, s.Run("coverage", "loadings").Err, "the holidays in loadings/days.ics: it is no iCalendar file")
	assert.Contains(t, s.Must("input", "show", "loadings", "-json"), "what is expected cannot be told: the holidays in loadings/days.ics")
	s.Must("input", "save", definitionFile(t, strings.Replace(expected, expected[strings.Index(expected, "expect:"):strings.Index(expected, "columns:")], "", 1)), "-over", "1")
	assert.Contains(t, s.Run("coverage", "loadings").Err, "loadings does not say which files should be there")
}

// A place has its own pace, which is taken up while it is watched.
func TestPace(t *testing.T) {
	s := testkit.Start(t, testkit.Options{}) // a look an hour, and no events
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	drop(t, s, "loadings/Eskvik/loadings 2026-10-06.csv", table(header, "SK2,10,1"))
	out := s.Must("place", "pace", "share", "-every", "200ms", "-settle", "1s")
	assert.Contains(t, out, "a look every 200ms; a file is settled once left alone for 1s")
	becomes(t, s, "loadings", "loadings/Eskvik/loadings 2026-10-06.csv", "picked new")
	drop(t, s, "loadings/Eskvik/loadings 2026-10-07.csv", table(header, "SK3,10,1"))
	becomes(t, s, "loadings", "loadings/Eskvik/loadings 2026-10-07.csv", "held_back arriving", "picked new")
	becomes(t, s, "loadings", "loadings/Eskvik/loadings 2026-10-07.csv", "picked new")
}

// A slot is not missing while its file is being written or is not seen, nor
// late because a file that came in time is mended.
func TestSlotsOfFilesInFlux(t *testing.T) {
	c := &clock{}
	c.offset.Store(int64(time.Until(time.Date(2026, 10, 8, 6, 0, 0, 0, time.UTC))))
	s := testkit.Start(t, testkit.Options{Events: true, Settle: 2 * time.Second, Clock: c.now})
	s.Write("loadings/days.ics", "BEGIN:VCALENDAR\nEND:VCALENDAR\n")
	name := func(terminal string, day int) string {
		return fmt.Sprintf("loadings/%s/loadings 2026-10-%02d.csv", terminal, day)
	}
	for day := 1; day <= 6; day++ {
		for _, terminal := range []string{"Eskvik", "Fennay"} {
			s.Write(name(terminal, day), table("sailing", fmt.Sprint(terminal, day)))
			in := time.Date(2026, 10, day, 18, 0, 0, 0, time.UTC)
			require.NoError(t, os.Chtimes(filepath.Join(s.Share, name(terminal, day)), in, in))
		}
	}
	s.Definition(expected)
	slots := func() string {
		return s.Query(`SELECT (counts->'coverage')::text FROM jorvex.inputs`)
	}
	becomes(t, s, "loadings", name("Eskvik", 6), "picked new")
	assert.Equal(t, `{"filled": 8, "not_due": 4}`, slots())
	drop(t, s, name("Eskvik", 6), table("sailing", "mended"))
	becomes(t, s, "loadings", name("Eskvik", 6), "held_back arriving")
	assert.Equal(t, `{"filled": 8, "not_due": 4}`, slots())
	becomes(t, s, "loadings", name("Eskvik", 6), "picked new")
	assert.Equal(t, `{"filled": 8, "not_due": 4}`, slots())

	// All are gone at once, which is not believed.
	s.Must("refresh", "loadings")
	require.NoError(t, os.Rename(filepath.Join(s.Share, "loadings/Eskvik"), filepath.Join(s.Share, "Eskvik")))
	require.NoError(t, os.Rename(filepath.Join(s.Share, "loadings/Fennay"), filepath.Join(s.Share, "Fennay")))
	becomes(t, s, "loadings", name("Eskvik", 6), "held_back in_doubt")
	assert.Equal(t, `{"filled": 8, "not_due": 4}`, slots())
	assert.NotContains(t, s.Must("coverage", "loadings"), "missing")
	s.Must("confirm", "loadings")
	becomes(t, s, "loadings", name("Eskvik", 6), "left_out removed")
	assert.Equal(t, `{"missing": 8, "not_due": 4}`, slots())
}

// A mounted share that goes away leaves an empty directory behind, which is not
// the place; its files are unknown until it is back, or somebody says that the
// directory is no mounted share any more.
func TestLostMount(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{Events: true, Settle: span})
	where := filepath.Join(s.Share, "mounted")
	require.NoError(t, os.Mkdir(where, 0o755))
	if err := unix.Mount("none", where, "tmpfs", 0, "size=1m"); err != nil {
		t.Skip("no file system can be mounted here: ", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(where, unix.MNT_DETACH) })
	write := func() {
		for _, name := range []string{"loadings/Eskvik/loadings 2026-10-05.csv", "loadings/Fennay/loadings 2026-10-05.csv"} {
			testkit.WriteFile(t, filepath.Join(where, name), table(header, "SK1,10,1"))
		}
	}
	write()
	s.Must("place", "add", "share", where)
	s.Definition(loadings)
	path := "loadings/Eskvik/loadings 2026-10-05.csv"
	becomes(t, s, "loadings", path, "picked new")
	s.Must("refresh", "loadings")
	require.NoError(t, unix.Unmount(where, unix.MNT_DETACH))
	r := s.Run("look", "share")
	assert.Equal(t, client.Failed, r.Code)
	assert.Contains(t, r.Out, "share cannot be reached: it was a mounted share and is none now; its files are unknown, not removed")
	assert.Equal(t, "held_back unknown", states(t, s, "loadings")[path])
	require.NoError(t, unix.Mount("none", where, "tmpfs", 0, "size=1m"))
	write()
	s.Must("look", "share")
	becomes(t, s, "loadings", path, "picked same", "left_out removed")

	require.NoError(t, unix.Unmount(where, unix.MNT_DETACH))
	write()
	assert.Equal(t, client.Failed, s.Run("look", "share").Code)
	assert.Contains(t, s.Must("place", "unmounted", "share"), "yes")
	becomes(t, s, "loadings", path, "picked same", "left_out removed")
}
