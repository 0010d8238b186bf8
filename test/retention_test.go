package test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/testkit"
)

// kept counts the objects that a vault keeps.
func kept(t testing.TB, s *testkit.Service) int {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(s.Data, "vault", "??", "*.zst"))
	require.NoError(t, err)
	return len(list)
}

// Bytes that only old receipts name may go, but not while a refresh that runs counts
// on them: its receipt is not written yet, and will name them.
func TestRetentionSparesWhatARunningRefreshReads(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	first, second := "loadings/Eskvik/loadings 2026-10-01.csv", "loadings/Eskvik/loadings 2026-10-02.csv"
	s.Write(first, table(header, "E1,10,1.5"))
	s.Write(second, table(header, "E2,20,2.5"))
	s.Exec("CREATE SCHEMA reporting")
	s.Exec("CREATE TABLE reporting.loadings (passengers bigint)")
	s.Definition(loadings + "  - {into: reporting.loadings, columns: {passengers: passengers}}\n")
	s.Must("refresh", "loadings")
	require.NoError(t, os.Remove(filepath.Join(s.Share, first)))
	s.Must("look")
	s.Must("refresh", "loadings")
	would := s.Must("vault", "-count", "1")
	assert.Contains(t, would, "would be freed: 1 object,")
	assert.Contains(t, would, "loadings: 1 receipt up to 1 can then no longer be replayed")

	s.Write(first, table(header, "E1,10,1.5"))
	s.Must("look")
	holder, err := pgx.Connect(t.Context(), s.URL)
	require.NoError(t, err)
	defer holder.Close(t.Context())
	hold, err := holder.Begin(t.Context())
	require.NoError(t, err)
	_, err = hold.Exec(t.Context(), "LOCK TABLE reporting.loadings IN SHARE ROW EXCLUSIVE MODE")
	require.NoError(t, err)
	id := underWay(t, s, "loadings", func(api.Refresh) bool {
		return s.Query("SELECT count(*)::text FROM pg_locks WHERE NOT granted AND relation = 'reporting.loadings'::regclass") == "1"
	})
	before := kept(t, s)
	freed := s.Must("vault", "-count", "1", "-yes")
	assert.Equal(t, before, kept(t, s), freed)
	require.NoError(t, hold.Rollback(t.Context()))
	assert.Contains(t, freed, "freed: 0 objects, 0 B on the disk")

	require.Eventually(t, func() bool {
		return s.Query("SELECT outcome FROM jorvex.refreshes WHERE id = "+id) == "delivered"
	}, 30*time.Second, 10*time.Millisecond)
	assert.Contains(t, s.Must("verify", "-deep"), "hold")
	assert.Contains(t, s.Must("replay", "3"), "the same")
}

// What a retention does not keep goes once the service is there, not hours later.
func TestRetentionIsKeptFromTheStart(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Definition(loadings)
	s.Must("vault", "-count", "1", "-yes")
	for _, row := range []string{"E1,10,1.5", "E2,20,2.5", "E3,30,3.5"} {
		s.Write("loadings/Eskvik/loadings 2026-10-01.csv", table(header, row))
		s.Must("look")
		s.Must("refresh", "loadings")
	}
	had := kept(t, s)
	s.Stop()
	again := testkit.Start(t, testkit.Options{Data: s.Data, Share: s.Share, URL: s.URL})
	require.Eventually(t, func() bool { return kept(t, again) < had }, 10*time.Second, 10*time.Millisecond)
	assert.Contains(t, again.Must("replay", "3"), "the same")
	gone := again.Run("replay", "1")
	assert.Contains(t, gone.Err, "receipt 1 cannot be replayed: the vault does not keep 1 file any more, the first is loadings/Eskvik/loadings 2026-10-01.csv")
	held := again.Must("verify", "-deep")
	assert.Contains(t, held, "the vault holds: ")
	assert.Contains(t, held, "2 objects had been freed; what they fed cannot be replayed")
	assert.Contains(t, again.Must("vault"), "kept: the bytes of the newest 1 receipt of each input")
}
