package test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/testkit"
)

// asked lists by whom refreshes were asked for, the oldest first, once there are so
// many and they have ended.
func asked(t *testing.T, s *testkit.Service, n int) (by []string) {
	t.Helper()
	require.EventuallyWithT(t, func(t *assert.CollectT) {
		var page api.RefreshPage
		require.NoError(t, json.Unmarshal([]byte(s.Must("refreshes", "-json")), &page))
		by = nil
		for _, r := range page.Items {
			if !r.Ended.IsZero() {
				by = append([]string{r.AskedBy}, by...)
			}
		}
		assert.Len(t, by, n)
	}, 20*time.Second, 100*time.Millisecond)
	return by
}

// A schedule has refreshes made with nobody there; runs that were missed while the
// service was down are made up for by one.
func TestSchedule(t *testing.T) {
	t.Parallel()
	c := &clock{}
	at := func(when string) {
		moment, err := time.Parse(time.RFC3339, when)
		require.NoError(t, err)
		c.offset.Store(int64(time.Until(moment)))
	}
	at("2026-03-29T00:50:00Z")
	o := testkit.Options{Clock: c.now}
	s := testkit.Start(t, o)
	s.Write("loadings/Eskvik/loadings 2026-03-01.csv", table(header, "E1,10,1.5"))
	// In Oslo the clocks go from 02:00 to 03:00: half past two is at three.
	s.Definition(strings.Replace(loadings, "place: share\n", "place: share\nzone: Europe/Oslo\nrefresh: {cron: \"30 2 * * *\"}\n", 1))
	assert.Contains(t, s.Must("input", "list", "-json"), `"next_refresh": "2026-03-29T01:00:00Z"`)
	time.Sleep(1500 * time.Millisecond)
	assert.Contains(t, s.Must("refreshes", "-json"), `"items": []`)
	at("2026-03-29T01:00:01Z")
	assert.Equal(t, []string{"schedule"}, asked(t, s, 1))
	assert.Contains(t, s.Must("input", "list", "-json"), `"next_refresh": "2026-03-30T00:30:00Z"`)

	s.Stop()
	at("2026-04-02T09:00:00Z")
	o.Data, o.Share, o.URL = s.Data, s.Share, s.URL
	s = testkit.Start(t, o)
	assert.Equal(t, "schedule, for 4 runs missed since 2026-03-30 00:30 UTC", asked(t, s, 2)[1])
	assert.Contains(t, s.Must("input", "list", "-json"), `"next_refresh": "2026-04-03T00:30:00Z"`)
	time.Sleep(1500 * time.Millisecond)
	asked(t, s, 2)
}

// Files that arrive, and a period that has all its files, call for a refresh; what a
// refresh tells anew does not.
func TestArrivalsAndCompleteness(t *testing.T) {
	t.Parallel()
	c := &clock{}
	c.offset.Store(int64(time.Until(time.Date(2026, 10, 1, 12, 0, 0, 0, time.UTC))))
	s := testkit.Start(t, testkit.Options{Clock: c.now})
	day := func(terminal string) string { return "loadings/" + terminal + "/loadings 2026-10-01.csv" }
	s.Write(day("Eskvik"), table(header, "E1,10,1.5"))
	s.Definition(strings.Replace(loadings, "place: share\n", "place: share\nrefresh: {arrivals: 2s}\n", 1))
	assert.Contains(t, s.Must("input", "show", "loadings", "-json"), "once files changed and nothing did for 2s")
	assert.Equal(t, []string{"arrival"}, asked(t, s, 1))
	s.Write(day("Fennay"), table(header, "F1,5,1.5"))
	s.Must("look")
	assert.Equal(t, []string{"arrival", "arrival"}, asked(t, s, 2))
	s.Must("look")
	time.Sleep(3500 * time.Millisecond)
	asked(t, s, 2)

	s.Definition(strings.NewReplacer("input: loadings", "input: complete", "loadings.csv", "complete.csv", "table: loadings", "table: complete", "place: share\n",
		"place: share\nrefresh: {complete: true}\nexpect: {every: day, of: day, each: terminal, members: [Eskvik, Fennay, Dunvara], from: 2026-10-01}\n").Replace(loadings))
	time.Sleep(1500 * time.Millisecond)
	asked(t, s, 2)
	s.Write(day("Dunvara"), table(header, "D1,5,1.5"))
	s.Must("look")
	by := asked(t, s, 4)
	assert.ElementsMatch(t, []string{"arrival", "arrival", "arrival", "all files of 2026-10-01"}, by)
}
