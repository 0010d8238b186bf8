package test

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/cluster"
	"jorvex/internal/records"
	"jorvex/internal/testkit"
)

// A sound file cut at every tenth of its length, and with bytes flipped, is
// never taken for a whole one without a word, and nothing crashes.
func TestDamagedFiles(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	sound := table(header)
	for i := range 40 {
		sound += fmt.Sprintf("SK%04d,\"%d\",%d.5\n", i, 100+i, i)
	}
	s.Write("loadings/Sound/loadings 2026-10-05.csv", sound)
	want := map[string]string{}
	for tenth := range 10 {
		path := fmt.Sprintf("loadings/Cut%d/loadings 2026-10-05.csv", tenth)
		s.Write(path, sound[:len(sound)*tenth/10])
		want[path] = "cut"
	}
	random := rand.New(rand.NewPCG(1, 2))
	for n := range 20 {
		bytes := []byte(sound)
		for range 1 + n {
			bytes[random.IntN(len(bytes))] ^= 1 << random.IntN(8)
		}
		s.Write(fmt.Sprintf("loadings/Flipped%d/loadings 2026-10-05.csv", n), string(bytes))
	}
	s.Definition(loadings)
	page, err := s.API.ListFilesWithResponse(t.Context(), "loadings", nil)
	require.NoError(t, err)
	told := 0
	for _, f := range page.JSON200.Items {
		switch {
		case strings.Contains(f.Path, "/Sound/"):
			assert.Empty(t, f.Findings, f.Path)
		case strings.Contains(f.Path, "/Cut0/"):
			assert.Equal(t, "empty", f.Findings[0].Code)
		case want[f.Path] != "" && len(f.Findings) > 0:
			told++
		}
	}
	assert.GreaterOrEqual(t, told, 6, "a cut in the middle of a row is told; one at its end leaves a sound file")
	s.Must("input", "save", definitionFile(t, loadings+"gate: {broken: leave_out}\n"), "-over", "newest")
	s.Must("refresh", "loadings")
}

// A hundred thousand files that go and come back leave nothing wrong behind.
func TestManyGoAndComeBack(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	const folders, each = 1000, 100
	for f := range folders {
		dir := filepath.Join(s.Share, fmt.Sprintf("in/T%d", f))
		require.NoError(t, os.MkdirAll(dir, 0o755))
		for i := range each {
			require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%d.pdf", i)), nil, 0o644))
		}
	}
	s.Write("in/T0/loadings.csv", "n\n1\n")
	s.Definition("input: many\nplace: share\nfolder: in\npick: [\"**/loadings.csv\"]\n")
	s.Must("refresh", "many")
	away := s.Share + "-in"
	require.NoError(t, os.Rename(filepath.Join(s.Share, "in"), away))
	assert.Contains(t, s.Must("look", "share"), "100,001 gone")
	assert.Equal(t, "left_out removed", states(t, s, "many", "-contains", "loadings")["in/T0/loadings.csv"])
	require.NoError(t, os.Rename(away, filepath.Join(s.Share, "in")))
	assert.Contains(t, s.Must("look", "share"), "100,001 new")
	assert.Equal(t, "picked same", states(t, s, "many", "-contains", "loadings")["in/T0/loadings.csv"])
	assert.Equal(t, "100001", s.Query("SELECT count(*)::text FROM jorvex.files WHERE evidence = 1"), "each file once")
}

// A clock that is set back loses nothing and calls nothing changed.
func TestClockSetBack(t *testing.T) {
	c := &clock{}
	s := testkit.Start(t, testkit.Options{Clock: c.now})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	c.offset.Store(-int64(400 * 24 * time.Hour))
	s.Age("loadings/Eskvik/loadings 2026-10-05.csv", time.Minute)
	// By our clock the file is of next year. It is read until it has stood still for
	// a while, and not for the whole year.
	var fresh []string
	for range 3 {
		s.Must("look")
		assert.Equal(t, "picked same", states(t, s, "loadings")["loadings/Eskvik/loadings 2026-10-05.csv"])
		fresh = append(fresh, s.Query("SELECT fresh::text FROM files"))
		c.offset.Add(int64(1500 * time.Millisecond))
	}
	assert.Equal(t, []string{"true", "true", "false"}, fresh)
	s.Write("loadings/Eskvik/loadings 2026-10-06.csv", table(header, "SK2,20,1"))
	s.Must("look")
	assert.Contains(t, s.Must("refresh", "loadings"), "2 rows from 2 files, receipt 2")
	assert.Contains(t, s.Must("verify"), "the chain holds: 2 receipts")
}

// A file that is replaced again and again while the service looks and reads is
// delivered as one of its versions, whole.
func TestReplacedWhileRead(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	path := filepath.Join(s.Share, "loadings/Eskvik/loadings 2026-10-05.csv")
	version := func(n int) string {
		rows := []string{header}
		for range 2000 {
			rows = append(rows, fmt.Sprintf("V%d,%d,1", n, n))
		}
		return table(rows...)
	}
	testkit.WriteFile(t, path, version(1))
	s.Definition(loadings)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for n := 2; ctx.Err() == nil; n++ {
			// In place, so that a reader sees halves.
			if os.WriteFile(path, []byte(version(n)), 0o644) != nil {
				return
			}
			time.Sleep(3 * time.Millisecond)
		}
	}()
	delivered := 0
	for range 15 {
		if r := s.Run("refresh", "loadings"); r.Code == 0 {
			delivered++
			text := s.Delivered("loadings.csv")
			first := strings.Split(strings.Split(text, "\r\n")[1], ",")[2]
			assert.Equal(t, 2000, strings.Count(text, ","+first+","), "every row is of %s", first)
		} else {
			assert.NotContains(t, r.Err, "panic")
		}
	}
	cancel()
	<-done
	s.Must("look")
	s.Must("refresh", "loadings")
	assert.Contains(t, s.Must("verify"), fmt.Sprintf("the chain holds: %d receipt", delivered+1))
}

// A loop of links, a link that leads out, a pipe and a folder that cannot be
// listed are skipped with a word.
func TestOddEntries(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	require.NoError(t, os.Symlink("..", filepath.Join(s.Share, "loadings/up")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(s.Share, "loadings/out")))
	require.NoError(t, os.Symlink("nowhere", filepath.Join(s.Share, "loadings/dangling")))
	s.Definition(loadings)
	out := s.Must("look", "share")
	for _, want := range []string{"skipped loadings/up: a link to a folder it lies in", "skipped loadings/out: a link that leads nowhere in the place", "skipped loadings/dangling"} {
		assert.Contains(t, out, want)
	}
	assert.Equal(t, map[string]string{"loadings/Eskvik/loadings 2026-10-05.csv": "picked new"}, states(t, s, "loadings"))
	require.NoError(t, os.Symlink("Eskvik", filepath.Join(s.Share, "loadings/Port")))
	s.Must("look")
	assert.Equal(t, "picked new", states(t, s, "loadings")["loadings/Port/loadings 2026-10-05.csv"], "a link inside the place is followed")
}

// The database's connections are cut again and again while files come and
// refreshes run: the service goes on, and nothing is wrong afterwards.
func TestDatabaseCutUnderLoad(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{Interval: 100 * time.Millisecond})
	for i := range 30 {
		s.Write(fmt.Sprintf("loadings/T%d/loadings 2026-10-05.csv", i), table(header, strings.Repeat("SK1,1,0.5\n", 999)+"SK1,1,0.5"))
	}
	s.Definition(loadings)
	delivered := 0
	for round := range 8 {
		s.Write(fmt.Sprintf("loadings/T%d/loadings 2026-10-06.csv", round), table(header, "SK2,1,0.5"))
		done := make(chan testkit.Result, 1)
		go func() { done <- s.Run("refresh", "loadings") }()
		time.Sleep(time.Duration(20+40*round) * time.Millisecond)
		s.Exec("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()")
		if r := <-done; r.Code == 0 {
			delivered++
		}
	}
	// The lease is taken again, and what waited or was cut off comes to an end.
	for end := time.Now().Add(60 * time.Second); ; time.Sleep(300 * time.Millisecond) {
		if r := s.Run("refresh", "loadings"); r.Code == 0 && strings.Contains(r.Out, "30,008 rows from 38 files") {
			break
		}
		require.True(t, time.Now().Before(end), "%+v\n%s", s.Run("refresh", "loadings"), s.Run("refreshes").Out)
	}
	assert.Equal(t, 30_009, strings.Count(s.Delivered("loadings.csv"), "\r\n"))
	assert.Equal(t, "30008", s.Query("SELECT count(*)::text FROM delivered.loadings"))
	assert.Contains(t, s.Must("verify"), "the chain holds")
	time.Sleep(5 * time.Second)
	_, err := records.Open(t.Context(), s.URL)
	assert.ErrorIs(t, err, records.ErrInUse, "the lease is held again")
}

// The database server itself is stopped while refreshes run, and started again
// elsewhere: what was asked for is told as failed or is done later, and nothing
// is lost or doubled.
func TestDatabaseStoppedUnderLoad(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "jorvex-stopped")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	server, err := cluster.Start(t.Context(), filepath.Join(dir, "postgres"), "fsync=off")
	require.NoError(t, err)
	door := openDoor(t, server.URL)
	data := t.TempDir()
	o := testkit.Options{Data: data, Share: filepath.Join(data, "share"), URL: door.url, Interval: 100 * time.Millisecond}
	require.NoError(t, os.Mkdir(o.Share, 0o755))
	s := testkit.Start(t, o)
	for i := range 30 {
		s.Write(fmt.Sprintf("loadings/T%d/loadings 2026-10-05.csv", i), table(header, strings.Repeat("SK1,1,0.5\n", 999)+"SK1,1,0.5"))
	}
	s.Definition(loadings)
	for round := range 3 {
		s.Write(fmt.Sprintf("loadings/T%d/loadings 2026-10-06.csv", round), table(header, "SK2,1,0.5"))
		done := make(chan testkit.Result, 1)
		go func() { done <- s.Run("refresh", "loadings") }()
		time.Sleep(time.Duration(30+60*round) * time.Millisecond)
		require.NoError(t, server.Stop())
		if r := s.Run("input", "list"); r.Code == 0 {
			t.Error("it answers though its records are away: " + r.Out)
		}
		s.Write(fmt.Sprintf("loadings/Away%d/loadings 2026-10-06.csv", round), table(header, "SK3,1,0.5"))
		time.Sleep(time.Second)
		server, err = cluster.Start(t.Context(), filepath.Join(dir, "postgres"), "fsync=off")
		require.NoError(t, err)
		door.leadTo(server.URL)
		<-done
	}
	t.Cleanup(func() { s.Stop(); _ = server.Stop() })
	for end := time.Now().Add(60 * time.Second); ; time.Sleep(300 * time.Millisecond) {
		if r := s.Run("refresh", "loadings"); r.Code == 0 && strings.Contains(r.Out, "30,006 rows from 36 files") {
			break
		}
		require.True(t, time.Now().Before(end), "%+v\n%s", s.Run("refresh", "loadings"), s.Run("refreshes").Out)
	}
	assert.Equal(t, 30_007, strings.Count(s.Delivered("loadings.csv"), "\r\n"))
	assert.Contains(t, s.Must("verify"), "the chain holds")
	assert.Equal(t, "36", s.Query("SELECT count(*)::text FROM jorvex.roster WHERE state = 'same'"))
}

// door is an address that leads to a database server, wherever that is.
type door struct {
	url string
	to  atomic.Value // host:port
}

func openDoor(t *testing.T, server string) *door {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	d := &door{}
	d.leadTo(server)
	d.url = strings.Replace(server, d.to.Load().(string), listener.Addr().String(), 1)
	go func() {
		for {
			in, err := listener.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", d.to.Load().(string))
			if err != nil {
				_ = in.Close()
				continue
			}
			for _, ends := range [][2]net.Conn{{in, out}, {out, in}} {
				go func() {
					_, _ = io.Copy(ends[0], ends[1])
					_ = ends[0].Close()
				}()
			}
		}
	}()
	return d
}

// leadTo has the door lead to the server at a URL.
func (d *door) leadTo(server string) {
	u, _ := url.Parse(server)
	d.to.Store(u.Host)
}

// Killed while it looks, at different moments: the next start goes on from
// what is there, each file once.
func TestKilledWhileLooking(t *testing.T) {
	t.Parallel()
	first := testkit.Start(t, testkit.Options{})
	first.Must("place", "add", "share", first.Share)
	first.Stop()
	total := 0
	for i, after := range []time.Duration{1, 20, 60, 120, 200, 300} {
		for n := range 2000 {
			first.Write(fmt.Sprintf("in/%d/%d/%d.csv", i, n/100, n), "n\n1\n")
			total++
		}
		process := alone(t, first)
		go first.Run("look", "share")
		time.Sleep(after * time.Millisecond)
		require.NoError(t, process.Process.Kill())
		_ = process.Wait()
		next := testkit.Start(t, testkit.Options{Data: first.Data, Share: first.Share, URL: first.URL})
		next.Must("look", "share")
		assert.Equal(t, fmt.Sprint(total), next.Query("SELECT count(*)::text FROM jorvex.files WHERE evidence = 1"))
		assert.Equal(t, fmt.Sprint(total), next.Query("SELECT count(DISTINCT path)::text FROM jorvex.files"))
		next.Stop()
	}
}
