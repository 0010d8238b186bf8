package coverage

import (
	"fmt"
	"strings"
	"time"

	"jorvex/internal/core/calendar"
)

// ParseCalendar reads the days of the events in an iCalendar file (RFC 5545):
// whole days, from DTSTART to before DTEND; of rules of repetition, every year.
// last is the last day that repetitions are followed to.
func ParseCalendar(text string, last calendar.Day) (map[calendar.Day]bool, error) {
	// Long lines are folded: the next begins with a space (section 3.1).
	text = strings.NewReplacer("\r\n ", "", "\r\n\t", "", "\n ", "", "\n\t", "").Replace(text)
	if !strings.Contains(strings.ToUpper(text), "BEGIN:VCALENDAR") {
		return nil, fmt.Errorf("it is no iCalendar file: it does not begin with BEGIN:VCALENDAR")
	}
	days := map[calendar.Day]bool{}
	var start, end time.Time
	yearly := false
	for n, line := range strings.Split(text, "\n") {
		name, value, _ := strings.Cut(strings.TrimSpace(line), ":")
		name, _, _ = strings.Cut(name, ";")
		var err error
		switch strings.ToUpper(name) {
		case "BEGIN":
			if strings.EqualFold(value, "VEVENT") {
				start, end, yearly = time.Time{}, time.Time{}, false
			}
		case "DTSTART":
			start, err = dateOf(value)
		case "DTEND":
			end, err = dateOf(value)
		case "RRULE":
			if yearly = strings.Contains(strings.ToUpper(value), "FREQ=YEARLY"); !yearly {
				err = fmt.Errorf("only events that repeat every year are understood, not %s", value)
			}
		case "END":
			if strings.EqualFold(value, "VEVENT") && !start.IsZero() {
				add(days, start, end, yearly, last)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n+1, err)
		}
	}
	return days, nil
}

func dateOf(value string) (time.Time, error) {
	if len(value) < 8 {
		return time.Time{}, fmt.Errorf("%q is no date", value)
	}
	t, err := time.Parse("20060102", value[:8])
	if err != nil {
		return t, fmt.Errorf("%q is no date", value)
	}
	return t, nil
}

// longest is how many days one event may have.
const longest = 366

func add(days map[calendar.Day]bool, start, end time.Time, yearly bool, last calendar.Day) {
	length := 1
	if end.After(start) {
		length = min(longest, int(end.Sub(start).Hours()/24))
	}
	for year := 0; ; year++ {
		first := calendar.DayOf(start.AddDate(year, 0, 0))
		if first > last {
			return
		}
		for i := range length {
			days[first+calendar.Day(i)] = true
		}
		if !yearly {
			return
		}
	}
}
