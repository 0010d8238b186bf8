package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/testkit"
)

// The benchmarks time the product against a general tool that does the bare
// minimum of the same work, in one run, and print the ratio. docs/performance.md
// tells how to run them.

// timed returns the least time of so many runs, in seconds.
func timed(runs int, f func()) float64 {
	least := time.Duration(1 << 62)
	for range runs {
		start := time.Now()
		f()
		least = min(least, time.Since(start))
	}
	return least.Seconds()
}

func shell(b *testing.B, command string) func() {
	return func() {
		out, err := exec.Command("sh", "-c", command).CombinedOutput()
		require.NoError(b, err, string(out))
	}
}

// BenchmarkLook looks at 100,000 files in 1,000 nested folders.
func BenchmarkLook(b *testing.B) { lookAt(b, 1000) }

// BenchmarkMillion looks at 1,000,000 files in 10,000 nested folders.
func BenchmarkMillion(b *testing.B) { lookAt(b, 10_000) }

func lookAt(b *testing.B, folders int) {
	s := testkit.Start(b, testkit.Options{})
	old := time.Now().Add(-time.Hour)
	for folder := range folders {
		dir := filepath.Join(s.Share, fmt.Sprintf("region %d/terminal %d/2026", folder/100, folder))
		require.NoError(b, os.MkdirAll(dir, 0o755))
		for file := range 100 {
			path := filepath.Join(dir, fmt.Sprintf("loadings %d-%d.csv", folder, file))
			require.NoError(b, os.WriteFile(path, nil, 0o644))
			require.NoError(b, os.Chtimes(path, old, old))
		}
	}
	find := timed(5, shell(b, "find '"+s.Share+"' -type f -printf '%p %s %T@\\n' > /dev/null"))
	var first, again float64
	for b.Loop() {
		first = timed(1, func() { s.Must("place", "add", fmt.Sprintf("share-%d", time.Now().UnixNano()), s.Share) })
		name := strings.Fields(s.Must("place", "list", "-csv"))[len(strings.Fields("place,reachable"))]
		name, _, _ = strings.Cut(name, ",")
		again = timed(5, func() { s.Must("look", name) })
	}
	b.ReportMetric(find, "find-s")
	b.ReportMetric(first/find, "first/find")
	b.ReportMetric(again/find, "again/find")
	b.ReportMetric(resident(b), "resident-MB")
}

// resident is the memory of this process, service and benchmark, in MB.
func resident(b *testing.B) float64 {
	debug.FreeOSMemory()
	status, err := os.ReadFile("/proc/self/status")
	require.NoError(b, err)
	for line := range strings.Lines(string(status)) {
		if kib, is := strings.CutPrefix(line, "VmRSS:"); is {
			var n float64
			_, err := fmt.Sscan(kib, &n)
			require.NoError(b, err)
			return n * 1024 / 1e6
		}
	}
	return 0
}

// BenchmarkEvent drops files one by one and times how long after its settling
// span a client is told of each.
func BenchmarkEvent(b *testing.B) {
	const settle = 500 * time.Millisecond
	s := testkit.Start(b, testkit.Options{Events: true, Settle: settle})
	s.Write("in/first.csv", "n\n1\n")
	s.Definition("input: in\nplace: share\nfolder: in\npick: [\"*.csv\"]\n")
	time.Sleep(3 * time.Second) // the first look adds the folders
	answer, err := s.API.StreamEvents(b.Context(), &api.StreamEventsParams{})
	require.NoError(b, err)
	defer answer.Body.Close()
	lines := bufio.NewScanner(answer.Body)
	var waits []time.Duration
	for b.Loop() {
		waits = waits[:0]
		for n := range 60 {
			name := fmt.Sprintf("in/%d-%d.csv", b.N, n)
			start := time.Now()
			require.NoError(b, os.WriteFile(filepath.Join(s.Share, name), []byte("n\n1\n"), 0o644))
			for lines.Scan() {
				var e api.ChangesEvent
				data, is := strings.CutPrefix(lines.Text(), "data: ")
				if is && json.Unmarshal([]byte(data), &e) == nil && len(e.First) > 0 && e.First[0].Path == name && e.First[0].State == "new" {
					break
				}
			}
			waits = append(waits, time.Since(start)-settle)
		}
	}
	slices.Sort(waits)
	b.ReportMetric(waits[len(waits)/2].Seconds(), "p50-s")
	b.ReportMetric(waits[len(waits)*99/100].Seconds(), "p99-s")
}

// BenchmarkFindings reads 10,000 small files for what may be wrong with them.
func BenchmarkFindings(b *testing.B) {
	s := testkit.Start(b, testkit.Options{})
	const n = 10_000
	for i := range n {
		s.Write(fmt.Sprintf("loadings/T%d/loadings %s.csv", i/250, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, i%250).Format(time.DateOnly)),
			table(header, fmt.Sprintf("SK%d,10,1.5", i), fmt.Sprintf("SL%d,20,2.5", i)))
	}
	s.Must("place", "add", "share", s.Share)
	var took float64
	for b.Loop() {
		took = timed(1, func() { s.Definition(loadings) })
	}
	b.ReportMetric(n/took, "files/s")
}

// BenchmarkRefresh refreshes 300 files, 300 MB of delimited text, to one
// delimited file.
func BenchmarkRefresh(b *testing.B) {
	s := testkit.Start(b, testkit.Options{})
	var rows strings.Builder
	for i := 0; rows.Len() < 1_000_000; i++ {
		fmt.Fprintf(&rows, "SK%06d,%d,%d.%d,%s,%s\n", i, i%400, i%90, i%10, []string{"Petrel", "Gannet", "Fulmar", "Kittiwake"}[i%4], []string{"Aldersund", "Brannhold", "Coldmere"}[i%3])
	}
	for i := range 300 {
		s.Write(fmt.Sprintf("loadings/Eskvik/loadings %04d-10-05.csv", 1000+i), "sailing,passengers,Freight (t),vessel,bound_for\n"+fmt.Sprintf("X%d,1,1.0,Petrel,Eskvik\n", i)+rows.String())
	}
	out := filepath.Join(b.TempDir(), "out")
	minimum := timed(3, shell(b, fmt.Sprintf("cat '%s'/loadings/*/* > '%s' && sha256sum '%s'/loadings/*/* > '%s.sums'", s.Share, out, s.Share, out)))
	definition := strings.Replace(loadings, "  - table: loadings\n", "", 1)
	definition = strings.Replace(definition, "  - {name: source_file, file: name}\n", "  - {name: vessel}\n  - {name: bound_for}\n", 1)
	s.Definition(definition)
	var first, again float64
	for b.Loop() {
		for _, kept := range []string{"vault", "parts"} {
			require.NoError(b, os.RemoveAll(filepath.Join(s.Data, kept)))
			require.NoError(b, os.MkdirAll(filepath.Join(s.Data, kept, "incoming"), 0o700))
		}
		first = timed(1, func() { s.Must("refresh", "loadings") })
		again = timed(2, func() { s.Must("refresh", "loadings") })
	}
	b.ReportMetric(minimum, "cat+sha256sum-s")
	b.ReportMetric(first/minimum, "first/minimum")
	b.ReportMetric(again/minimum, "again/minimum")
}

// BenchmarkTry tries a definition that is not saved on 100,000 files, half of
// which it picks, against the saved one.
func BenchmarkTry(b *testing.B) {
	s := testkit.Start(b, testkit.Options{})
	old := time.Now().Add(-time.Hour)
	for folder := range 1000 {
		dir := filepath.Join(s.Share, fmt.Sprintf("terminal %d/2026", folder))
		require.NoError(b, os.MkdirAll(dir, 0o755))
		for file := range 100 {
			name := fmt.Sprintf("loadings %s.csv", old.AddDate(0, 0, -file).Format(time.DateOnly))
			if file%2 == 1 {
				name = fmt.Sprintf("photo %d.jpg", file)
			}
			path := filepath.Join(dir, name)
			require.NoError(b, os.WriteFile(path, nil, 0o644))
			require.NoError(b, os.Chtimes(path, old, old))
		}
	}
	text := "input: many\nplace: share\npick: [\"<terminal>/<year:yyyy>/loadings <day:yyyy-MM-dd>.csv\"]\n"
	s.Definition(text)
	list := shell(b, "find '"+s.Share+"' -type f -name 'loadings *.csv' | sort > /dev/null")
	text += "leave_out: [name contains \"draft\", size above 1 GB]\nlatest: {of: day, per: terminal, keep: 5}\n"
	var trial, find float64
	for b.Loop() {
		find = timed(5, list)
		trial = timed(5, func() {
			answer, err := s.API.TryDefinitionWithResponse(b.Context(), api.TrialRequest{Definition: text, Input: "many"})
			require.NoError(b, err)
			require.Equal(b, int64(5000), answer.JSON200.Counts.Picked, string(answer.Body[:min(len(answer.Body), 300)]))
			require.Equal(b, int64(45000), answer.JSON200.Lost.Files)
		})
	}
	b.ReportMetric(trial, "try-s")
	b.ReportMetric(trial/find, "try/find")
}
