package calendar_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"jorvex/internal/core/calendar"
)

func TestWeekRule(t *testing.T) {
	day := func(text string) calendar.Day {
		d, ok := calendar.DayIn(text)
		assert.True(t, ok)
		return d
	}
	iso, sunday := calendar.WeekRule{}, calendar.WeekRule{Begin: "sunday", FirstDays: 1}
	full := calendar.WeekRule{Begin: "saturday", FirstDays: 7}
	for _, c := range []struct {
		day  string
		rule calendar.WeekRule
		want string // year, week of it, week of the month
	}{
		{"2026-01-01", iso, "2026 1 1"}, // a Thursday
		{"2027-01-03", iso, "2026 53 0"},
		{"2027-01-04", iso, "2027 1 1"},
		{"2024-12-30", iso, "2025 1 5"},
		{"2026-11-01", iso, "2026 44 0"}, // a Sunday
		{"2026-11-02", iso, "2026 45 1"},
		{"2026-11-30", iso, "2026 49 5"},
		{"2026-11-01", sunday, "2026 45 1"},
		{"2026-11-08", sunday, "2026 46 2"},
		{"2026-12-31", sunday, "2027 1 5"},
		{"2026-01-02", full, "2025 52 0"},
		{"2026-01-03", full, "2026 1 1"},
	} {
		year, week := c.rule.OfYear(day(c.day))
		assert.Equal(t, c.want, fmt.Sprint(year, week, c.rule.OfMonth(day(c.day))), "%s %v", c.day, c.rule)
	}
	// ISO 8601 weeks are those that Go counts.
	for d := day("1999-12-01"); d < day("2030-02-01"); d++ {
		year, week := iso.OfYear(d)
		wantYear, wantWeek := d.Time().ISOWeek()
		if year != wantYear || week != wantWeek {
			t.Fatalf("%s: %d %d, want %d %d", d, year, week, wantYear, wantWeek)
		}
	}
}

func TestReadInLanguages(t *testing.T) {
	for _, tag := range calendar.Languages() {
		language, err := calendar.ParseLanguage(tag)
		assert.NoError(t, err)
		for _, text := range []string{"d. MMMM yyyy", "dd MMM yy"} {
			form, err := calendar.ParseTextForm(text)
			assert.NoError(t, err)
			for month := range 12 {
				d := calendar.Date{Unit: calendar.Month, Start: 20454}.Add(month)
				d.Unit = calendar.OneDay
				written, err := form.Format(d, language)
				assert.NoError(t, err)
				fields, ok := form.ReadIn(written, language)
				assert.True(t, ok, written)
				got, ok := fields.Date()
				assert.True(t, ok, written)
				assert.Equal(t, d, got, written)
			}
		}
		assert.NotEmpty(t, language.DayName(20454))
	}
}
