package coverage_test

import (
	"fmt"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/coverage"
)

func date(t testing.TB, text string) calendar.Date {
	t.Helper()
	d, err := calendar.Parse(text)
	require.NoError(t, err)
	return d
}

// file reads "PERIOD MEMBER[,MEMBER] [broken] [copy] [at=TIME]".
func file(t *testing.T, text string) coverage.File {
	words := strings.Fields(text)
	f := coverage.File{Path: text, Came: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)}
	if words[0] != "-" {
		f.Period = date(t, words[0])
	}
	if words[1] != "-" {
		f.Members = strings.Split(words[1], ",")
	}
	for _, w := range words[2:] {
		value, is := strings.CutPrefix(w, "at=")
		switch {
		case is:
			var err error
			f.Came, err = time.Parse(time.RFC3339, value)
			require.NoError(t, err)
		case w == "broken":
			f.Broken = true
		case w == "copy":
			f.Copy = true
		}
	}
	return f
}

var letters = map[coverage.State]string{
	coverage.Filled: "#", coverage.Late: "L", coverage.Missing: "M", coverage.Doubled: "2", coverage.Broken: "X", coverage.NotDue: ".", coverage.Excused: "-",
}

func draw(g *coverage.Grid) string {
	lines := []string{strings.Join(g.Columns, " ")}
	for r, row := range g.Rows {
		line := row + " "
		for c := range g.Columns {
			line += letters[g.Slot(r, c).State]
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

func TestGrids(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	now := time.Date(2026, 11, 20, 10, 0, 0, 0, oslo) // a Friday
	for _, c := range []struct {
		name     string
		expect   coverage.Expect
		files    []string
		excuses  []coverage.Excuse
		from, to string
		want     string
		unplaced int
	}{
		{
			name:   "working days by members learnt, due at nine the day after",
			expect: coverage.Expect{Unit: calendar.OneDay, Working: true, Each: []string{"terminal"}, Due: coverage.Due{Days: 1, Hour: 9}, Holidays: map[calendar.Day]bool{date(t, "2026-11-17").Start: true}},
			files: []string{
				"2026-11-16 Eskvik", "2026-11-18 Eskvik broken", "2026-11-19 Eskvik", "2026-11-16 Fennay", "2026-11-16 Fennay copy", "2026-11-18 fennay at=2026-11-19T08:30:00Z",
				"2026-11-21 Eskvik", "2026-11-19 Nowhere copy",
			},
			excuses: []coverage.Excuse{{Row: "Fennay", Column: "2026-11-19", Note: "closed"}, {Row: "Eskvik", Column: "2026-11-16"}, {Row: "x", Column: "y"}},
			from:    "2026-11-16", to: "2026-11-22",
			want:     "2026-11-16 2026-11-18 2026-11-19 2026-11-20\nEskvik #X#.\nFennay 2L-.",
			unplaced: 1, // the Saturday's
		},
		{
			name:   "months, listed members, two files in one month",
			expect: coverage.Expect{Unit: calendar.Month, Each: []string{"vessel"}, Members: [][]string{{"Petrel", "Gannet"}}, Due: coverage.Due{Days: 5, Working: true}, From: date(t, "2026-09").Start},
			files:  []string{"2026-09 Petrel", "2026-10-03 Petrel", "2026-10-04 Petrel", "2026-09 Fulmar", "2026 Petrel"},
			from:   "2026-01-01", to: "2026-11-30",
			want:     "2026-09 2026-10 2026-11\nPetrel #2.\nGannet MM.",
			unplaced: 2,
		},
		{
			name:   "weeks alone",
			expect: coverage.Expect{Unit: calendar.Week, Due: coverage.Usual},
			files:  []string{"2026-W46 -", "2026-11-03 -"},
			from:   "2026-11-01", to: "2026-11-20",
			want: "2026-W44 2026-W45 2026-W46 2026-W47\n M##.",
		},
		{
			name:   "members by members",
			expect: coverage.Expect{Each: []string{"terminal", "vessel"}, Members: [][]string{{"A", "B"}, nil}},
			files:  []string{"- A,Petrel", "- B,Gannet broken", "- C,Gannet"},
			from:   "2026-11-01", to: "2026-11-20",
			want:     "Gannet Petrel\nA M#\nB XM",
			unplaced: 1,
		},
		{
			name:   "one group alone",
			expect: coverage.Expect{Each: []string{"terminal"}, Members: [][]string{{"A", "B"}}},
			files:  []string{"- a"},
			from:   "2026-11-01", to: "2026-11-20",
			want: "\nA #\nB M",
		},
		{
			name:   "periods by two groups",
			expect: coverage.Expect{Unit: calendar.Quarter, Each: []string{"t", "v"}, Due: coverage.Usual},
			files:  []string{"2026-Q3 A,P", "2026-Q2 B,P"},
			from:   "2026-04-01", to: "2026-12-31",
			want: "2026-Q2 2026-Q3 2026-Q4\nA, P M#.\nB, P #M.",
		},
		{
			name:   "members learnt from the last periods alone",
			expect: coverage.Expect{Unit: calendar.Month, Each: []string{"t"}, Learn: 2, Due: coverage.Usual},
			files:  []string{"2026-06 Old", "2026-10 New"},
			from:   "2026-10-01", to: "2026-10-31",
			want: "2026-10\nNew #", // the other is of another span
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.expect.Zone = oslo
			var files []coverage.File
			for _, text := range c.files {
				files = append(files, file(t, text))
			}
			g, err := coverage.Make(c.expect, files, c.excuses, date(t, c.from).Start, date(t, c.to).End(), now)
			require.NoError(t, err)
			assert.Equal(t, c.want, draw(g))
			assert.Equal(t, c.unplaced, g.Unplaced)
			total := 0
			for _, n := range g.Count() {
				total += n
			}
			assert.Equal(t, len(g.Rows)*len(g.Columns), total)
		})
	}
}

// A due time in the gap when clocks go forward is at the gap's end.
func TestDueInTheGap(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	e := coverage.Expect{Unit: calendar.OneDay, Zone: oslo, Due: coverage.Due{Days: 1, Hour: 2, Minute: 30}}
	g, err := coverage.Make(e, nil, nil, date(t, "2026-03-28").Start, date(t, "2026-03-28").Start, time.Now())
	require.NoError(t, err)
	assert.Equal(t, "2026-03-29T03:30:00+02:00", g.Slot(0, 0).Due.Format(time.RFC3339))
}

func TestParseDue(t *testing.T) {
	for text, want := range map[string]coverage.Due{
		"1 day after": {Days: 1}, "2 working days after, 09:30": {Days: 2, Working: true, Hour: 9, Minute: 30}, "0 days after, 18:00": {Hour: 18},
	} {
		d, err := coverage.ParseDue(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, d)
	}
	for _, text := range []string{"", "soon", "1 day", "1 day after 9", "1 day after, 25:00"} {
		_, err := coverage.ParseDue(text)
		assert.Error(t, err, text)
	}
}

func TestParseCalendar(t *testing.T) {
	last := date(t, "2027-12-31").Start
	days, err := coverage.ParseCalendar(strings.ReplaceAll(`BEGIN:VCALENDAR
BEGIN:VEVENT
SUMMARY:Christmas\, as ev
 ery year
DTSTART;VALUE=DATE:20261225
DTEND;VALUE=DATE:20261227
RRULE:FREQ=YEARLY
END:VEVENT
BEGIN:VEVENT
DTSTART:20260517T000000Z
END:VEVENT
END:VCALENDAR
`, "\n", "\r\n"), last)
	require.NoError(t, err)
	for day, want := range map[string]bool{"2026-12-25": true, "2026-12-26": true, "2026-12-27": false, "2027-12-26": true, "2026-05-17": true, "2027-05-17": false} {
		assert.Equal(t, want, days[date(t, day).Start], day)
	}
	for text, says := range map[string]string{
		"day,name": "no iCalendar file", "BEGIN:VCALENDAR\nBEGIN:VEVENT\nDTSTART:2026": `line 3: "2026" is no date`,
		"BEGIN:VCALENDAR\nRRULE:FREQ=WEEKLY": "line 2: only events that repeat every year",
	} {
		_, err := coverage.ParseCalendar(text, last)
		assert.ErrorContains(t, err, says)
	}
}

func TestGridsHaveALimit(t *testing.T) {
	members := make([]string, 1000)
	for i := range members {
		members[i] = fmt.Sprint(i)
	}
	_, err := coverage.Make(coverage.Expect{Unit: calendar.OneDay, Each: []string{"t"}, Members: [][]string{members}, Zone: time.UTC}, nil, nil,
		date(t, "2026").Start, date(t, "2026").End(), time.Now())
	assert.ErrorContains(t, err, "choose a shorter span")
}

// BenchmarkMake lays out a year of working days by fifty members.
func BenchmarkMake(b *testing.B) {
	e := coverage.Expect{Unit: calendar.OneDay, Working: true, Each: []string{"t"}, Zone: time.UTC, Due: coverage.Usual}
	var files []coverage.File
	for m := range 50 {
		for d := date(b, "2026").Start; d <= date(b, "2026").End(); d++ {
			files = append(files, coverage.File{Period: calendar.On(d, calendar.OneDay), Members: []string{fmt.Sprint("Terminal ", m)}})
		}
	}
	for b.Loop() {
		_, err := coverage.Make(e, files, nil, date(b, "2026").Start, date(b, "2026").End(), time.Now())
		require.NoError(b, err)
	}
}
