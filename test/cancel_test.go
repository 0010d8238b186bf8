package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/testkit"
)

// underWay asks for a refresh and waits until it runs as wanted.
func underWay(t *testing.T, s *testkit.Service, input string, wanted func(api.Refresh) bool) string {
	t.Helper()
	var r api.Refresh
	require.NoError(t, json.Unmarshal([]byte(s.Must("refresh", input, "-wait=false", "-json")), &r))
	require.Eventually(t, func() bool {
		now, err := s.API.GetRefreshWithResponse(t.Context(), r.Id)
		require.NoError(t, err)
		require.NotNil(t, now.JSON200)
		require.Zero(t, now.JSON200.Ended, "it ended before it was cancelled: %s", now.JSON200.Problem)
		return wanted(*now.JSON200)
	}, 30*time.Second, time.Millisecond)
	return fmt.Sprint(r.Id)
}

// cancelled cancels a refresh and tells how it ended.
func cancelled(t *testing.T, s *testkit.Service, id string) api.Refresh {
	t.Helper()
	s.Must("cancel", id)
	var r api.Refresh
	require.EventuallyWithT(t, func(t *assert.CollectT) {
		var page api.RefreshPage
		require.NoError(t, json.Unmarshal([]byte(s.Must("refreshes", "-json")), &page))
		r = page.Items[0]
		assert.NotZero(t, r.Ended)
	}, 10*time.Second, 10*time.Millisecond)
	require.Equal(t, id, fmt.Sprint(r.Id))
	return r
}

// A refresh that runs is cancelled while it reads and while it waits for a table that
// somebody else holds: nothing half done is left, and the last delivery stands.
func TestCancel(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-01.csv", table(header, "E1,10,1.5"))
	s.Exec("CREATE SCHEMA reporting")
	s.Exec("CREATE TABLE reporting.loadings (passengers bigint)")
	s.Definition(loadings + "  - {into: reporting.loadings, columns: {passengers: passengers}}\n")
	s.Must("refresh", "loadings")
	before := s.Delivered("loadings.csv")
	stands := func(r api.Refresh) {
		t.Helper()
		assert.Equal(t, "cancelled", string(r.Outcome))
		assert.Contains(t, r.Problem, "cancelled by local")
		assert.Equal(t, before, s.Delivered("loadings.csv"))
		assert.Equal(t, "1", s.Query("SELECT count(*)::text FROM delivered.loadings"))
		assert.Equal(t, "1", s.Query("SELECT count(*)::text FROM reporting.loadings"))
		assert.Equal(t, "1", s.Query("SELECT count(*)::text FROM jorvex.receipts"))
		assert.Equal(t, "0", s.Query("SELECT count(*)::text FROM jorvex.running"))
		entries, err := os.ReadDir(filepath.Join(s.Data, "deliveries"))
		require.NoError(t, err)
		assert.Len(t, entries, 1, "no staged file is left")
	}

	many := table(header, strings.TrimSuffix(strings.Repeat("E1,10,1.5\n", 300_000), "\n"))
	for n := 2; n <= 21; n++ {
		s.Write(fmt.Sprintf("loadings/Eskvik/loadings 2026-10-%02d.csv", n), many)
	}
	id := underWay(t, s, "loadings", func(r api.Refresh) bool { return r.FilesDone > 0 })
	stands(cancelled(t, s, id))

	for n := 3; n <= 21; n++ {
		require.NoError(t, os.Remove(filepath.Join(s.Share, fmt.Sprintf("loadings/Eskvik/loadings 2026-10-%02d.csv", n))))
	}
	s.Write("loadings/Eskvik/loadings 2026-10-02.csv", table(header, "E2,20,2.5"))
	s.Must("look")
	holder, err := pgx.Connect(t.Context(), s.URL)
	require.NoError(t, err)
	defer holder.Close(t.Context())
	hold, err := holder.Begin(t.Context())
	require.NoError(t, err)
	_, err = hold.Exec(t.Context(), "LOCK TABLE reporting.loadings IN SHARE ROW EXCLUSIVE MODE")
	require.NoError(t, err)
	id = underWay(t, s, "loadings", func(api.Refresh) bool {
		return s.Query("SELECT count(*)::text FROM pg_locks WHERE NOT granted AND relation = 'reporting.loadings'::regclass") == "1"
	})
	r := cancelled(t, s, id)
	stands(r)

	// Held on, the refresh fails in seconds, and says by what.
	held := s.Run("refresh", "loadings")
	assert.Equal(t, 1, held.Code)
	assert.Contains(t, held.Err, "the table reporting.loadings cannot be replaced: another session holds it locked")
	assert.Equal(t, before, s.Delivered("loadings.csv"))
	require.NoError(t, hold.Rollback(t.Context()))
	assert.Contains(t, s.Must("refresh", "loadings"), "2 rows from 2 files, receipt 2")
	assert.Equal(t, "2", s.Query("SELECT count(*)::text FROM reporting.loadings"))
	again := s.Run("cancel", id)
	assert.Equal(t, 1, again.Code)
	assert.Contains(t, again.Err, "neither waits nor runs")
	assert.Contains(t, s.Run("cancel", "x").Err, "is no refresh")
}
