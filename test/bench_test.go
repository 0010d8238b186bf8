package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
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
func BenchmarkLook(b *testing.B) {
	s := testkit.Start(b, testkit.Options{})
	old := time.Now().Add(-time.Hour)
	for folder := range 1000 {
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
		require.NoError(b, os.RemoveAll(filepath.Join(s.Data, "vault")))
		require.NoError(b, os.MkdirAll(filepath.Join(s.Data, "vault/incoming"), 0o700))
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
