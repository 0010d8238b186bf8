// Package calendar holds dates as report files name them: a day, or the week,
// month, quarter or year that a name stands for; the forms they are written in;
// and windows of them relative to a day. It knows no clock and no time zone.
//
//	form, err := calendar.ParseForm("d MMMM yyyy")
//	window, err := calendar.ParseWindow("last 8 weeks")
//	from, to := window.Range(calendar.DayOf(asOf))
package calendar

import (
	"cmp"
	"fmt"
	"time"
)

// Day is a day, counted from 1970-01-01, in the proleptic Gregorian calendar.
type Day int32

// The ends of what a window may leave open.
const (
	Earliest Day = -1 << 30
	Latest   Day = 1 << 30
)

// DayOf returns the day that t's own zone shows.
func DayOf(t time.Time) Day {
	y, m, d := t.Date()
	return dayOf(y, int(m), d)
}

func dayOf(year, month, day int) Day {
	return Day(time.Date(year, time.Month(month), day, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// Time returns midnight UTC of the day.
func (d Day) Time() time.Time { return time.Unix(int64(d)*86400, 0).UTC() }

// String returns the day in ISO 8601 form.
func (d Day) String() string { return d.Time().Format(time.DateOnly) }

// Unit is the length of a date.
type Unit uint8

// The units. A Date of NoUnit is no date.
const (
	NoUnit Unit = iota
	OneDay
	Week // ISO 8601: from Monday
	Month
	Quarter
	Year
)

var unitNames = [...]string{"", "day", "week", "month", "quarter", "year"}

// String returns the unit's name.
func (u Unit) String() string { return unitNames[u] }

// Date is a day, or the week, month, quarter or year it lies in. The zero Date
// is none.
type Date struct {
	Unit  Unit
	Start Day // its first day
}

// On returns the date of a unit that a day lies in.
func On(day Day, unit Unit) Date {
	t := day.Time()
	y, m, d := t.Date()
	switch unit {
	case Week:
		day -= Day((int(t.Weekday()) + 6) % 7)
	case Month:
		day -= Day(d - 1)
	case Quarter:
		day = dayOf(y, (int(m)-1)/3*3+1, 1)
	case Year:
		day = dayOf(y, 1, 1)
	}
	return Date{unit, day}
}

// Add returns the date n units later.
func (d Date) Add(n int) Date {
	y, m, _ := d.Start.Time().Date()
	switch d.Unit {
	case OneDay:
		d.Start += Day(n)
	case Week:
		d.Start += Day(7 * n)
	case Month:
		d.Start = dayOf(y, int(m)+n, 1)
	case Quarter:
		d.Start = dayOf(y, int(m)+3*n, 1)
	case Year:
		d.Start = dayOf(y+n, 1, 1)
	}
	return d
}

// End returns the date's last day.
func (d Date) End() Day {
	if d.Unit == OneDay {
		return d.Start
	}
	return d.Add(1).Start - 1
}

// Compare orders dates by their start, and a longer one before a shorter one
// that starts alike. No date comes first.
func (d Date) Compare(o Date) int {
	if d.Unit == NoUnit || o.Unit == NoUnit {
		return cmp.Compare(min(d.Unit, 1), min(o.Unit, 1))
	}
	return cmp.Or(cmp.Compare(d.Start, o.Start), cmp.Compare(o.Unit, d.Unit))
}

// String returns the date in ISO 8601 form, quarters as 2026-Q4.
func (d Date) String() string {
	t := d.Start.Time()
	switch d.Unit {
	case OneDay:
		return t.Format(time.DateOnly)
	case Week:
		year, week := t.ISOWeek()
		return fmt.Sprintf("%04d-W%02d", year, week)
	case Month:
		return t.Format("2006-01")
	case Quarter:
		return fmt.Sprintf("%04d-Q%d", t.Year(), (int(t.Month())+2)/3)
	case Year:
		return t.Format("2006")
	}
	return ""
}

// isoForms are the forms that Parse reads, each with another length or letter.
var isoForms = func() []Form {
	var forms []Form
	for _, text := range []string{"yyyy-MM-dd", "yyyy-MM", "yyyy-'Q'Q", "YYYY-'W'ww", "yyyy"} {
		form, err := ParseForm(text)
		if err != nil {
			panic(err)
		}
		forms = append(forms, form)
	}
	return forms
}()

// Parse reads a date in the form String writes it.
func Parse(text string) (Date, error) {
	for _, form := range isoForms {
		if fields, ok := form.Read(text); ok {
			if date, ok := fields.Date(); ok {
				return date, nil
			}
			return Date{}, fmt.Errorf("%q is not on the calendar", text)
		}
	}
	return Date{}, fmt.Errorf("%q is no date; write 2026-10-05, or a period as 2026, 2026-Q4, 2026-10 or 2026-W41", text)
}

// Fields are the parts of a date that a text gave. Zero is for parts it did not.
type Fields struct {
	Year, Quarter, Month, MonthDay, YearDay int
	WeekYear, Week                          int // ISO 8601
}

// Merge adds the parts of o. It reports false if a part is in both and differs.
func (f Fields) Merge(o Fields) (Fields, bool) {
	ok := true
	for _, part := range []struct{ into, from *int }{
		{&f.Year, &o.Year}, {&f.Quarter, &o.Quarter}, {&f.Month, &o.Month}, {&f.MonthDay, &o.MonthDay},
		{&f.YearDay, &o.YearDay}, {&f.WeekYear, &o.WeekYear}, {&f.Week, &o.Week},
	} {
		if *part.into != 0 && *part.from != 0 && *part.into != *part.from {
			ok = false
		}
		if *part.into == 0 {
			*part.into = *part.from
		}
	}
	return f, ok
}

// Missing names the part without which the fields make no date, or is empty.
func (f Fields) Missing() string {
	switch {
	case f.Week != 0 && f.WeekYear == 0:
		return "the year of the week (YYYY)"
	case f.WeekYear != 0 && f.Week == 0:
		return "the week (ww)"
	case f.WeekYear == 0 && f.Year == 0:
		return "the year (yyyy)"
	case f.MonthDay != 0 && f.Month == 0:
		return "the month (MM)"
	}
	return ""
}

// Date returns the date that the fields name, and whether it is complete, free
// of contradiction and on the calendar.
func (f Fields) Date() (Date, bool) {
	if f.Missing() != "" || f.Year < 0 || f.Month > 12 || f.Quarter > 4 || f.Week > 53 {
		return Date{}, false
	}
	var d Date
	switch {
	case f.Week != 0:
		d = On(dayOf(f.WeekYear, 1, 4), Week).Add(f.Week - 1)
	case f.YearDay != 0:
		d = Date{OneDay, dayOf(f.Year, 1, f.YearDay)}
	case f.MonthDay != 0:
		d = Date{OneDay, dayOf(f.Year, f.Month, f.MonthDay)}
	case f.Month != 0:
		d = Date{Month, dayOf(f.Year, f.Month, 1)}
	case f.Quarter != 0:
		d = Date{Quarter, dayOf(f.Year, 3*f.Quarter-2, 1)}
	default:
		d = Date{Year, dayOf(f.Year, 1, 1)}
	}
	t := d.Start.Time()
	if f.Week != 0 {
		year, week := t.ISOWeek()
		return d, year == f.WeekYear && week == f.Week
	}
	return d, t.Year() == f.Year &&
		(f.Month == 0 || int(t.Month()) == f.Month) &&
		(f.Quarter == 0 || (int(t.Month())+2)/3 == f.Quarter) &&
		(f.MonthDay == 0 || t.Day() == f.MonthDay) &&
		(f.YearDay == 0 || t.YearDay() == f.YearDay)
}
