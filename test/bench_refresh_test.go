package test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/core/receipt"
	"jorvex/internal/testkit"
	"jorvex/internal/vault"
)

// text makes n rows of loadings, all different.
func text(n, seed int) string {
	var b strings.Builder
	b.WriteString(header + "\n")
	for i := range n {
		fmt.Fprintf(&b, "S%d-%d,%d,%d.%d\n", seed, i, i%400, i%90, i%10)
	}
	return b.String()
}

// BenchmarkChanged refreshes after 1 of 1,000 files changed: into a table that is
// loaded by changed files, against the full refresh; into a delimited file, against
// cp and sha256sum of it.
func BenchmarkChanged(b *testing.B) {
	for _, kind := range []string{"table", "file"} {
		b.Run(kind, func(b *testing.B) {
			s := testkit.Start(b, testkit.Options{})
			for i := range 1000 {
				s.Write(fmt.Sprintf("loadings/Eskvik/loadings %04d-10-05.csv", 1000+i), text(5000, i))
			}
			deliver := "deliver:\n  - {table: loadings, load: changed}\n"
			if kind == "file" {
				deliver = "deliver:\n  - file: loadings.csv\n"
			}
			s.Definition(loadings[:strings.Index(loadings, "deliver:")] + deliver)
			full := timed(1, func() { s.Must("refresh", "loadings") })
			var again float64
			for b.Loop() {
				times := make([]float64, 3)
				for i := range times {
					s.Write("loadings/Eskvik/loadings 1500-10-05.csv", text(5000, 2000+i))
					times[i] = timed(1, func() { s.Must("refresh", "loadings") })
				}
				again = min(times[0], times[1], times[2])
			}
			b.ReportMetric(again, "changed-s")
			if kind == "table" {
				b.ReportMetric(again/full, "changed/full")
				return
			}
			file := filepath.Join(s.Data, "deliveries", "loadings.csv")
			minimum := timed(3, shell(b, fmt.Sprintf("cp '%s' '%s.copy' && sync '%s.copy' && sha256sum '%s.copy' > /dev/null", file, file, file, file)))
			b.ReportMetric(again/minimum, "changed/cp+sha256sum")
		})
	}
}

// BenchmarkReplay replays a refresh, against making it.
func BenchmarkReplay(b *testing.B) {
	s := testkit.Start(b, testkit.Options{})
	for i := range 100 {
		s.Write(fmt.Sprintf("loadings/Eskvik/loadings %04d-10-05.csv", 1000+i), text(20_000, i))
	}
	s.Definition(strings.Replace(loadings, "  - table: loadings\n", "", 1))
	first := timed(1, func() { s.Must("refresh", "loadings") })
	var again float64
	for b.Loop() {
		again = timed(2, func() { s.Must("replay", "1") })
	}
	b.ReportMetric(again/first, "replay/refresh")
}

// BenchmarkLoad loads 5,000,000 rows into a table, against psql's \copy of a file of
// the same rows into the same table.
func BenchmarkLoad(b *testing.B) {
	s := testkit.Start(b, testkit.Options{})
	for i := range 50 {
		s.Write(fmt.Sprintf("loadings/Eskvik/loadings %04d-10-05.csv", 1000+i), text(100_000, i))
	}
	definition := loadings[:strings.Index(loadings, "deliver:")]
	s.Definition(definition + "deliver:\n  - file: loadings.csv\n")
	s.Must("refresh", "loadings")
	file := filepath.Join(s.Data, "deliveries", "loadings.csv")
	s.Exec("CREATE TABLE delivered.plain (terminal text, day date, sailing text, passengers bigint, freight_t numeric, source_file text)")
	if _, err := exec.LookPath("psql"); err != nil {
		b.Skip("psql is not here")
	}
	load := func() {
		s.Exec("TRUNCATE delivered.plain")
		out, err := exec.Command("psql", s.URL, "-qc", fmt.Sprintf(`\copy delivered.plain from '%s' with (format csv, header)`, file)).CombinedOutput()
		require.NoError(b, err, string(out))
	}
	version := s.Query("SELECT version::text FROM jorvex.inputs")
	path := filepath.Join(b.TempDir(), "definition.yaml")
	require.NoError(b, os.WriteFile(path, []byte(definition+"deliver:\n  - table: loadings\n"), 0o644))
	s.Must("input", "save", path, "-over", version)
	s.Must("refresh", "loadings") // the parts' digests are taken once
	var plain, ours float64
	for b.Loop() {
		plain = timed(2, load)
		ours = timed(2, func() { s.Must("refresh", "loadings") })
	}
	b.ReportMetric(ours/plain, "refresh/copy")
}

// BenchmarkAnswers asks of 100,000 receipts of 1,000 files each.
func BenchmarkAnswers(b *testing.B) {
	s := testkit.Start(b, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", text(10, 1))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	fillReceipts(b, s, 100_000, 1000)
	ask := func(f func() error) float64 {
		return 1000 * timed(20, func() { require.NoError(b, f()) })
	}
	fine := func(status int, err error) error {
		if err == nil && status != 200 {
			err = fmt.Errorf("status %d", status)
		}
		return err
	}
	for b.Loop() {
		b.ReportMetric(ask(func() error {
			a, err := s.API.GetReceiptWithResponse(b.Context(), 50_000)
			return fine(a.StatusCode(), err)
		}), "receipt-ms")
		b.ReportMetric(ask(func() error {
			a, err := s.API.CompareReceiptsWithResponse(b.Context(), 70_001, &api.CompareReceiptsParams{With: 30_000, Limit: 200})
			return fine(a.StatusCode(), err)
		}), "compare-ms")
		b.ReportMetric(ask(func() error {
			a, err := s.API.TraceFileWithResponse(b.Context(), &api.TraceFileParams{Path: "loadings/Eskvik/file 500.csv"})
			return fine(a.StatusCode(), err)
		}), "trace-ms")
		b.ReportMetric(ask(func() error {
			a, err := s.API.ListRefreshesWithResponse(b.Context(), &api.ListRefreshesParams{})
			return fine(a.StatusCode(), err)
		}), "refreshes-ms")
		b.ReportMetric(timed(1, func() { s.Run("verify") }), "verify-s")
	}
}

// fillReceipts appends receipts to the chain, as so many refreshes would.
func fillReceipts(b *testing.B, s *testkit.Service, receipts, files int) {
	b.Helper()
	kept, err := vault.Open(filepath.Join(s.Data, "vault"))
	require.NoError(b, err)
	lists := make([]string, 2)
	for v := range lists {
		var list []receipt.File
		for i := range files {
			list = append(list, receipt.File{Place: "share", Path: fmt.Sprintf("loadings/Eskvik/file %d.csv", i), Size: 1000, Modified: time.Unix(1_790_000_000, 0).UTC(), Use: receipt.Current,
				Digest: receipt.Digest(fmt.Append(nil, i, v*(i%20/19))), Read: 10, Kept: 10, Totals: []receipt.Total{{Column: "passengers", Sum: fmt.Sprint(i + v*(i%20/19))}}})
		}
		var lines bytes.Buffer
		require.NoError(b, receipt.WriteList(&lines, list))
		batch := kept.Batch()
		object, err := batch.Put(&lines)
		require.NoError(b, err)
		require.NoError(b, batch.Commit())
		lists[v] = object.Digest
	}
	conn, err := pgx.Connect(b.Context(), s.URL)
	require.NoError(b, err)
	defer conn.Close(context.Background())
	var last receipt.Stored
	require.NoError(b, conn.QueryRow(b.Context(), "SELECT number, header, digest FROM jorvex.receipts ORDER BY number DESC LIMIT 1").Scan(&last.Number, &last.Header, &last.Digest))
	header, err := receipt.ParseHeader(last.Header)
	require.NoError(b, err)
	tx, err := conn.Begin(b.Context())
	require.NoError(b, err)
	_, err = tx.Exec(b.Context(), `INSERT INTO jorvex.refreshes (input_id, outcome, asked_by, asked_at, as_of, started, ended, stage, files, rows, told)
		SELECT 1, 'delivered', 'local', now(), now(), now(), now(), 'done', $2::bigint, 10 * $2::bigint, true FROM generate_series(2, $1::int)`, receipts, files)
	require.NoError(b, err)
	_, err = tx.Exec(b.Context(), "INSERT INTO jorvex.refresh_inputs SELECT 1, id FROM jorvex.refreshes ON CONFLICT DO NOTHING")
	require.NoError(b, err)
	header.Files, header.Rows = int64(files), int64(10*files)
	_, err = tx.CopyFrom(b.Context(), pgx.Identifier{"jorvex", "receipts"}, []string{"number", "refresh_id", "header", "digest", "previous"}, pgx.CopyFromFunc(func() ([]any, error) {
		if last.Number == int64(receipts) {
			return nil, nil
		}
		header.Number, header.Previous, header.Refresh, header.FilesDigest = last.Number+1, last.Digest, last.Number+1, lists[last.Number%2]
		text, err := receipt.Canonical(header)
		if err != nil {
			return nil, err
		}
		last.Number, last.Digest = header.Number, receipt.Digest(text)
		return []any{header.Number, header.Refresh, text, last.Digest, header.Previous}, nil
	}))
	require.NoError(b, err)
	for _, sql := range []string{
		"INSERT INTO jorvex.receipt_inputs SELECT 1, number, '{}', false FROM jorvex.receipts ON CONFLICT DO NOTHING",
		fmt.Sprintf("UPDATE jorvex.chain SET number = %d, digest = '%s'", last.Number, last.Digest),
		// Each file had a hundred versions, one after another.
		fmt.Sprintf(`INSERT INTO jorvex.fed SELECT 1, convert_to('loadings/Eskvik/file ' || f || '.csv', 'UTF8'), encode(sha256(convert_to(f || '-' || v, 'UTF8')), 'hex'), 2 + v * %d, 1 + (v + 1) * %d
			FROM generate_series(0, %d) f, generate_series(0, 99) v`, receipts/100, receipts/100, files-1),
	} {
		_, err = tx.Exec(b.Context(), sql)
		require.NoError(b, err)
	}
	require.NoError(b, tx.Commit(b.Context()))
	_, err = conn.Exec(b.Context(), "ANALYZE")
	require.NoError(b, err)
}
