package test

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/testkit"
)

// alone starts a service as a process of its own, by way of another program if one
// is named.
func alone(t *testing.T, s *testkit.Service, by ...string) *exec.Cmd {
	t.Helper()
	by = append(by, os.Args[0])
	command := exec.Command(by[0], by[1:]...)
	command.Env = append(os.Environ(), "JORVEX_TEST_SERVE="+s.Share, "JORVEX_DATA="+s.Data, "JORVEX_DATABASE_URL="+s.URL)
	command.Stderr = os.Stderr
	out, err := command.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, command.Start())
	t.Cleanup(func() { _ = command.Process.Kill(); _ = command.Wait() })
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err, "the service did not start")
	require.True(t, strings.HasPrefix(line, "ready "))
	return command
}

// Killed in the middle of a refresh, at different moments: the old delivery is
// whole, the chain holds, and the next refresh is right.
func TestKilledInTheMiddleOfARefresh(t *testing.T) {
	t.Parallel()
	first := testkit.Start(t, testkit.Options{})
	for i := range 40 {
		first.Write(fmt.Sprintf("loadings/Eskvik/loadings 20%02d-10-05.csv", i+10), table(header, strings.Repeat("SK1,1,0.5\n", 4999)+"SK1,1,0.5"))
	}
	first.Definition(loadings)
	first.Must("refresh", "loadings")
	old := first.Delivered("loadings.csv")
	first.Stop()
	const rows = 40 * 5000

	interrupted := 0
	for i, after := range []time.Duration{60, 250, 500} {
		process := alone(t, first)
		first.Write("loadings/Fennay/loadings 2026-10-05.csv", table(header, fmt.Sprintf("SK9,%d,1", i)))
		first.Must("refresh", "loadings", "-wait=false")
		time.Sleep(after * time.Millisecond)
		require.NoError(t, process.Process.Kill())
		_ = process.Wait()

		// A reader sees a whole delivery: the old or the new one.
		now := first.Delivered("loadings.csv")
		if now != old {
			assert.Equal(t, rows+2, strings.Count(now, "\r\n"), "a header and all rows")
			assert.True(t, strings.HasSuffix(now, "\r\n"))
		}
		assert.Contains(t, []string{fmt.Sprint(rows), fmt.Sprint(rows + 1)}, first.Query("SELECT count(*)::text FROM delivered.loadings"))

		next := testkit.Start(t, testkit.Options{Data: first.Data, Share: first.Share, URL: first.URL})
		if strings.Contains(next.Must("refreshes", "-most", "1"), "interrupted") {
			interrupted++
		}
		out := next.Must("refresh", "loadings")
		assert.Contains(t, out, "200,001 rows from 41 files")
		assert.Equal(t, rows+2, strings.Count(next.Delivered("loadings.csv"), "\r\n"))
		assert.Equal(t, fmt.Sprint(rows+1), next.Query("SELECT count(*)::text FROM delivered.loadings"))
		assert.Contains(t, next.Must("verify"), "the chain holds")
		assert.Equal(t, "0", next.Query("SELECT count(*)::text FROM pg_tables WHERE tablename LIKE 'jorvex_staged%'"))
		for _, pattern := range []string{"deliveries/.jorvex-*", "scratch/*", "vault/incoming/*"} {
			left, err := filepath.Glob(filepath.Join(first.Data, pattern))
			require.NoError(t, err)
			assert.Empty(t, left)
		}
		old = next.Delivered("loadings.csv")
		next.Stop()
	}
	assert.Positive(t, interrupted, "no kill fell into a refresh")
}

// The commit counts: a delivery that was committed and not yet put in its place
// when the service died is put there at the next start.
func TestCommittedDeliveryRollsForward(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	s.Stop()
	// As if it had died between the commit and the renaming.
	dir := filepath.Join(s.Data, "deliveries")
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".jorvex-1-loadings.csv"), []byte("the committed bytes"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".jorvex-9-loadings.csv"), []byte("never committed"), 0o644))
	s.Exec("INSERT INTO jorvex.publications VALUES (1, '.jorvex-1-loadings.csv', 'loadings.csv')")
	again := testkit.Start(t, testkit.Options{Data: s.Data, Share: s.Share, URL: s.URL})
	assert.Equal(t, "the committed bytes", again.Delivered("loadings.csv"))
	assert.NoFileExists(t, filepath.Join(dir, ".jorvex-9-loadings.csv"))
	assert.Equal(t, "0", again.Query("SELECT count(*)::text FROM jorvex.publications"))
}

// A delivery that cannot be put in its place is told before a file is read.
func TestDeliveryThatCannotTakeItsPlace(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	blocked := filepath.Join(s.Data, "deliveries", "loadings.csv")
	require.NoError(t, os.Remove(blocked))
	require.NoError(t, os.Mkdir(blocked, 0o755))
	r := s.Run("refresh", "loadings")
	assert.Contains(t, r.Err, "the delivery loadings.csv cannot be written: a folder has its name")
	require.NoError(t, os.Remove(blocked))
	s.Must("refresh", "loadings")
	assert.Contains(t, s.Delivered("loadings.csv"), "SK1,10,1")
}

// Deliveries hold while refreshes replace them, in their places or not yet.
func TestVerifyBesideRefreshes(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	s.Definition(strings.Replace(loadings, "deliver:", "deliver:\n  - folder: loadings-files", 1))
	for i := range 10 {
		s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, strings.Repeat(fmt.Sprintf("SK1,%d,1\n", i), 1000)+"SK1,1,1"))
		s.Must("look")
		s.Must("refresh", "loadings", "-wait=false")
		for receipt := fmt.Sprint(i + 1); s.Query("SELECT count(*)::text FROM jorvex.receipts") != receipt; {
			s.Must("verify", "-deliveries")
		}
	}
	assert.Contains(t, s.Must("verify", "-deliveries"), "the deliveries hold: 3 deliveries as delivered last")
}

// Killed at a hundred and more random moments, across looking, shaping, delivering,
// publishing and handing over: no source file is lost or handed over twice, no row is
// doubled, every delivery is whole, and the chains hold.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	s.Definition(`input: crash
place: share
folder: in
pick: ["batch <n>.csv"]
columns: [{name: n, capture: n, watch: true}, {name: id, type: whole, total: true, key: true}]
summaries: [{name: by file, rows: n, measures: [count, sum id]}]
deliver: [{file: crash.csv}, {folder: crash-files}, {table: crash}, {table: crash_some, load: changed}]
handover: {move: done}
gate: {nothing_picked: go_on}
`)
	s.Must("place", "writable", "share")
	s.Stop()
	const kills, each = 102, 40
	random := rand.New(rand.NewPCG(7, 11))
	moments := map[string]int{}
	dropped := 0
	process := alone(t, s)
	s.Must("refresh", "crash")
	// Moments are spread over what a refresh takes here: over longer while they fall
	// before its end, over less once they fall after it.
	spread := 100 * time.Millisecond
	for range kills {
		dropped++
		var rows strings.Builder
		for i := range each {
			fmt.Fprintf(&rows, "%d\n", dropped*1000+i)
		}
		s.Write(fmt.Sprintf("in/batch %d.csv", dropped), "id\n"+rows.String())
		s.Must("refresh", "crash", "-wait=false")
		time.Sleep(time.Duration(random.Float64() * float64(spread)))
		require.NoError(t, process.Process.Kill())
		_ = process.Wait()
		moment := s.Query(`SELECT coalesce((SELECT CASE WHEN outcome = 'running' THEN stage ELSE outcome END FROM jorvex.refreshes ORDER BY id DESC LIMIT 1), '')
			|| CASE WHEN EXISTS (SELECT FROM jorvex.publications) THEN ', to be published' ELSE '' END || CASE WHEN EXISTS (SELECT FROM jorvex.handovers WHERE state = 'due') THEN ', to be handed over' ELSE '' END`)
		if moments[moment]++; moment == "delivered" {
			spread = spread * 4 / 5
		} else {
			spread = spread * 11 / 10
		}

		process = alone(t, s)    // which makes good what the last left
		if moment == "waiting" { // and runs what was asked for
			require.Eventually(t, func() bool {
				return s.Query(`SELECT (SELECT count(*) FROM jorvex.refreshes WHERE outcome IN ('waiting', 'running')) + (SELECT count(*) FROM jorvex.publications)
					+ (SELECT count(*) FROM jorvex.handovers WHERE state <> 'done')`) == "0"
			}, 30*time.Second, 10*time.Millisecond)
		}
		assert.Equal(t, "0", s.Query("SELECT count(*)::text FROM jorvex.publications"))
		assert.Equal(t, "0", s.Query("SELECT count(*)::text FROM jorvex.handovers WHERE state <> 'done'"))
		assert.Equal(t, "0", s.Query("SELECT count(*)::text FROM jorvex.handovers a JOIN jorvex.handovers b USING (path) WHERE a.id < b.id"))
		in, err := filepath.Glob(filepath.Join(s.Share, "in", "batch *"))
		require.NoError(t, err)
		done, err := filepath.Glob(filepath.Join(s.Share, "done", "batch *"))
		require.NoError(t, err)
		aside, err := filepath.Glob(filepath.Join(s.Share, "*", ".jorvex*"))
		require.NoError(t, err)
		require.Equal(t, dropped, len(in)+len(done), "every file is there, once")
		assert.Empty(t, aside)
		if s.Query("SELECT count(*)::text FROM jorvex.receipts") != "0" {
			out := s.Must("verify", "-deliveries")
			assert.Contains(t, out, "the deliveries hold: 4 deliveries as delivered last")
			for _, name := range []string{"crash", "crash_some"} {
				assert.Equal(t, "0", s.Query("SELECT (count(*) - count(DISTINCT id))::text FROM delivered."+name))
			}
		}
		if t.Failed() {
			return
		}
	}
	out := s.Must("refresh", "crash")
	assert.Contains(t, strings.ReplaceAll(out, ",", ""), fmt.Sprintf("%d rows from %d files", dropped*each, dropped))
	assert.Equal(t, fmt.Sprint(dropped*each), s.Query("SELECT count(DISTINCT id)::text FROM delivered.crash_some"))
	done, err := filepath.Glob(filepath.Join(s.Share, "done", "batch *"))
	require.NoError(t, err)
	assert.Len(t, done, dropped)
	s.Must("verify", "-deep", "-deliveries")
	t.Log(moments)
	assert.GreaterOrEqual(t, len(moments), 3, "the kills fell into several stages: %v", moments)
}

// A file that keeps changing is not read half.
func TestFilesThatMoveWhileTheyAreRead(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Definition(loadings)
	growing := filepath.Join(s.Share, "loadings/Eskvik/loadings 2026-10-05.csv")
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, strings.Repeat("SK1,1,1\n", 99_999)+"SK1,1,1"))
	writer := exec.Command("sh", "-c", `while :; do echo SK1,1,1; sleep 0.001; done >>"$0"`, growing)
	require.NoError(t, writer.Start())
	r := s.Run("refresh", "loadings")
	require.NoError(t, writer.Process.Kill())
	_ = writer.Wait()
	assert.Contains(t, r.Err, "the file kept changing while it was read")
	rows := s.Must("refresh", "loadings")
	whole, err := os.ReadFile(growing)
	require.NoError(t, err)
	assert.Contains(t, strings.ReplaceAll(rows, ",", ""), fmt.Sprintf("%d rows from 1 file", strings.Count(string(whole), "\n")-1))
}
