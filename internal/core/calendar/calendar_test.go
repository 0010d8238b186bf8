package calendar_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/calendar"
)

func day(t testing.TB, text string) calendar.Day {
	t.Helper()
	d, err := calendar.Parse(text)
	require.NoError(t, err)
	return d.Start
}

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"2026-10-05": "2026-10-05 to 2026-10-05", "2026-10": "2026-10-01 to 2026-10-31", "2026-Q4": "2026-10-01 to 2026-12-31",
		"2026-W01": "2025-12-29 to 2026-01-04", "2026-W53": "2026-12-28 to 2027-01-03", "2024-02": "2024-02-01 to 2024-02-29", "2026": "2026-01-01 to 2026-12-31",
	} {
		d, err := calendar.Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, d.Start.String()+" to "+d.End().String(), text)
		assert.Equal(t, text, d.String())
	}
	for text, says := range map[string]string{"2026-02-30": "not on the calendar", "2025-W53": "not on the calendar", "soon": "is no date", "2026-13": "is no date", "26": "is no date"} {
		_, err := calendar.Parse(text)
		assert.ErrorContains(t, err, says, text)
	}
}

func TestWindows(t *testing.T) {
	friday := day(t, "2026-11-20")
	for text, want := range map[string]string{
		"this day": "2026-11-20 2026-11-20", "this week": "2026-11-16 2026-11-22", "This  Quarter": "2026-10-01 2026-12-31",
		"month to date": "2026-11-01 2026-11-20", "last 8 weeks": "2026-09-28 2026-11-22", "last 1 day": "2026-11-20 2026-11-20", "last year": "2026-01-01 2026-12-31",
		"previous 2 months": "2026-09-01 2026-10-31", "previous quarter": "2026-07-01 2026-09-30", "from 2026-10 to 2026-11-05": "2026-10-01 2026-11-05",
		"2026-02 .. 2026-03": "2026-02-01 2026-03-31", "2026-W41": "2026-10-05 2026-10-11",
	} {
		w, err := calendar.ParseWindow(text)
		require.NoError(t, err, text)
		from, to := w.Range(friday)
		assert.Equal(t, want, from.String()+" "+to.String(), text)
	}
	w, err := calendar.ParseWindow("to 2026-03")
	require.NoError(t, err)
	from, to := w.Range(friday)
	assert.Equal(t, calendar.Earliest, from)
	assert.Equal(t, "2026-03-31", to.String())
	for text, says := range map[string]string{
		"": "is no window", "last 0 weeks": "1 to 100,000", "last 3 moons": `"moons" is no unit`, "this fortnight": "is no unit", "soon": "is no date",
		"from 2026-03 to 2026-02": "ends before it starts", "last many weeks": "is no date",
	} {
		_, err := calendar.ParseWindow(text)
		assert.ErrorContains(t, err, says, text)
	}
}

// The spans that the documentation explains are what it says they are.
func TestWindowsAsDocumented(t *testing.T) {
	page, err := os.ReadFile("../../../docs/definition.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(page), "| span | days, on Friday 2026-11-20 |\n|---|---|\n")
	require.True(t, found)
	rows := 0
	for line := range strings.Lines(table) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		if len(cells) != 2 {
			break
		}
		w, err := calendar.ParseWindow(strings.Trim(strings.TrimSpace(cells[0]), "`"))
		require.NoError(t, err, line)
		from, to := w.Range(day(t, "2026-11-20"))
		assert.True(t, strings.HasPrefix(strings.TrimSpace(cells[1]), from.String()+" to "+to.String()), "%s is %s to %s", line, from, to)
		rows++
	}
	assert.GreaterOrEqual(t, rows, 6)
}

func TestFormsAreWritten(t *testing.T) {
	german, err := calendar.ParseLanguage("de")
	require.NoError(t, err)
	for form, want := range map[string]string{
		"yyyy-MM-dd": "2026-10-05", "d. MMMM yy": "5. Oktober 26", "MMM": "Okt", "'Q'Q yyyy": "Q4 2026", "YYYY-'W'ww": "2026-W41", "DDD": "278", "''d''": "'5'",
	} {
		parsed, err := calendar.ParseForm(form)
		require.NoError(t, err, form)
		text, err := parsed.Format(calendar.On(day(t, "2026-10-05"), calendar.OneDay), german)
		require.NoError(t, err, form)
		assert.Equal(t, want, text, form)
	}
	for form, date := range map[string]string{"dd": "2026-10", "MM": "2026-Q4", "Q": "2026", "ww": "2026-10", "YYYY-'W'w-": "2026", "yyyy": "2026-W41", "M": "2026-W41"} {
		parsed, err := calendar.ParseForm(strings.Replace(form, "ww", "YYYYww", 1))
		require.NoError(t, err, form)
		d, err := calendar.Parse(date)
		require.NoError(t, err)
		_, err = parsed.Format(d, calendar.Language{})
		assert.Error(t, err, "%s of %s", form, date)
	}
	_, err = calendar.ParseLanguage("xx")
	assert.ErrorContains(t, err, "known are da de en")
}

func TestSpans(t *testing.T) {
	march := time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)
	for unit, want := range map[string]string{"hours": "2026-03-31", "day": "2026-03-30", "weeks": "2026-03-24", "months": "2026-02-28", "Quarter": "2025-12-31", "year": "2025-03-31"} {
		s, err := calendar.ParseSpan(1, unit)
		require.NoError(t, err, unit)
		assert.Equal(t, want, s.Before(march).Format(time.DateOnly), unit)
	}
	for n, unit := range map[int]string{0: "day", 1: "moon"} {
		_, err := calendar.ParseSpan(n, unit)
		assert.Error(t, err)
	}
}

func TestFormsThatAreNone(t *testing.T) {
	for form, says := range map[string]string{
		"": "has no date field", "'day'": "has no date field", "yyyy-MM-dd-MM": "has the field M twice", "yyyyMd": "read in two ways", "YYYY-MM": "YYYY is the year of a week",
		"yyyy-ww": "weeks go with YYYY", "YYYY-ww-dd": "leave month, day and quarter out", "yyyy-D-MM": "the day of the year", "yyyy-'W": "is not closed", "yyyy-mm": `"mm" is no date field`, "yyy": "is no date field",
	} {
		_, err := calendar.ParseForm(form)
		assert.ErrorContains(t, err, says, form)
	}
}

// Parts of a date that several texts give are put together, unless they differ.
func TestPartsAreMerged(t *testing.T) {
	for _, c := range []struct {
		forms, texts []string
		want         string // "differ", or what is missing, or the date
	}{
		{[]string{"yyyy", "MM-dd"}, []string{"2026", "10-05"}, "2026-10-05"},
		{[]string{"yyyy-MM", "MM"}, []string{"2026-10", "10"}, "2026-10"},
		{[]string{"yyyy-MM", "MM"}, []string{"2026-10", "11"}, "differ"},
		{[]string{"yyyy", "'Q'Q"}, []string{"2026", "Q3"}, "2026-Q3"},
		{[]string{"YYYY-ww", "'W'ww"}, []string{"2026-41", "W41"}, "2026-W41"},
		{[]string{"yy", "DDD"}, []string{"26", "278"}, "2026-10-05"},
		{[]string{"yy", "DDD"}, []string{"70", "001"}, "1970-01-01"},
		{[]string{"MM", "dd"}, []string{"10", "05"}, "the year (yyyy)"},
		{[]string{"yyyy", "dd"}, []string{"2026", "05"}, "the month (MM)"},
		{[]string{"'W'ww"}, []string{"W41"}, "the year of the week (YYYY)"},
		{[]string{"yyyy", "MM-dd"}, []string{"2026", "02-29"}, "not on the calendar"},
		{[]string{"yyyy", "DDD"}, []string{"2026", "366"}, "not on the calendar"},
		{[]string{"yyyy-MM", "'Q'Q"}, []string{"2026-10", "Q1"}, "not on the calendar"},
	} {
		var all calendar.Fields
		agree := true
		for i, text := range c.forms {
			form, err := calendar.ParseForm(text)
			require.NoError(t, err, text)
			fields, ok := form.Read(c.texts[i])
			require.True(t, ok, "%s as %s", c.texts[i], text)
			var same bool
			all, same = all.Merge(fields)
			agree = agree && same
		}
		date, complete := all.Date()
		got := date.String()
		switch {
		case !agree:
			got = "differ"
		case all.Missing() != "":
			got = all.Missing()
		case !complete:
			got = "not on the calendar"
		}
		assert.Equal(t, c.want, got, "%v", c.texts)
	}
}
