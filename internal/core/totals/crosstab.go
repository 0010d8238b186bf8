package totals

import (
	"slices"
	"strings"
)

// Crosstab is a summary laid out: the groups down, those across in columns, the
// totals of the lines at the right.
type Crosstab struct {
	Header  []string
	Numeric []bool // by column: whether its figures are numbers
	Rows    [][]string
}

// What stands for all groups, and for a blank one.
const (
	All   = "all"
	Blank = "(blank)"
)

// Crosstab lays the summary out.
func (t Table) Crosstab() Crosstab {
	var across [][]string
	for _, l := range t.Lines {
		if len(l.Columns) > 0 && !slices.ContainsFunc(across, func(a []string) bool { return slices.Equal(a, l.Columns) }) {
			across = append(across, l.Columns)
		}
	}
	// The lines of all rows come first, in the order of the groups across.
	across = append(across, []string{})
	x := Crosstab{Header: slices.Clone(t.Rows), Numeric: make([]bool, len(t.Rows))}
	for _, a := range across {
		for _, m := range t.Measures {
			x.Header = append(x.Header, t.heading(a, m))
			x.Numeric = append(x.Numeric, m.Kind != Least && m.Kind != Most)
		}
	}
	var of []string
	for i, l := range t.Lines {
		if i == 0 || !slices.Equal(of, l.Rows) {
			of = l.Rows
			row := make([]string, len(x.Header))
			for j := range t.Rows {
				switch {
				case j < len(l.Rows):
					row[j] = shown(l.Rows[j])
				case j == len(l.Rows):
					row[j] = All
				}
			}
			x.Rows = append(x.Rows, row)
		}
		at := slices.IndexFunc(across, func(a []string) bool { return slices.Equal(a, l.Columns) })
		copy(x.Rows[len(x.Rows)-1][len(t.Rows)+at*len(t.Measures):], l.Values)
	}
	return x
}

func (t Table) heading(across []string, m Measure) string {
	if len(t.Columns) == 0 {
		return m.String()
	}
	name := All
	if len(across) > 0 {
		var parts []string
		for _, a := range across {
			parts = append(parts, shown(a))
		}
		name = strings.Join(parts, " ")
	}
	if len(t.Measures) > 1 {
		name += " " + m.String()
	}
	return name
}

func shown(group string) string {
	if group == "" {
		return Blank
	}
	return group
}
