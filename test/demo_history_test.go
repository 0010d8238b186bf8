package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/testkit"
)

// The demo's past: each report refreshed on Mondays with the files of then, and every
// answer about it true. Loaded again, nothing is made twice.
func TestDemoHistory(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	dir := filepath.Dir(s.Share)
	load := func() { s.Must("demo", "-dir", dir, "-end", "2026-10-09", "-history", "2") }
	require.NoError(t, os.Remove(s.Share))
	load()
	var page api.RefreshPage
	require.NoError(t, json.Unmarshal([]byte(s.Must("refreshes", "-json")), &page))
	require.Len(t, page.Items, 4)
	var asOf []string
	for _, r := range page.Items {
		assert.Equal(t, "delivered", string(r.Outcome), r.Problem)
		if r.Report && r.Input == "weekly-sailings" {
			asOf = append(asOf, r.AsOf.UTC().Format(time.DateTime))
		}
	}
	assert.Equal(t, []string{"2026-10-05 06:00:00", "2026-09-28 06:00:00"}, asOf)

	var moved api.ReceiptComparison
	require.NoError(t, json.Unmarshal([]byte(s.Must("compare", "1", "3", "-json")), &moved))
	assert.Greater(t, moved.RowsAfter, moved.RowsBefore)
	require.NotEmpty(t, moved.Totals)
	assert.Regexp(t, `^\+`, moved.Totals[0].Moved, "a week more was there")
	assert.Contains(t, s.Must("verify", "-deep", "-deliveries"), "hold")
	assert.Contains(t, s.Must("replay", "1"), "the same")
	assert.Contains(t, s.Must("report", "list"), "weekly-sailings")

	load()
	require.NoError(t, json.Unmarshal([]byte(s.Must("refreshes", "-json")), &page))
	assert.Len(t, page.Items, 4)
}
