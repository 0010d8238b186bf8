package calendar

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Window is a span of days relative to an as-of day, the input's window.
type Window struct {
	text string
	kind string // this, to date, last, previous, between
	n    int
	unit Unit
	from Date // of "between"; NoUnit leaves the end open
	to   Date
}

// String returns the window as it was written.
func (w Window) String() string { return w.text }

var (
	thisWindow = regexp.MustCompile(`^this (\pL+)$`)
	toDate     = regexp.MustCompile(`^(\pL+) to date$`)
	rolling    = regexp.MustCompile(`^(last|previous) (?:(\d+) )?(\pL+)$`)
	between    = regexp.MustCompile(`^(?:from (\S+))?(?: ?(?:to|until) (\S+))?$`)
	dotted     = regexp.MustCompile(`^(\S+?)? ?\.\. ?(\S+)?$`)
)

const windowForms = "this month, year to date, last 8 weeks, previous 2 months, from 2026-01 to 2026-03, or a period such as 2026-10"

// ParseWindow reads a window: "this month", "year to date", "last 8 weeks",
// "previous 2 months", "from 2026-01-05 to 2026-03", "2026-Q4".
func ParseWindow(text string) (Window, error) {
	w := Window{text: strings.Join(strings.Fields(text), " ")}
	lower := strings.ToLower(w.text)
	var err error
	switch {
	case thisWindow.MatchString(lower):
		w.kind, w.n = "this", 1
		w.unit, err = parseUnit(thisWindow.FindStringSubmatch(lower)[1])
	case toDate.MatchString(lower):
		w.kind = "to date"
		w.unit, err = parseUnit(toDate.FindStringSubmatch(lower)[1])
	case rolling.MatchString(lower):
		m := rolling.FindStringSubmatch(lower)
		w.kind, w.n = m[1], 1
		if m[2] != "" {
			if w.n, err = strconv.Atoi(m[2]); err != nil || w.n < 1 || w.n > 100_000 {
				return w, fmt.Errorf("a window is of 1 to 100,000 units, not %s", m[2])
			}
		}
		w.unit, err = parseUnit(m[3])
	default:
		err = w.between()
	}
	return w, err
}

func (w *Window) between() error {
	w.kind = "between"
	var from, to string
	switch upper := strings.ToUpper(w.text); {
	case dotted.MatchString(upper):
		m := dotted.FindStringSubmatch(upper)
		from, to = m[1], m[2]
	case between.MatchString(strings.ToLower(w.text)) && w.text != "":
		m := between.FindStringSubmatch(strings.ToLower(w.text))
		from, to = strings.ToUpper(m[1]), strings.ToUpper(m[2])
	default:
		from, to = upper, upper
	}
	var err error
	if from == "" && to == "" {
		return fmt.Errorf("%q is no window; write %s", w.text, windowForms)
	}
	if from != "" {
		if w.from, err = Parse(from); err != nil {
			return fmt.Errorf("%q is no window: %w", w.text, err)
		}
	}
	if to != "" {
		if w.to, err = Parse(to); err != nil {
			return fmt.Errorf("%q is no window: %w", w.text, err)
		}
	}
	if first, last := w.Range(0); first > last {
		return fmt.Errorf("the window %q ends before it starts", w.text)
	}
	return nil
}

func parseUnit(word string) (Unit, error) {
	for unit, name := range unitNames {
		if unit > 0 && (word == name || word == name+"s") {
			return Unit(unit), nil
		}
	}
	return NoUnit, fmt.Errorf("%q is no unit of a window; write day, week, month, quarter or year", word)
}

// Unit returns the unit of a window that is relative to a day.
func (w Window) Unit() Unit { return w.unit }

// Range returns the first and last day of the window.
func (w Window) Range(asOf Day) (from, to Day) {
	own := On(asOf, w.unit)
	switch w.kind {
	case "to date":
		return own.Start, asOf
	case "this", "last":
		return own.Add(1 - w.n).Start, own.End()
	case "previous":
		return own.Add(-w.n).Start, own.Start - 1
	}
	from, to = Earliest, Latest
	if w.from.Unit != NoUnit {
		from = w.from.Start
	}
	if w.to.Unit != NoUnit {
		to = w.to.End()
	}
	return from, to
}

// Span is a length of time such as 8 weeks.
type Span struct {
	N    int
	Unit string // hour, day, week, month, quarter, year
}

// ParseSpan reads a number and a unit.
func ParseSpan(n int, unit string) (Span, error) {
	unit = strings.TrimSuffix(strings.ToLower(unit), "s")
	switch unit {
	case "hour", "day", "week", "month", "quarter", "year":
		if n < 1 || n > 1_000_000 {
			return Span{}, fmt.Errorf("a span is of 1 to 1,000,000 units")
		}
		return Span{n, unit}, nil
	}
	return Span{}, fmt.Errorf("%q is no unit of time; write hours, days, weeks, months, quarters or years", unit)
}

// String returns the span in words.
func (s Span) String() string {
	if s.N == 1 {
		return "1 " + s.Unit
	}
	return fmt.Sprintf("%d %ss", s.N, s.Unit)
}

// Before returns the instant a span before t. Months and years keep the day, or
// the last one of a shorter month.
func (s Span) Before(t time.Time) time.Time {
	switch s.Unit {
	case "hour":
		return t.Add(-time.Duration(s.N) * time.Hour)
	case "day":
		return t.AddDate(0, 0, -s.N)
	case "week":
		return t.AddDate(0, 0, -7*s.N)
	}
	months := map[string]int{"month": 1, "quarter": 3, "year": 12}[s.Unit] * s.N
	first := time.Date(t.Year(), t.Month()-time.Month(months), 1, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), t.Location())
	day := min(t.Day(), first.AddDate(0, 1, -1).Day())
	return first.AddDate(0, 0, day-1)
}

// Date returns the window as one date, if it is one: "previous month" is a
// month, "last 8 weeks" is none.
func (w Window) Date(asOf Day) (Date, bool) {
	switch {
	case w.kind == "between":
		return w.from, w.from == w.to
	case w.kind == "this" || w.kind == "last" && w.n == 1:
		return On(asOf, w.unit), true
	case w.kind == "previous" && w.n == 1:
		return On(asOf, w.unit).Add(-1), true
	}
	return Date{}, false
}
