// Package coverage holds the files that came against those that should have:
// one for each period, each member of a group, or each pair of both.
//
//	grid := coverage.Make(expect, files, excuses, from, to, now)
//	grid.Slot(0, 3).State // coverage.Missing
//
// It is given the files and the time; it reads nothing.
package coverage

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/filename"
)

// State is what became of a slot.
type State string

// The states.
const (
	Filled  State = "filled"
	Late    State = "late" // it came after it was due
	Missing State = "missing"
	Doubled State = "doubled"
	Broken  State = "broken"
	NotDue  State = "not_due"
	Excused State = "excused"
)

// Expect says what should be there.
type Expect struct {
	Unit    calendar.Unit // of a period; NoUnit for members alone
	Working bool          // of days, Monday to Friday without holidays alone
	Of      string        // date capture that names the period
	Each    []string      // captures that name members: none, one, or two crossed
	// Members lists those of each capture of Each; nil for those that came in
	// the last Learn periods.
	Members  [][]string
	Learn    int
	From     calendar.Day // no slots before
	Due      Due
	Holidays map[calendar.Day]bool
	Zone     *time.Location
}

// Due is when the file of a period is due: so many days after its last one.
type Due struct {
	Days    int
	Working bool
	Hour    int
	Minute  int
}

var due = regexp.MustCompile(`^(\d{1,3}) (working )?days? after(?:, (\d{2}):(\d{2}))?$`)

// ParseDue reads "1 day after, 09:00" or "2 working days after".
func ParseDue(text string) (Due, error) {
	m := due.FindStringSubmatch(strings.ToLower(strings.TrimSpace(text)))
	if m == nil {
		return Due{}, fmt.Errorf("%q is no due time; write it as 1 day after, 09:00 or 2 working days after", text)
	}
	d := Due{Working: m[2] != ""}
	d.Days, _ = strconv.Atoi(m[1])
	d.Hour, _ = strconv.Atoi("0" + m[3])
	d.Minute, _ = strconv.Atoi("0" + m[4])
	if d.Hour > 23 || d.Minute > 59 {
		return d, fmt.Errorf("%q is no time of day; write 00:00 to 23:59", m[3]+":"+m[4])
	}
	return d, nil
}

// Usual is when a file is due unless told otherwise: when its period is over.
var Usual = Due{Days: 1}

// File is a picked file, or a copy that is none.
type File struct {
	Path    string
	Period  calendar.Date
	Members []string // parallel to Expect.Each
	Came    time.Time
	Broken  bool
	Copy    bool // a near miss that bears the mark of a copy
}

// Slot is one expected file.
type Slot struct {
	State State
	Files []int // indexes of the files that fill it
	Due   time.Time
	Note  string // of an excuse
}

// Excuse is a person's word that a slot need not be filled.
type Excuse struct {
	Row, Column string
	Note        string
}

// Grid is the slots: periods across, members down; with two groups crossed and
// no period, the second group across.
type Grid struct {
	Rows    []string
	Columns []string
	Slots   []Slot // row by row
	// Unplaced counts picked files that fall in no slot: of a day that is none
	// expected, or of a member that is not listed.
	Unplaced int
}

// Slot returns the slot of a row and column.
func (g *Grid) Slot(row, column int) *Slot { return &g.Slots[row*len(g.Columns)+column] }

// Count returns how many slots are in each state.
func (g *Grid) Count() map[State]int {
	counts := map[State]int{}
	for i := range g.Slots {
		counts[g.Slots[i].State]++
	}
	return counts
}

// workday reports whether a file is expected of a day.
func (e *Expect) workday(d calendar.Day) bool {
	weekday := d.Time().Weekday()
	return weekday != time.Saturday && weekday != time.Sunday && !e.Holidays[d]
}

// periods lists the periods that start from one day to another.
func (e *Expect) periods(from, to calendar.Day) []calendar.Date {
	var list []calendar.Date
	for p := calendar.On(max(from, e.From), e.Unit); p.Start <= to && len(list) <= Most; p = p.Add(1) {
		if p.End() < max(from, e.From) || e.Unit == calendar.OneDay && e.Working && !e.workday(p.Start) {
			continue
		}
		list = append(list, p)
	}
	return list
}

// due returns when the file of a period is due. A time in a gap of daylight
// saving is at its end.
func (e *Expect) due(p calendar.Date) time.Time {
	day := p.End()
	for left := e.Due.Days; left > 0; {
		day++
		if !e.Due.Working || e.workday(day) {
			left--
		}
	}
	y, m, d := day.Time().Date()
	at := time.Date(y, m, d, e.Due.Hour, e.Due.Minute, 0, 0, e.Zone)
	if h, minute := at.Hour(), at.Minute(); h*60+minute < e.Due.Hour*60+e.Due.Minute {
		// The clock went past it: time.Date chose the hour before the gap.
		_, before := at.Zone()
		_, after := at.Add(2 * time.Hour).Zone()
		at = at.Add(time.Duration(after-before) * time.Second)
	}
	return at
}

// members lists the members of the group of index i, listed or learnt.
func (e *Expect) members(i int, files []File, now calendar.Day) []string {
	if i < len(e.Members) && e.Members[i] != nil {
		return e.Members[i]
	}
	since := calendar.Earliest
	if e.Unit != calendar.NoUnit && e.Learn > 0 {
		since = calendar.On(now, e.Unit).Add(-e.Learn).Start
	}
	known := map[string]string{}
	for _, f := range files {
		if i < len(f.Members) && f.Members[i] != "" && !f.Copy && (e.Unit == calendar.NoUnit || f.Period.Start >= since) {
			if fold := strings.ToLower(f.Members[i]); known[fold] == "" {
				known[fold] = f.Members[i]
			}
		}
	}
	list := make([]string, 0, len(known))
	for _, name := range known {
		list = append(list, name)
	}
	slices.SortFunc(list, func(a, b string) int {
		return slices.Compare(filename.SortKey(a), filename.SortKey(b))
	})
	return list
}

// Most is the most slots a grid may have.
const Most = 200_000

// Make lays out the grid of the periods that start from one day to another, and
// fills it.
func Make(e Expect, files []File, excuses []Excuse, from, to calendar.Day, now time.Time) (*Grid, error) {
	g := &Grid{}
	today := calendar.DayOf(now.In(e.Zone))
	var periods []calendar.Date
	if e.Unit != calendar.NoUnit {
		periods = e.periods(from, to)
		for _, p := range periods {
			g.Columns = append(g.Columns, p.String())
		}
	}
	var groups [][]string
	for i := range e.Each {
		groups = append(groups, e.members(i, files, today))
	}
	switch {
	case len(groups) == 0:
		g.Rows = []string{""}
	case len(groups) == 1 && e.Unit == calendar.NoUnit:
		g.Rows, g.Columns = groups[0], []string{""}
	case len(groups) == 1:
		g.Rows = groups[0]
	case e.Unit == calendar.NoUnit:
		g.Rows, g.Columns = groups[0], groups[1]
	default:
		for _, a := range groups[0] {
			for _, b := range groups[1] {
				g.Rows = append(g.Rows, a+", "+b)
			}
		}
	}
	if n := len(g.Rows) * len(g.Columns); n > Most {
		return nil, fmt.Errorf("the grid would have more than %d slots; choose a shorter span", Most)
	}
	g.Slots = make([]Slot, len(g.Rows)*len(g.Columns))
	g.fill(&e, files, from, to)
	g.judge(&e, files, periods, now)
	g.excuse(excuses)
	return g, nil
}

// fill puts each file in its slot.
func (g *Grid) fill(e *Expect, files []File, from, to calendar.Day) {
	row, column := index(g.Rows), index(g.Columns)
	for i, f := range files {
		r, c := "", ""
		if e.Unit != calendar.NoUnit {
			if f.Period.Unit != calendar.NoUnit && (f.Period.End() < from || f.Period.Start > to) {
				continue // of another span
			}
			if f.Period.Unit == calendar.NoUnit || f.Period.Unit > e.Unit {
				g.Unplaced++
				continue
			}
			c = calendar.On(f.Period.Start, e.Unit).String()
		}
		switch {
		case len(e.Each) == 2 && e.Unit == calendar.NoUnit:
			r, c = f.Members[0], f.Members[1]
		case len(e.Each) > 0:
			r = strings.Join(f.Members, ", ")
		}
		at, inRow := row[strings.ToLower(r)]
		to, inColumn := column[strings.ToLower(c)]
		if !inRow || !inColumn {
			if !f.Copy {
				g.Unplaced++
			}
			continue
		}
		s := g.Slot(at, to)
		s.Files = append(s.Files, i)
	}
}

func index(names []string) map[string]int {
	at := make(map[string]int, len(names))
	for i, name := range names {
		at[strings.ToLower(name)] = i
	}
	return at
}

func (g *Grid) judge(e *Expect, files []File, periods []calendar.Date, now time.Time) {
	for i := range g.Slots {
		s := &g.Slots[i]
		if len(periods) > 0 {
			s.Due = e.due(periods[i%len(g.Columns)])
		}
		whole, copies, broken, late := 0, 0, false, false
		for _, f := range s.Files {
			if files[f].Copy {
				copies++
				continue
			}
			whole++
			broken = broken || files[f].Broken
			late = late || !s.Due.IsZero() && files[f].Came.After(s.Due)
		}
		switch {
		case whole == 0 && !s.Due.IsZero() && now.Before(s.Due):
			s.State = NotDue
		case whole == 0:
			s.State = Missing
		case broken:
			s.State = Broken
		case whole+copies > 1:
			s.State = Doubled
		case late:
			s.State = Late
		default:
			s.State = Filled
		}
	}
}

// excuse takes slots out that nothing is expected of.
func (g *Grid) excuse(excuses []Excuse) {
	row, column := index(g.Rows), index(g.Columns)
	for _, x := range excuses {
		r, inRow := row[strings.ToLower(x.Row)]
		c, inColumn := column[strings.ToLower(x.Column)]
		if !inRow || !inColumn {
			continue
		}
		if s := g.Slot(r, c); s.State == Missing || s.State == NotDue {
			s.State, s.Note = Excused, x.Note
		}
	}
}
