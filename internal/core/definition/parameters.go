package definition

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/nearest"
)

// Values are the values of parameters, as text, by name.
type Values map[string]string

// Parameter is something that a refresh may be given another value for.
type Parameter struct {
	Name    string
	Type    string // text, number, date, period or folder
	Form    string // how a date or period is written when no form is given
	Default string // a value; for dates and periods also a window such as "previous month"
	Line    int
}

// AsOf is the parameter that every definition has: the day of the refresh.
const AsOf = "as_of"

var (
	parameterName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,30}$`)
	parameterType = []string{"text", "number", "date", "period", "folder"}
)

func (r *reader) parameters(n *yaml.Node) {
	for _, entry := range r.list(n, "parameters") {
		p := Parameter{Type: "text", Line: entry.Line}
		seen := r.mapping(entry, "a parameter", func(key string, v *yaml.Node) {
			switch key {
			case "name":
				if p.Name = r.text(v, "name"); p.Name != "" && !parameterName.MatchString(p.Name) {
					r.problem(v, "%q cannot name a parameter; use small letters, digits and _, a letter first", p.Name)
				}
			case "type":
				if given := r.oneOf(v, "type", parameterType...); given != "" {
					p.Type = given
				}
			case "form":
				p.Form = r.text(v, "form")
				if _, err := calendar.ParseForm(p.Form); err != nil {
					r.problem(v, "%s", err)
				}
			case "default":
				p.Default = r.text(v, "default")
			}
		})
		if n := len(r.problems); n > 0 && r.problems[n-1].Line == entry.Line {
			continue
		}
		switch {
		case p.Name == "":
			r.problem(entry, "a parameter needs a name")
			continue
		case p.Name == AsOf:
			r.problem(entry, "the parameter %s is always there; choose another name", AsOf)
			continue
		case seen["default"] == nil:
			r.problem(entry, "the parameter %q needs a default, which files are judged with when nothing is set", p.Name)
			continue
		case p.Form != "" && p.Type != "date" && p.Type != "period":
			r.problem(seen["form"], "the parameter %q is a %s, which has no date form", p.Name, p.Type)
		case slices.ContainsFunc(r.def.Parameters, func(o Parameter) bool { return o.Name == p.Name }):
			r.problem(entry, "the parameter %q stands twice", p.Name)
		}
		if _, err := p.resolve(p.Default, calendar.DayOf(r.asOf.In(r.def.Zone))); err != nil {
			r.problem(seen["default"], "default: %s", err)
			continue
		}
		r.def.Parameters = append(r.def.Parameters, p)
	}
}

// resolve checks a value and gives it the form it is kept in.
func (p Parameter) resolve(value string, asOf calendar.Day) (string, error) {
	switch p.Type {
	case "number":
		if _, err := strconv.ParseFloat(value, 64); err != nil {
			return "", fmt.Errorf("the parameter %s is a number, not %q", p.Name, value)
		}
	case "date", "period":
		if w, err := calendar.ParseWindow(value); err == nil {
			if date, ok := w.Date(asOf); ok {
				value = date.String()
			}
		}
		date, err := calendar.Parse(strings.ToUpper(value))
		if err != nil {
			return "", fmt.Errorf("the parameter %s is a %s: %w", p.Name, p.Type, err)
		}
		if p.Type == "date" && date.Unit != calendar.OneDay {
			return "", fmt.Errorf("the parameter %s is a day, not %q", p.Name, value)
		}
		value = date.String()
	case "folder":
		value = strings.Trim(value, "/")
		if !localPath(value) {
			return "", fmt.Errorf("the parameter %s is a folder, named straight as in fuel/2026, not %q", p.Name, value)
		}
	default:
		if value == "" || strings.ContainsAny(value, "/\x00") {
			return "", fmt.Errorf("the parameter %s is a text without /, not %q; make it a folder to have them", p.Name, value)
		}
	}
	return value, nil
}

// bind sets the values of all parameters.
func (r *reader) bind() {
	asOf := calendar.DayOf(r.asOf.In(r.def.Zone))
	r.def.Values = Values{}
	names := make([]string, 0, len(r.def.Parameters))
	for _, p := range r.def.Parameters {
		names = append(names, p.Name)
		given, set := r.set[p.Name]
		if !set {
			given = p.Default
		}
		value, err := p.resolve(given, asOf)
		if err != nil {
			r.problem(&yaml.Node{Line: p.Line, Column: 1}, "%s", err)
		}
		r.def.Values[p.Name] = value
	}
	for name := range r.set {
		if !slices.Contains(names, name) {
			hint := "it has none"
			if len(names) > 0 {
				hint = nearest.Hint(name, names)
			}
			r.problem(&yaml.Node{Line: 1, Column: 1}, "the input has no parameter %q; %s", name, hint)
		}
	}
}

// value returns what $name or $name:form stands for.
func (r *reader) value(name, form string) (string, error) {
	date := calendar.Date{Unit: calendar.OneDay, Start: calendar.DayOf(r.asOf.In(r.def.Zone))}
	if name != AsOf {
		i := slices.IndexFunc(r.def.Parameters, func(p Parameter) bool { return p.Name == name })
		if i < 0 {
			names := []string{AsOf}
			for _, p := range r.def.Parameters {
				names = append(names, p.Name)
			}
			return "", fmt.Errorf(`there is no parameter %q; %s; \$ stands for the sign itself`, name, nearest.Hint(name, names))
		}
		p := r.def.Parameters[i]
		if form == "" {
			form = p.Form
		}
		if form == "" {
			return r.def.Values[name], nil
		}
		if p.Type != "date" && p.Type != "period" {
			return "", fmt.Errorf("the parameter %s is a %s and has no date form", name, p.Type)
		}
		var err error
		if date, err = calendar.Parse(r.def.Values[name]); err != nil {
			return "", err
		}
	}
	if form == "" {
		return date.String(), nil
	}
	parsed, err := calendar.ParseForm(form)
	if err != nil {
		return "", err
	}
	return parsed.Format(date, r.def.Language)
}

// plainValue returns what a parameter stands for in a condition or window,
// where dates are written in ISO form.
func (r *reader) plainValue(name, form string) (string, error) {
	if value, known := r.def.Values[name]; known && form == "" {
		return value, nil
	}
	return r.value(name, form)
}

// fields lists the captures of all patterns and of the joins as the fields of
// conditions.
func (r *reader) fields() {
	for _, p := range r.def.Pick {
		for _, c := range p.Pattern.Captures() {
			if c.Kind != dateKind || c.Has.Missing() == "" {
				r.addField(c.Name, kinds[c.Kind], p.Line)
			} else if !r.joined(c.Name) {
				r.problem(&yaml.Node{Line: p.Line, Column: 1}, "the capture %q lacks %s; join it with one that has it, as in captures: {day: {from: [year, %s]}}", c.Name, c.Has.Missing(), c.Name)
			}
		}
	}
	for _, j := range r.def.Joins {
		r.addField(j.Name, condition.Date, j.Line)
	}
}

func (r *reader) addField(name string, kind condition.Kind, line int) {
	for _, f := range r.def.Captures {
		if f.Name != name {
			continue
		}
		if f.Kind != kind {
			r.problem(&yaml.Node{Line: line, Column: 1}, "the capture %q is a %s in one pattern and a %s in another", name, f.Kind, kind)
		}
		return
	}
	for _, own := range condition.FileFields(nil) {
		if own.Name == name {
			r.problem(&yaml.Node{Line: line, Column: 1}, "%q is a field that every file has; name the capture otherwise", name)
		}
	}
	r.def.Captures = append(r.def.Captures, condition.Field{Name: name, Kind: kind})
}

func (r *reader) joined(name string) bool {
	return slices.ContainsFunc(r.def.Joins, func(j Join) bool { return slices.Contains(j.From, name) })
}
