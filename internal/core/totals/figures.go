package totals

import (
	"cmp"
	"maps"
	"slices"
)

// Figures are what a tally tells: the watched values and the summaries of a
// refresh, as they are kept for good.
type Figures struct {
	Watched   []Watched `json:"watched"`
	Summaries []Table   `json:"summaries"`
}

// Watched is one watched column.
type Watched struct {
	Column string       `json:"column"`
	Values []ValueCount `json:"values"`
	// Beyond is how many rows had values beyond MostValues distinct ones.
	Beyond int64 `json:"beyond,string"`
}

// ValueCount is a distinct value and how many rows have it.
type ValueCount struct {
	Value string `json:"value"`
	Rows  int64  `json:"rows,string"`
}

// Table is a summary with its figures.
type Table struct {
	Summary
	Lines []Line `json:"lines"`
	// Beyond is how many rows fell into groups beyond MostGroups.
	Beyond int64 `json:"beyond,string"`
}

// Line is the figures of one group. Fewer groups than the summary's rows make a
// subtotal, none the total of all; no groups across, the total of the line.
type Line struct {
	Rows    []string `json:"rows"`
	Columns []string `json:"columns"`
	Values  []string `json:"values"` // by measure; empty where there is none
}

// Figures returns what the tally tells, in the order of the values.
func (t *Tally) Figures() Figures {
	f := Figures{Watched: []Watched{}, Summaries: []Table{}}
	for i, seen := range t.Watched {
		w := Watched{Column: t.plan.Watched[i], Values: []ValueCount{}, Beyond: t.Beyond[i]}
		numeric := t.plan.Numeric[t.places.watched[i]]
		for _, v := range slices.SortedFunc(maps.Keys(seen), func(a, b string) int { return Order(a, b, numeric) }) {
			w.Values = append(w.Values, ValueCount{v, seen[v]})
		}
		f.Watched = append(f.Watched, w)
	}
	for i := range t.plan.Summaries {
		f.Summaries = append(f.Summaries, t.table(i))
	}
	return f
}

// table makes the lines of a summary: every group, the subtotals above it, and
// both across and in all.
func (t *Tally) table(summary int) Table {
	s := t.plan.Summaries[summary]
	table := Table{Summary: s, Lines: []Line{}, Beyond: t.Beyond[len(t.Watched)+summary]}
	type group struct {
		line Line
		cell *Cell
	}
	groups := map[string]*group{}
	add := func(rows, columns []string, cell *Cell) {
		line := Line{Rows: rows, Columns: columns}
		key := line.Key()
		g := groups[key]
		if g == nil {
			g = &group{line: line, cell: &Cell{Measures: make([]Held, len(s.Measures))}}
			groups[key] = g
		}
		t.mergeCell(summary, g.cell, cell)
	}
	for key, cell := range t.Summaries[summary] {
		values := split(key)
		rows, columns := values[:len(s.Rows)], values[len(s.Rows):]
		for n := range len(rows) + 1 {
			add(rows[:n], []string{}, cell)
			if len(columns) > 0 {
				add(rows[:n], columns, cell)
			}
		}
	}
	for _, g := range groups {
		for i, m := range s.Measures {
			g.line.Values = append(g.line.Values, g.cell.value(i, m))
		}
		table.Lines = append(table.Lines, g.line)
	}
	numeric := func(columns []string) (is []bool) {
		for _, at := range t.plan.places(columns) {
			is = append(is, t.plan.Numeric[at])
		}
		return is
	}
	down, across := numeric(s.Rows), numeric(s.Columns)
	slices.SortFunc(table.Lines, func(a, b Line) int {
		return cmp.Or(orderOf(a.Rows, b.Rows, down), orderOf(a.Columns, b.Columns, across))
	})
	return table
}

// Key tells the lines of a summary apart.
func (l Line) Key() string { return joined(l.Rows) + "\x01" + joined(l.Columns) }

// Lines returns the figures of the lines of a summary that is declared alike, by
// their keys.
func (f Figures) Lines(s Summary) map[string][]string {
	lines := map[string][]string{}
	for _, t := range f.Summaries {
		if t.Name == s.Name && slices.Equal(t.Rows, s.Rows) && slices.Equal(t.Columns, s.Columns) && slices.Equal(t.Measures, s.Measures) {
			for _, l := range t.Lines {
				lines[l.Key()] = l.Values
			}
		}
	}
	return lines
}

func joined(values []string) string {
	key := ""
	for _, v := range values {
		key += v + "\x00"
	}
	return key
}

// orderOf compares groups; a subtotal comes before what it is made of.
func orderOf(a, b []string, numeric []bool) int {
	for i := range min(len(a), len(b)) {
		if c := Order(a[i], b[i], numeric[i]); c != 0 {
			return c
		}
	}
	return cmp.Compare(len(a), len(b))
}

// WatchedMove is a watched value that came, went, or stands in another number of
// rows.
type WatchedMove struct {
	Column string
	Value  string
	Before int64 // rows; 0 if it came
	After  int64 // rows; 0 if it went
}

// CompareWatched tells which watched values moved, by column: those that came or
// went first. Columns that only one of them watches are not told.
func CompareWatched(before, after Figures) (moves []WatchedMove) {
	for _, now := range after.Watched {
		i := slices.IndexFunc(before.Watched, func(w Watched) bool { return w.Column == now.Column })
		if i < 0 {
			continue
		}
		had := make(map[string]int64, len(before.Watched[i].Values))
		for _, v := range before.Watched[i].Values {
			had[v.Value] = v.Rows
		}
		var came, went, moved []WatchedMove
		for _, v := range now.Values {
			m := WatchedMove{now.Column, v.Value, had[v.Value], v.Rows}
			_, there := had[v.Value]
			delete(had, v.Value)
			switch {
			case !there:
				came = append(came, m)
			case m.Before != m.After:
				moved = append(moved, m)
			}
		}
		for _, v := range before.Watched[i].Values {
			if n, gone := had[v.Value]; gone {
				went = append(went, WatchedMove{now.Column, v.Value, n, 0})
			}
		}
		moves = slices.Concat(moves, came, went, moved)
	}
	return moves
}
