// Package schedule tells when something that recurs is due, in a time zone.
//
// A due time that daylight saving skips happens at the end of the gap; one that it
// repeats happens once, the first time.
package schedule

import (
	"fmt"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Schedule is when something recurs, by cron expressions in a zone.
type Schedule struct {
	zone *time.Location
	list []cron.Schedule
}

var parser = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)

// Parse reads cron expressions of five fields: minute, hour, day of the month,
// month, day of the week.
func Parse(zone *time.Location, expressions ...string) (*Schedule, error) {
	s := &Schedule{zone: zone}
	for _, text := range expressions {
		if strings.Contains(text, "=") || len(strings.Fields(text)) != 5 {
			return nil, fmt.Errorf("%q is no cron expression; write minute, hour, day of the month, month and day of the week, as in 0 6 * * mon", text)
		}
		parsed, err := parser.Parse(text)
		if err != nil {
			return nil, fmt.Errorf("%q is no cron expression: %w", text, err)
		}
		if parsed.Next(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
			return nil, fmt.Errorf("%q names a time that never comes", text)
		}
		s.list = append(s.list, parsed)
	}
	return s, nil
}

// Next returns the first due time after a moment; zero if there is none.
func (s *Schedule) Next(after time.Time) (next time.Time) {
	for _, one := range s.list {
		// Expressions are of what a clock on the wall shows; here it stands in UTC,
		// where every day has all of its hours.
		shown := after.In(s.zone)
		wall := time.Date(shown.Year(), shown.Month(), shown.Day(), shown.Hour(), shown.Minute(), shown.Second(), 0, time.UTC)
		for {
			if wall = one.Next(wall); wall.IsZero() {
				break
			}
			if at := Moment(wall, s.zone); at.After(after) {
				if next.IsZero() || at.Before(next) {
					next = at
				}
				break
			}
		}
	}
	return next
}

// Missed counts the due times from one on until a moment, at most a thousand.
func (s *Schedule) Missed(from, until time.Time) (n int) {
	for at := from; !at.IsZero() && !at.After(until) && n < 1000; n++ {
		at = s.Next(at)
	}
	return n
}

// Moment returns when the clocks of a zone show what a time in UTC does: the first
// time, or the end of the gap that skips it.
func Moment(wall time.Time, zone *time.Location) time.Time {
	at := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), wall.Nanosecond(), zone)
	begins, ends := at.ZoneBounds()
	_, offset := at.Zone()
	if shown := at.Add(time.Duration(offset) * time.Second).UTC(); shown.Equal(wall) {
		if begins.IsZero() {
			return at
		}
		// The clocks may have shown it before they were set back.
		_, before := begins.Add(-time.Nanosecond).Zone()
		if first := wall.Add(-time.Duration(before) * time.Second); first.Before(begins) {
			return first.In(zone)
		}
		return at
	} else if shown.After(wall) {
		return begins
	}
	return ends
}
