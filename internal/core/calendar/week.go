package calendar

import (
	"slices"
	"time"
)

// WeekRule says how weeks are counted: the day they begin with, and how many days
// of the year, or month, the first has at least. The zero rule is that of ISO
// 8601: Monday, and four days.
type WeekRule struct {
	Begin     Weekday
	FirstDays int
}

// Weekday is a day's name in small letters; empty for Monday.
type Weekday string

// Weekdays are the names, from Monday.
var Weekdays = []string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}

// start returns the first day of a day's week.
func (r WeekRule) start(d Day) Day {
	begin := max(0, slices.Index(Weekdays, string(r.Begin)))
	return d - Day(((int(d.Time().Weekday())+6)%7-begin+7)%7)
}

// first returns the first day of the first week of what begins on a day.
func (r WeekRule) first(begin Day) Day {
	least := r.FirstDays
	if least == 0 {
		least = 4
	}
	start := r.start(begin)
	if int(start)+7-int(begin) < least {
		start += 7
	}
	return start
}

// OfYear returns the week of the year that a day lies in, and that year: around
// New Year it may be another than the day's.
func (r WeekRule) OfYear(d Day) (year, week int) {
	year = d.Time().Year()
	if d >= r.first(dayOf(year+1, 1, 1)) {
		year++
	} else if d < r.first(dayOf(year, 1, 1)) {
		year--
	}
	return year, int(r.start(d)-r.first(dayOf(year, 1, 1)))/7 + 1
}

// OfMonth returns the week of the month that a day lies in, the first being 1.
// Days before the first week are in week 0.
func (r WeekRule) OfMonth(d Day) int {
	t := d.Time()
	first := r.first(dayOf(t.Year(), int(t.Month()), 1))
	if d < first {
		return 0
	}
	return int(r.start(d)-first)/7 + 1
}

// DayIn reads a date of one day in ISO 8601 form.
func DayIn(text string) (Day, bool) {
	t, err := time.Parse(time.DateOnly, text)
	return DayOf(t), err == nil
}
