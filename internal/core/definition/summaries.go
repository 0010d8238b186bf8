package definition

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/nearest"
	"jorvex/internal/core/totals"
)

// summaries reads the cross-tabs that are made of the combined rows.
func (r *reader) summaries(n *yaml.Node) {
	for _, entry := range r.list(n, "summaries") {
		var s totals.Summary
		seen := r.mapping(entry, "a summary", func(key string, v *yaml.Node) {
			switch key {
			case "name":
				if s.Name = strings.TrimSpace(r.text(v, "name")); len(s.Name) > 60 {
					r.problem(v, "a summary's name has at most 60 bytes")
				}
			case "rows":
				s.Rows = r.columnsNamed(v, "rows")
			case "columns":
				s.Columns = r.columnsNamed(v, "columns")
			case "measures":
				for _, m := range r.oneOrMore(v, "measures") {
					s.Measures = append(s.Measures, r.measure(m))
				}
			}
		})
		for _, key := range []string{"name", "rows", "measures"} {
			if seen[key] == nil {
				r.problem(entry, "a summary needs %s, as in name: by terminal, rows: terminal, measures: sum passengers", key)
			}
		}
		for i, c := range slices.Concat(s.Rows, s.Columns) {
			if slices.Index(slices.Concat(s.Rows, s.Columns), c) < i {
				r.problem(entry, "the summary groups by %q twice", c)
			}
		}
		if slices.ContainsFunc(r.def.Summaries, func(o totals.Summary) bool { return strings.EqualFold(o.Name, s.Name) }) {
			r.problem(entry, "the summary %q stands twice", s.Name)
		}
		r.def.Summaries = append(r.def.Summaries, s)
	}
}

func (r *reader) columnsNamed(n *yaml.Node, what string) (names []string) {
	for _, c := range r.oneOrMore(n, what) {
		names = append(names, r.declared(c, r.text(c, what)).Name)
	}
	return names
}

// declared finds a column by its name.
func (r *reader) declared(n *yaml.Node, name string) (c Column) {
	var names []string
	for _, c := range r.def.Columns {
		if strings.EqualFold(c.Name, name) {
			return c
		}
		names = append(names, c.Name)
	}
	if name != "" {
		r.problem(n, "no column is named %q; %s", name, nearest.Hint(name, names))
	}
	return c
}

func (r *reader) measure(n *yaml.Node) (m totals.Measure) {
	kind, column, of := strings.Cut(strings.TrimSpace(r.text(n, "a measure")), " ")
	var kinds []string
	for _, k := range totals.Kinds {
		kinds = append(kinds, string(k))
	}
	m.Kind = totals.Kind(kind)
	switch {
	case kind == "":
		return m
	case !slices.Contains(kinds, kind):
		r.problem(n, "a measure begins with %s, not %q; %s", strings.Join(kinds, ", "), kind, nearest.Hint(kind, kinds))
		return m
	case !of && m.Kind != totals.Count:
		r.problem(n, "say of which column, as in %s passengers", kind)
		return m
	case !of:
		return m
	}
	c := r.declared(n, strings.TrimSpace(column))
	m.Column = c.Name
	if (m.Kind == totals.Adds || m.Kind == totals.Mean) && c.Name != "" && !c.Type.Number() {
		r.problem(n, "the column %q is %s, which has no %s", c.Name, c.Type, kind)
	}
	return m
}
