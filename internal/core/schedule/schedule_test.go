package schedule_test

import (
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/schedule"
)

func TestNext(t *testing.T) {
	for _, c := range []struct {
		zone, expression, after string
		want                    []string
	}{
		{"UTC", "0 6 * * mon", "2026-11-20T09:00:00Z", []string{"2026-11-23T06:00:00Z", "2026-11-30T06:00:00Z"}},
		{"UTC", "0 6 * * mon", "2026-11-23T06:00:00Z", []string{"2026-11-30T06:00:00Z"}},
		{"UTC", "*/20 8-9 1 * *", "2026-11-20T09:00:00Z", []string{"2026-12-01T08:00:00Z", "2026-12-01T08:20:00Z", "2026-12-01T08:40:00Z", "2026-12-01T09:00:00Z"}},
		{"Europe/Oslo", "0 6 * * *", "2026-03-28T00:00:00Z", []string{"2026-03-28T05:00:00Z", "2026-03-29T04:00:00Z"}},
		// The clocks go from 02:00 to 03:00: what is skipped happens at 03:00.
		{"Europe/Oslo", "30 2 * * *", "2026-03-28T12:00:00Z", []string{"2026-03-29T01:00:00Z", "2026-03-30T00:30:00Z"}},
		{"Europe/Oslo", "*/30 * * * *", "2026-03-29T00:15:00Z", []string{"2026-03-29T00:30:00Z", "2026-03-29T01:00:00Z", "2026-03-29T01:30:00Z"}},
		// They go from 03:00 back to 02:00: what is repeated happens the first time.
		{"Europe/Oslo", "30 2 * * *", "2026-10-24T12:00:00Z", []string{"2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"}},
		{"Europe/Oslo", "30 2 * * *", "2026-10-25T00:45:00Z", []string{"2026-10-26T01:30:00Z"}},
		{"Europe/Oslo", "30 2 * * *", "2026-10-25T01:10:00Z", []string{"2026-10-26T01:30:00Z"}},
		{"Europe/Oslo", "0 3 * * *", "2026-10-24T12:00:00Z", []string{"2026-10-25T02:00:00Z"}},
		// Half an hour only, on the other side of the world.
		{"Australia/Lord_Howe", "15 2 * * *", "2026-10-02T20:00:00Z", []string{"2026-10-03T15:30:00Z", "2026-10-04T15:15:00Z"}},
		{"Australia/Lord_Howe", "45 1 * * *", "2026-04-04T00:00:00Z", []string{"2026-04-04T14:45:00Z", "2026-04-05T15:15:00Z"}},
		// A whole day that an island left out.
		{"Pacific/Apia", "0 12 * * *", "2011-12-29T23:00:00Z", []string{"2011-12-30T10:00:00Z", "2011-12-30T22:00:00Z"}},
	} {
		zone, err := time.LoadLocation(c.zone)
		require.NoError(t, err)
		s, err := schedule.Parse(zone, c.expression)
		require.NoError(t, err)
		at, err := time.Parse(time.RFC3339, c.after)
		require.NoError(t, err)
		for _, want := range c.want {
			at = s.Next(at)
			assert.Equal(t, want, at.UTC().Format(time.RFC3339), "%s in %s after %s", c.expression, c.zone, c.after)
		}
	}
}

// No due time is before the one before it, and none is twice, over years of any zone.
func TestNextGoesForward(t *testing.T) {
	for _, name := range []string{"Europe/Oslo", "America/New_York", "Australia/Lord_Howe", "Africa/Casablanca", "Asia/Tehran"} {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		s, err := schedule.Parse(zone, "*/10 1-3 * * *")
		require.NoError(t, err)
		days := map[string]int{}
		at := time.Date(2024, 1, 1, 0, 0, 0, 0, zone)
		for end := at.AddDate(3, 0, 0); ; {
			next := s.Next(at)
			require.True(t, next.After(at), "%s after %s", next, at)
			if at = next; !at.Before(end) {
				break
			}
			days[at.Format(time.DateOnly)]++
		}
		for day, n := range days {
			assert.GreaterOrEqual(t, n, 12, "%s in %s", day, name)
			assert.LessOrEqual(t, n, 18, "%s in %s", day, name)
		}
	}
}

func TestSeveralAndMissed(t *testing.T) {
	s, err := schedule.Parse(time.UTC, "0 6 * * *", "30 5 * * mon")
	require.NoError(t, err)
	from := s.Next(time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC))
	assert.Equal(t, 21, from.Day())
	assert.Equal(t, 0, s.Missed(from, from.Add(-time.Second)))
	assert.Equal(t, 1, s.Missed(from, from))
	assert.Equal(t, 4, s.Missed(from, time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC)))
	assert.Equal(t, 1000, s.Missed(from, from.AddDate(30, 0, 0)))
}

func TestParse(t *testing.T) {
	for _, text := range []string{"", "0 6 * *", "0 6 * * * *", "@daily", "TZ=UTC 0 6 * * *", "61 6 * * *", "0 6 * * someday", "0 0 31 2 *"} {
		_, err := schedule.Parse(time.UTC, text)
		assert.Error(t, err, text)
	}
	none, err := schedule.Parse(time.UTC)
	require.NoError(t, err)
	assert.True(t, none.Next(time.Now()).IsZero())
}
