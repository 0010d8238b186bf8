package totals

import (
	"bytes"
	"cmp"
	"math/big"
	"slices"
	"strings"
)

// Kind is what a measure tells of the values of a group.
type Kind string

// The kinds. Blank values count in none but a count without a column.
const (
	Count    Kind = "count" // rows, or values of a column
	Adds     Kind = "sum"
	Mean     Kind = "mean"
	Least    Kind = "least"
	Most     Kind = "most"
	Distinct Kind = "distinct"
)

// Kinds lists the kinds.
var Kinds = []Kind{Count, Adds, Mean, Least, Most, Distinct}

// Measure is one figure of every cell of a summary.
type Measure struct {
	Kind   Kind   `json:"kind"`
	Column string `json:"column,omitempty"` // empty for a count of rows
}

// String returns the measure as a definition writes it.
func (m Measure) String() string { return strings.TrimSpace(string(m.Kind) + " " + m.Column) }

// Summary declares a cross-tab: groups nested down, groups across, and what is
// told of each.
type Summary struct {
	Name     string    `json:"name"`
	Rows     []string  `json:"rows"`
	Columns  []string  `json:"columns,omitempty"`
	Measures []Measure `json:"measures"`
}

// Plan says what is told of the rows of a table with some columns.
type Plan struct {
	Columns   []string // of the table, in order
	Numeric   []bool   // by column
	Watched   []string // columns of which the distinct values are counted
	Summaries []Summary
}

// Empty reports whether nothing is asked for.
func (p Plan) Empty() bool { return len(p.Watched) == 0 && len(p.Summaries) == 0 }

func (p Plan) at(column string) int {
	return slices.IndexFunc(p.Columns, func(c string) bool { return strings.EqualFold(c, column) })
}

func (p Plan) places(columns []string) []int {
	list := make([]int, len(columns))
	for i, c := range columns {
		list[i] = p.at(c)
	}
	return list
}

// Bounds of what is kept in memory and on a receipt. Beyond them the rest is
// told as a number.
const (
	MostValues = 10_000 // distinct values of a watched column
	MostGroups = 50_000 // cells of a summary
)

// Tally is what a plan came to for some rows. Tallies of the same plan are merged
// in any order. It is kept as JSON beside the rows.
type Tally struct {
	Watched   []map[string]int64 `json:"watched"`
	Summaries []map[string]*Cell `json:"summaries"`
	Beyond    []int64            `json:"beyond"` // rows that a full map left out: watched columns, then summaries

	plan   Plan
	key    []byte
	places tallyPlaces
}

type tallyPlaces struct {
	watched  []int
	groups   [][]int
	measures [][]int
}

// Cell is what the measures of a summary came to in one group.
type Cell struct {
	Rows     int64  `json:"rows"`
	Measures []Held `json:"measures"`
}

// Held is what one measure has gathered.
type Held struct {
	Values int64           `json:"values,omitempty"`
	Sum    *Sum            `json:"sum,omitempty"`
	End    string          `json:"end,omitempty"` // the least or the most
	Set    map[string]bool `json:"set,omitempty"`
}

// NewTally returns an empty tally of a plan.
func NewTally(p Plan) *Tally {
	t := &Tally{Beyond: make([]int64, len(p.Watched)+len(p.Summaries))}
	for range p.Watched {
		t.Watched = append(t.Watched, map[string]int64{})
	}
	for range p.Summaries {
		t.Summaries = append(t.Summaries, map[string]*Cell{})
	}
	t.Of(p)
	return t
}

// Of says what plan a tally is of, which was kept without it.
func (t *Tally) Of(p Plan) {
	t.plan = p
	t.places = tallyPlaces{watched: p.places(p.Watched)}
	for _, s := range p.Summaries {
		t.places.groups = append(t.places.groups, p.places(slices.Concat(s.Rows, s.Columns)))
		measures := make([]int, len(s.Measures))
		for i, m := range s.Measures {
			if measures[i] = -1; m.Column != "" {
				measures[i] = p.at(m.Column)
			}
		}
		t.places.measures = append(t.places.measures, measures)
	}
}

// Add adds a row: its values in canonical form, blanks empty.
func (t *Tally) Add(values [][]byte) {
	for i, at := range t.places.watched {
		seen, value := t.Watched[i], t.value(values, at)
		if _, known := seen[string(value)]; known || len(seen) < MostValues {
			seen[string(value)]++
		} else {
			t.Beyond[i]++
		}
	}
	for i, groups := range t.places.groups {
		t.key = t.key[:0]
		for _, at := range groups {
			t.key = append(append(t.key, t.value(values, at)...), 0)
		}
		cell := t.Summaries[i][string(t.key)]
		if cell == nil {
			if len(t.Summaries[i]) == MostGroups {
				t.Beyond[len(t.Watched)+i]++
				continue
			}
			cell = &Cell{Measures: make([]Held, len(t.places.measures[i]))}
			t.Summaries[i][string(t.key)] = cell
		}
		cell.Rows++
		for j, at := range t.places.measures[i] {
			if at >= 0 && len(values[at]) > 0 {
				cell.Measures[j].add(t.plan.Summaries[i].Measures[j].Kind, values[at], t.value(values, at), t.plan.Numeric[at])
			}
		}
	}
}

// value is a value as it tells groups apart: equal numbers are one, however many
// decimals they are written with.
func (t *Tally) value(values [][]byte, at int) []byte {
	v := values[at]
	switch {
	case t.plan.Numeric[at] && bytes.IndexByte(v, '.') >= 0:
		if v = bytes.TrimSuffix(bytes.TrimRight(v, "0"), []byte(".")); string(v) == "-0" {
			v = v[1:]
		}
	case bytes.IndexByte(v, 0) >= 0:
		v = bytes.ReplaceAll(v, []byte{0}, nil) // it parts the groups of a key
	}
	return v
}

// add adds a number as it is written, and as it tells values apart.
func (h *Held) add(kind Kind, number, value []byte, numeric bool) {
	h.Values++
	switch kind {
	case Adds, Mean:
		if h.Sum == nil {
			h.Sum = &Sum{}
		}
		h.Sum.Add(number)
	case Least, Most:
		if h.Values == 1 || beyond(kind, string(value), h.End, numeric) {
			h.End = string(value)
		}
	case Distinct:
		if !h.Set[string(value)] {
			if h.Set == nil {
				h.Set = map[string]bool{}
			}
			h.Set[string(value)] = true
		}
	}
}

func (h *Held) merge(kind Kind, other Held, numeric bool) {
	if other.Values == 0 {
		return
	}
	if kind == Least || kind == Most {
		if h.Values == 0 || beyond(kind, other.End, h.End, numeric) {
			h.End = other.End
		}
	}
	h.Values += other.Values
	if other.Sum != nil {
		if h.Sum == nil {
			h.Sum = &Sum{}
		}
		h.Sum.Merge(other.Sum)
	}
	for v := range other.Set {
		if h.Set == nil {
			h.Set = map[string]bool{}
		}
		h.Set[v] = true
	}
}

// beyond reports whether a is less than b, or more if it is the most that is told.
func beyond(kind Kind, a, b string, numeric bool) bool {
	c := Order(a, b, numeric)
	return kind == Least && c < 0 || kind == Most && c > 0
}

// Order compares two values in canonical form.
func Order(a, b string, numeric bool) int {
	if numeric {
		x, ok := new(big.Rat).SetString(a)
		y, ok2 := new(big.Rat).SetString(b)
		if ok && ok2 {
			return x.Cmp(y)
		}
	}
	return cmp.Compare(a, b)
}

// Merge adds what another tally of the same plan has.
func (t *Tally) Merge(other *Tally) {
	for i, n := range other.Beyond {
		t.Beyond[i] += n
	}
	for i, seen := range other.Watched {
		for v, n := range seen {
			if _, known := t.Watched[i][v]; known || len(t.Watched[i]) < MostValues {
				t.Watched[i][v] += n
			} else {
				t.Beyond[i] += n
			}
		}
	}
	for i, cells := range other.Summaries {
		for key, cell := range cells {
			mine := t.Summaries[i][key]
			if mine == nil {
				if len(t.Summaries[i]) == MostGroups {
					t.Beyond[len(t.Watched)+i] += cell.Rows
					continue
				}
				mine = &Cell{Measures: make([]Held, len(cell.Measures))}
				t.Summaries[i][key] = mine
			}
			t.mergeCell(i, mine, cell)
		}
	}
}

func (t *Tally) mergeCell(summary int, into, from *Cell) {
	into.Rows += from.Rows
	for j := range from.Measures {
		at := t.places.measures[summary][j]
		into.Measures[j].merge(t.plan.Summaries[summary].Measures[j].Kind, from.Measures[j], at >= 0 && t.plan.Numeric[at])
	}
}

// value returns what a measure came to, in canonical form; empty for none.
func (c *Cell) value(i int, m Measure) string {
	h := &c.Measures[i]
	switch {
	case m.Kind == Count && m.Column == "":
		return big.NewInt(c.Rows).String()
	case m.Kind == Count:
		return big.NewInt(h.Values).String()
	case m.Kind == Distinct:
		return big.NewInt(int64(len(h.Set))).String()
	case h.Values == 0:
		return ""
	case m.Kind == Least || m.Kind == Most:
		return h.End
	case m.Kind == Mean:
		return h.Sum.over(h.Values)
	}
	return h.Sum.String()
}

// over returns the sum divided by n, with two decimals more than it has.
func (s *Sum) over(n int64) string {
	sum, _ := new(big.Rat).SetString(s.String())
	return sum.Quo(sum, new(big.Rat).SetInt64(n)).FloatString(s.scale + 2)
}

// split returns the groups of a cell's key.
func split(key string) []string {
	list := bytes.Split([]byte(key), []byte{0})
	groups := make([]string, len(list)-1)
	for i := range groups {
		groups[i] = string(list[i])
	}
	return groups
}
