package test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/client"
	"jorvex/internal/demo"
	"jorvex/internal/service"
	"jorvex/internal/testkit"
)

// serve runs a service that cannot start, and returns why.
func serve(t *testing.T, c service.Config) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	c.Log = slog.New(slog.DiscardHandler)
	c.Interval = time.Hour
	err := service.Serve(ctx, c)
	require.Error(t, err)
	return err.Error()
}

// A service that cannot start says in a sentence why, and what to do.
func TestCannotStart(t *testing.T) {
	t.Parallel()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	running := testkit.Start(t, testkit.Options{})
	for _, c := range []struct {
		config service.Config
		says   string
	}{
		{service.Config{Listen: taken.Addr().String(), Data: t.TempDir()}, "is in use by another program; stop it, or choose another with -listen"},
		{service.Config{Listen: "0.0.0.0:0", Data: t.TempDir()}, "is not on loopback; beyond it TLS is needed"},
		{service.Config{Listen: "nonsense", Data: t.TempDir()}, "is no address to listen on"},
		{service.Config{Data: filepath.Join(file, "data")}, "the data directory cannot be made"},
		{service.Config{Data: running.Data}, "Jorvex runs already on the data directory " + running.Data + " at " + running.Base},
		{service.Config{Listen: "127.0.0.1:0", Data: t.TempDir(), DatabaseURL: running.URL}, "another Jorvex service is active on this database"},
		{service.Config{Listen: "127.0.0.1:0", Data: t.TempDir(), DatabaseURL: "postgres://nobody@127.0.0.1:1/x"}, "connect to the database"},
	} {
		assert.Contains(t, serve(t, c.config), c.says)
	}
}

// A service with a private cluster: made, stopped, moved with all its data,
// started again.
func TestPrivateClusterMoves(t *testing.T) {
	base, err := os.MkdirTemp("", "jorvex-private")
	require.NoError(t, err)
	defer os.RemoveAll(base)
	require.NoError(t, os.Chmod(base, 0o755))
	share := filepath.Join(base, "share")
	testkit.WriteFile(t, filepath.Join(share, "loadings/Eskvik/loadings 2026-10-05.csv"), table(header, "SK1,10,1"))
	first := testkit.Start(t, testkit.Options{Data: filepath.Join(base, "one"), Share: share})
	first.Definition(loadings)
	first.Must("refresh", "loadings")
	first.Stop()
	require.NoError(t, os.Rename(filepath.Join(base, "one"), filepath.Join(base, "two")))
	second := testkit.Start(t, testkit.Options{Data: filepath.Join(base, "two"), Share: share})
	assert.Contains(t, second.Must("refresh", "loadings"), "1 row from 1 file, receipt 2")
	assert.Contains(t, second.Must("verify"), "2 receipts")
	second.Stop()
}

// Every listing prints the same for people, as one JSON document, and as
// comma-separated values with a header and as many rows.
func TestListingsForPeopleAndPrograms(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	end := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	require.NoError(t, demo.Generate(filepath.Dir(s.Share), demo.Options{Seed: 1, End: end, Weeks: 1}))
	r := s.Run("demo", "-dir", filepath.Dir(s.Share))
	require.Equal(t, client.Done, r.Code, r.Err)
	assert.Contains(t, r.Out, "the demo is loaded: place skerry-share")
	s.Must("demo", "-dir", filepath.Dir(s.Share)) // again: nothing is made twice
	s.Must("refresh", "daily-loadings")
	for command, rows := range map[string]int{
		"place list": 1, "input list": 6, "files daily-loadings": 37, "files daily-loadings -verdict picked": 28, "files daily-loadings -contains FENNAY": 3,
		"files daily-loadings -most 5": 5, "changes daily-loadings": 0, "refreshes": 1, "receipt 1 -files": 28,
	} {
		t.Run(command, func(t *testing.T) {
			args := strings.Fields(command)
			people := s.Must(args...)
			assert.NotContains(t, people, "  \n", "no line ends in spaces")
			var document any
			require.NoError(t, json.Unmarshal([]byte(s.Must(append(args, "-json")...)), &document))
			records, err := csv.NewReader(bytes.NewReader([]byte(s.Must(append(args, "-csv")...)))).ReadAll()
			require.NoError(t, err)
			assert.Len(t, records, rows+1)
			if list, ok := document.(map[string]any)["items"].([]any); ok {
				assert.Len(t, list, rows)
			}
		})
	}
	for _, command := range []string{"verify", "version", "look", "sign-in", "place show skerry-share", "input show daily-loadings", "why daily-loadings x.csv", "receipt 1", "refresh daily-loadings"} {
		var document any
		assert.NoError(t, json.Unmarshal([]byte(s.Must(append(strings.Fields(command), "-json")...)), &document), command)
	}
}

// The database goes away and comes back: what is asked meanwhile fails with a
// sentence, and the service goes on after.
func TestDatabaseGoesAwayAndComesBack(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	before := s.Delivered("loadings.csv")
	for range 3 {
		// Every connection is cut, as a restart of the server cuts them.
		s.Exec("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid() AND query NOT LIKE '%pg_try_advisory_lock%'")
		s.Write("loadings/Fennay/loadings 2026-10-06.csv", table(header, "SK2,10,1"))
		require.Eventually(t, func() bool { return s.Run("look").Code == client.Done }, 2*time.Minute, 50*time.Millisecond)
	}
	assert.Equal(t, before, s.Delivered("loadings.csv"))
	require.Eventually(t, func() bool { return s.Run("refresh", "loadings").Code == client.Done }, 2*time.Minute, 100*time.Millisecond)
	assert.Contains(t, s.Must("refresh", "loadings"), "2 rows from 2 files")
	assert.Contains(t, s.Must("verify"), "the chain holds")
}
