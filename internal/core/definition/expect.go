package definition

import (
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/coverage"
)

// Expect says which files should be there.
type Expect struct {
	coverage.Expect
	// HolidayFile is an iCalendar file below the folder, raw bytes; empty for
	// none.
	HolidayFile string
	Line        int
}

func (r *reader) expect(n *yaml.Node) {
	e := &Expect{Line: n.Line}
	e.Zone, e.Due, e.From = r.def.Zone, coverage.Usual, calendar.Earliest
	var members *yaml.Node
	seen := r.mapping(n, "expect", func(key string, v *yaml.Node) {
		switch key {
		case "every":
			switch unit := r.oneOf(v, "every", "day", "working day", "week", "month", "quarter", "year"); unit {
			case "working day":
				e.Unit, e.Working = calendar.OneDay, true
			case "":
			default:
				w, err := calendar.ParseWindow("this " + unit)
				if err == nil {
					e.Unit = w.Unit()
				}
			}
		case "of":
			e.Of = r.text(v, "of")
			if kind, ok := r.capture(v, e.Of); ok && kind != condition.Date {
				r.problem(v, "the capture %q is a %s; periods are of a date", e.Of, kind)
			}
		case "each":
			for _, c := range r.oneOrMore(v, "each") {
				name := r.text(c, "each")
				if _, ok := r.capture(c, name); ok {
					e.Each = append(e.Each, name)
				}
			}
			if len(e.Each) > 2 {
				r.problem(v, "one group, or two crossed, may be expected, not %d", len(e.Each))
			}
		case "members":
			members = v
		case "learn":
			periods, err := strconv.Atoi(r.text(v, "learn"))
			if err != nil || periods < 1 {
				r.problem(v, "learn is a number of periods, 1 or more")
			}
			e.Learn = periods
		case "from":
			d, err := calendar.Parse(r.text(v, "from"))
			if err != nil {
				r.problem(v, "%s", err)
			}
			e.From = d.Start
		case "due":
			var err error
			if e.Due, err = coverage.ParseDue(r.text(v, "due")); err != nil {
				r.problem(v, "%s", err)
			}
		case "holidays":
			r.holidays(v, e)
		}
	})
	if n.Kind != yaml.MappingNode {
		return
	}
	if e.Unit == calendar.NoUnit && len(e.Each) == 0 && seen["every"] == nil && seen["each"] == nil {
		r.problem(n, "expect needs every (a period), each (members), or both")
		return
	}
	if e.Unit != calendar.NoUnit && e.Of == "" {
		for _, c := range r.def.Captures {
			if c.Kind == condition.Date {
				e.Of = c.Name // the last, which is usually the finest
			}
		}
		if e.Of == "" {
			r.problem(n, "periods need a date in the pattern, as <day:yyyy-MM-dd>")
		}
	}
	if members != nil {
		r.members(members, e)
	}
	r.def.Expect = e
}

// members reads the listed members: of the one group, or of each by name.
func (r *reader) members(n *yaml.Node, e *Expect) {
	e.Members = make([][]string, len(e.Each))
	if n.Kind == yaml.SequenceNode && len(e.Each) == 1 {
		for _, m := range r.list(n, "members") {
			e.Members[0] = append(e.Members[0], r.text(m, "a member"))
		}
		return
	}
	if n.Kind != yaml.MappingNode {
		r.problem(n, "members is a list, or for two groups a list under the name of each")
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		at := -1
		for k, name := range e.Each {
			if name == n.Content[i].Value {
				at = k
			}
		}
		if at < 0 {
			r.problem(n.Content[i], "%q is no group of each, which are %s", n.Content[i].Value, strings.Join(e.Each, " and "))
			continue
		}
		for _, m := range r.list(n.Content[i+1], "members") {
			e.Members[at] = append(e.Members[at], r.text(m, "a member"))
		}
	}
}

func (r *reader) holidays(n *yaml.Node, e *Expect) {
	if n.Kind == yaml.ScalarNode {
		e.HolidayFile = r.path(n, "holidays", false)
		return
	}
	e.Holidays = map[calendar.Day]bool{}
	for _, h := range r.list(n, "holidays") {
		d, err := calendar.Parse(r.text(h, "a holiday"))
		if err != nil || d.Unit != calendar.OneDay {
			r.problem(h, "a holiday is a day such as 2026-12-25, not %q", h.Value)
			continue
		}
		e.Holidays[d.Start] = true
	}
}

// oneOrMore returns the entries of a list, or the one that stands for it.
func (r *reader) oneOrMore(n *yaml.Node, what string) []*yaml.Node {
	if n.Kind == yaml.SequenceNode {
		return r.list(n, what)
	}
	return []*yaml.Node{n}
}
