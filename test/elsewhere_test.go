package test

import (
	"encoding/json"
	"os"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/testkit"
)

// newestRefresh is how the newest refresh ended.
func newestRefresh(t *testing.T, s *testkit.Service) api.Refresh {
	t.Helper()
	var page api.RefreshPage
	require.NoError(t, json.Unmarshal([]byte(s.Must("refreshes", "-json")), &page))
	require.NotEmpty(t, page.Items)
	return page.Items[0]
}

// A table in another database that is held locked, and then away with its whole
// database: the refresh counts and says what is not yet there, other inputs are
// delivered, the service starts, and the rows get there in the end, once.
func TestTableElsewhereOutOfReach(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	url := testkit.Database(t)
	other, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer other.Close(t.Context())
	rows := func() (n int) {
		t.Helper()
		require.NoError(t, other.QueryRow(t.Context(), "SELECT count(*) FROM far.loadings").Scan(&n))
		return n
	}
	for _, sql := range []string{"CREATE SCHEMA far", "CREATE TABLE far.loadings (passengers bigint)"} {
		_, err := other.Exec(t.Context(), sql)
		require.NoError(t, err)
	}
	s.Must("connection", "set", "far", "-url", url)
	s.Write("loadings/Eskvik/loadings 2026-10-01.csv", table(header, "E1,10,1.5"))
	s.Write("near/a.csv", "n\n1\n")
	s.Definition(loadings + "  - {into: far.loadings, connection: far, columns: {passengers: passengers}}\n")
	s.Definition("input: near\nplace: share\nfolder: near\npick: [\"*.csv\"]\ncolumns: [{name: n}]\ndeliver: [{file: near.csv}, {folder: near}]\n")
	s.Must("refresh", "loadings")
	require.Equal(t, 1, rows())

	hold, err := other.Begin(t.Context())
	require.NoError(t, err)
	_, err = hold.Exec(t.Context(), "LOCK TABLE far.loadings IN SHARE ROW EXCLUSIVE MODE")
	require.NoError(t, err)
	s.Write("loadings/Eskvik/loadings 2026-10-02.csv", table(header, "E2,20,2.5"))
	told := s.Run("refresh", "loadings")
	assert.Equal(t, 1, told.Code)
	assert.Contains(t, told.Out, "2 rows from 2 files, receipt 2")
	assert.Contains(t, told.Err, "not yet in its place")
	r := newestRefresh(t, s)
	assert.Equal(t, "delivered", string(r.Outcome))
	assert.Contains(t, r.Problem, "committed, and not yet in its place: the table far.loadings cannot be replaced: another session holds it locked")
	assert.Contains(t, s.Delivered("loadings.csv"), "E2,20", "what can be put in its place is")
	assert.Contains(t, s.Must("refresh", "near"), "1 row from 1 file, receipt 3")
	assert.Equal(t, "n\r\n1\r\n", s.Delivered("near.csv"))

	// A start with it still locked puts up with that, and loses nothing.
	s.Stop()
	s = testkit.Start(t, testkit.Options{Data: s.Data, Share: s.Share, URL: s.URL})
	assert.Contains(t, s.Must("refresh", "near"), "receipt 4")
	require.NoError(t, hold.Rollback(t.Context()))
	require.Equal(t, 1, rows())

	// The next start puts it there, and the note is gone.
	s.Stop()
	s = testkit.Start(t, testkit.Options{Data: s.Data, Share: s.Share, URL: s.URL})
	assert.Equal(t, 2, rows())
	assert.Equal(t, "0", s.Query("SELECT count(*)::text FROM jorvex.publications"))
	assert.Equal(t, "0", s.Query("SELECT count(*)::text FROM jorvex.refreshes WHERE problem <> ''"))
	var staged int
	require.NoError(t, other.QueryRow(t.Context(), "SELECT count(*) FROM pg_tables WHERE schemaname = 'far'").Scan(&staged))
	assert.Equal(t, 1, staged, "no staged rows are left there")

	// Nothing staged is left here either.
	s.Must("verify", "-deep")
	entries, err := os.ReadDir(s.Data + "/deliveries")
	require.NoError(t, err)
	assert.Len(t, entries, 3)
}
