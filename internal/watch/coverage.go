package watch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/coverage"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/pathpattern"
	"jorvex/internal/core/selection"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// Coverage is the grid of an input's expected files.
type Coverage struct {
	Expect   *definition.Expect
	Grid     *coverage.Grid
	From, To calendar.Day
	Paths    []string // of the files that the grid's slots name
}

// Coverage lays out the grid of the periods that start from one day to another;
// open ends are the first expected period and today.
func (w *Watcher) Coverage(ctx context.Context, in records.Input, from, to calendar.Day) (*Coverage, error) {
	now := w.Clock()
	def, err := definition.Parse(in.Text, now)
	if err != nil || def.Expect == nil {
		return nil, err
	}
	t, err := w.try(ctx, def, in, records.Request{}, now, nil)
	if err != nil {
		return nil, err
	}
	at, err := w.peek(ctx, def.Place)
	if err != nil {
		return nil, err
	}
	var lost []string
	if in.Doubt != nil && !in.Doubt.Confirmed {
		base, err := w.baseline(ctx, in.ID, Parameters(def))
		if err != nil {
			return nil, err
		}
		lost = t.set.lost(base)
	}
	return w.cover(ctx, at, in.ID, def, t.result, t.set, lost, now, from, to)
}

// cover lays out the grid. lost are files that are gone in a way that is not
// believed.
func (w *Watcher) cover(ctx context.Context, at *watched, input int64, def *definition.Definition, r *selection.Result, s *set, lost []string, now time.Time, from, to calendar.Day) (*Coverage, error) {
	e := *def.Expect
	c := &Coverage{Expect: def.Expect, From: from, To: to}
	today := calendar.DayOf(now.In(def.Zone))
	if c.To == calendar.Latest {
		c.To = today
	}
	if e.HolidayFile != "" {
		days, err := holidays(at.place, join(def.Folder, e.HolidayFile), max(today, c.To)+366)
		if err != nil {
			return nil, fmt.Errorf("the holidays in %s: %w", filename.Show(join(def.Folder, e.HolidayFile)), err)
		}
		e.Holidays = days
	}
	files := covering(def, r, s, lost)
	for _, f := range files {
		c.Paths = append(c.Paths, f.Path)
	}
	if c.From == calendar.Earliest {
		c.From = first(files, e.From, today)
	}
	excuses, err := w.Store.Excuses(ctx, input)
	if err != nil {
		return nil, err
	}
	list := make([]coverage.Excuse, len(excuses))
	for i, x := range excuses {
		list[i] = coverage.Excuse{Row: x.Member, Column: x.Period, Note: x.Note}
	}
	c.Grid, err = coverage.Make(e.Expect, files, list, c.From, c.To, now)
	return c, err
}

// first is the first day that files are of.
func first(files []coverage.File, from, today calendar.Day) calendar.Day {
	if from != calendar.Earliest {
		return from
	}
	day := today
	for _, f := range files {
		if f.Period.Unit != calendar.NoUnit {
			day = min(day, f.Period.Start)
		}
	}
	return day
}

// covering lists the files that fill slots, as coverage takes them: the picked
// ones, those that would be were they fully seen, and copies of such.
func covering(def *definition.Definition, r *selection.Result, s *set, lost []string) []coverage.File {
	var files []coverage.File
	put := func(f coverage.File, captures []pathpattern.Capture) {
		for _, c := range captures {
			if c.Name == def.Expect.Of {
				f.Period = c.Date
			}
		}
		for _, name := range def.Expect.Each {
			value := ""
			for _, c := range captures {
				if c.Name == name {
					value = c.Value()
				}
			}
			f.Members = append(f.Members, value)
		}
		files = append(files, f)
	}
	var path pathpattern.Path
	patterns := map[string]*pathpattern.Pattern{}
	for i := range r.Decisions {
		d := &r.Decisions[i]
		captures := d.Captures
		near := d.Near()
		switch {
		case d.Verdict == selection.Picked:
		case d.Verdict == selection.HeldBack && len(captures) > 0:
		case near != nil && near.Kind == pathpattern.CopyMark && near.Pattern != "":
			p := patterns[near.Pattern]
			if p == nil {
				var err error
				if p, err = def.Pick[0].Pattern.Like(near.Pattern); err != nil {
					continue
				}
				patterns[near.Pattern] = p
			}
			below, _ := filename.Below(def.Folder, s.files[i].Path)
			path.Set(below)
			var ok bool
			if captures, ok = p.Match(&path); !ok {
				continue
			}
		default:
			continue
		}
		f := coverage.File{Path: s.files[i].Path, Came: time.Unix(0, s.came[i]), Broken: s.files[i].Broken, Copy: d.Verdict == selection.LeftOut}
		put(f, captures)
	}
	for _, lost := range lost {
		below, _ := filename.Below(def.Folder, lost)
		path.Set(below)
		for _, p := range def.Pick {
			if captures, ok := p.Pattern.Match(&path); ok && !p.Off {
				put(coverage.File{Path: lost}, captures)
				break
			}
		}
	}
	return files
}

func holidays(place places.Place, path string, last calendar.Day) (map[calendar.Day]bool, error) {
	f, err := place.Open(path)
	if err != nil {
		return nil, errors.New(places.Reason(err))
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, 8<<20))
	if err != nil {
		return nil, errors.New(places.Reason(err))
	}
	return coverage.ParseCalendar(string(text), last)
}

// covered tells in short how an input is covered, and what is wrong; next is
// when the next file is due.
func covered(c *Coverage, now time.Time) (counts map[string]int64, list []finding.Finding, next time.Time) {
	counts = map[string]int64{}
	firsts := map[coverage.State]string{}
	for i := range c.Grid.Slots {
		s := &c.Grid.Slots[i]
		if counts[string(s.State)]++; firsts[s.State] == "" {
			firsts[s.State] = slotName(c.Grid, i)
		}
		if s.State == coverage.NotDue && s.Due.After(now) && (next.IsZero() || s.Due.Before(next)) {
			next = s.Due
		}
	}
	for _, kind := range []struct {
		state coverage.State
		code  finding.Code
	}{{coverage.Missing, finding.SlotMissing}, {coverage.Doubled, finding.SlotDoubled}, {coverage.Late, finding.SlotLate}} {
		if n := counts[string(kind.state)]; n > 0 {
			f := finding.New(kind.code, "%d, the first is %s", n, firsts[kind.state])
			f.Count = n
			list = append(list, f)
		}
	}
	return counts, list, next
}

// slotName names a slot by its member and period.
func slotName(g *coverage.Grid, i int) string {
	row, column := g.Rows[i/len(g.Columns)], g.Columns[i%len(g.Columns)]
	switch {
	case row == "":
		return column
	case column == "":
		return row
	}
	return row + ", " + column
}
