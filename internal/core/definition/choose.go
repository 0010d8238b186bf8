package definition

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/nearest"
	"jorvex/internal/core/pathpattern"
)

const dateKind = pathpattern.DateKind

var kinds = map[pathpattern.Kind]condition.Kind{pathpattern.Text: condition.Text, pathpattern.Number: condition.Number, pathpattern.DateKind: condition.Date}

// mostPatterns and mostRules bound what every file of a place is held against.
const (
	mostPatterns = 1000
	mostRules    = 200
	mostListed   = 100_000
)

// path reads a path below the place, or below the folder.
func (r *reader) path(n *yaml.Node, what string, mayBeEmpty bool) string {
	shown, err := pathpattern.Expand(r.text(n, what), r.value)
	if err != nil {
		r.problem(n, "%s", err)
		return ""
	}
	path, err := CleanPath(shown)
	if err != nil || path == "" && !mayBeEmpty {
		if err == nil {
			err = errors.New("a path is missing")
		}
		r.problem(n, "%s: %s", what, err)
	}
	return path
}

// CleanPath turns a path as it is shown into raw bytes, without slashes around
// it. A path that climbs or doubles back is refused.
func CleanPath(shown string) (string, error) {
	shown = strings.Trim(shown, "/")
	path, err := filename.Parse(shown)
	if err != nil {
		return "", err
	}
	for part := range strings.SplitSeq(path, "/") {
		if part == ".." || part == "." || part == "" && path != "" || strings.Contains(part, "\x00") {
			return "", fmt.Errorf("%q climbs or doubles back; name it straight, as in loadings/2026", shown)
		}
	}
	return path, nil
}

// inside points at a character of a scalar's text.
func inside(n *yaml.Node, column int) *yaml.Node {
	quoted := 0
	if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
		quoted = 1 // quoted text starts one column later
	}
	return &yaml.Node{Line: n.Line, Column: n.Column + quoted + column - 1}
}

// switched reads an entry that is a text, or a mapping with the text under a
// key and perhaps off.
func (r *reader) switched(n *yaml.Node, level, key string) (text *yaml.Node, off bool) {
	if n.Kind != yaml.MappingNode {
		return n, false
	}
	seen := r.mapping(n, level, func(k string, v *yaml.Node) {
		if k == "off" {
			r.yesNo(v, "off", &off)
		}
	})
	if seen[key] == nil {
		r.problem(n, "the key %q is missing", key)
	}
	return seen[key], off
}

func (r *reader) pick(n *yaml.Node, options pathpattern.Options) {
	options.Language = r.def.Language
	options.Parameter = r.value
	entries := r.list(n, "pick")
	if len(entries) > mostPatterns {
		r.problem(n, "%d patterns are too many, %d may be given; a long list of files belongs in a file of its own, read with list", len(entries), mostPatterns)
		return
	}
	for _, entry := range entries {
		node, off := r.switched(entry, "a pattern", "pattern")
		if node == nil {
			continue
		}
		text := r.text(node, "a pattern")
		if text == "" {
			continue
		}
		pattern, err := pathpattern.Parse(text, options)
		var syntax *pathpattern.SyntaxError
		if errors.As(err, &syntax) {
			r.problem(inside(node, syntax.Column), "the pattern %q: %s", text, syntax.Message)
			continue
		}
		r.def.Pick = append(r.def.Pick, Pick{pattern, node.Line, off})
	}
}

// capture returns the kind of a capture of some pattern, or an error naming the
// nearest.
func (r *reader) capture(n *yaml.Node, name string) (condition.Kind, bool) {
	names := make([]string, 0, len(r.def.Captures))
	for _, c := range r.def.Captures {
		if c.Name == name {
			return c.Kind, true
		}
		names = append(names, c.Name)
	}
	hint := "the patterns have none"
	if len(names) > 0 {
		hint = nearest.Hint(name, names)
	}
	r.problem(n, "there is no capture %q; %s", name, hint)
	return 0, false
}

// ColumnCaptures are the captures that can be columns: those that every pattern
// has; of dates, the one that names a day makes longer ones superfluous.
func (d *Definition) ColumnCaptures() (fields []condition.Field) {
	days := map[string]bool{}
	for _, f := range d.Captures {
		if _, day, err := d.captureOfAll(f.Name); err == nil {
			fields = append(fields, f)
			if f.Kind == condition.Date && day {
				days[f.Name] = true
			}
		}
	}
	return slices.DeleteFunc(fields, func(f condition.Field) bool {
		return len(days) > 0 && f.Kind == condition.Date && !days[f.Name]
	})
}

// captureOfAll returns the kind of a capture that every pattern that is on must
// have, and whether it always names one day.
func (d *Definition) captureOfAll(name string) (kind condition.Kind, day bool, err error) {
	day = true
	for _, j := range d.Joins {
		if j.Name != name {
			continue
		}
		has := j.has(d)
		return condition.Date, has.MonthDay != 0 || has.YearDay != 0, nil
	}
	if len(d.Pick) == 0 {
		return 0, false, fmt.Errorf("there is no capture %q, since there is no pattern", name)
	}
	for _, p := range d.Pick {
		names := make([]string, 0, 4)
		found := false
		for _, c := range p.Pattern.Captures() {
			names = append(names, c.Name)
			if c.Name == name {
				found, kind = true, kinds[c.Kind]
				day = day && (c.Has.MonthDay != 0 || c.Has.YearDay != 0)
			}
		}
		if !found {
			hint := ""
			if near := nearest.Find(name, names); near != "" {
				hint = fmt.Sprintf("; did you mean %q?", near)
			}
			return 0, false, fmt.Errorf("the pattern %q has no capture <%s>%s", p.Pattern, name, hint)
		}
	}
	return kind, day, nil
}

// has tells which parts the captures of a join give together.
func (j Join) has(d *Definition) calendar.Fields {
	var has calendar.Fields
	for _, p := range d.Pick {
		for _, c := range p.Pattern.Captures() {
			if slices.Contains(j.From, c.Name) {
				has, _ = has.Merge(c.Has)
			}
		}
	}
	if j.YearOf != "" && has.Year == 0 && has.WeekYear == 0 {
		if has.Week != 0 {
			has.WeekYear = 1
		} else {
			has.Year = 1
		}
	}
	return has
}

func (r *reader) joins(n *yaml.Node) {
	if n.Kind != yaml.MappingNode {
		r.problem(n, "captures is written as name: {from: [captures]}")
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		j := Join{Name: key.Value, Line: key.Line}
		if !parameterName.MatchString(j.Name) {
			r.problem(key, "%q cannot name a capture; use small letters, digits and _, a letter first", j.Name)
		}
		r.mapping(value, "a joined capture", func(k string, v *yaml.Node) {
			switch k {
			case "from":
				for _, c := range r.list(v, "from") {
					j.From = append(j.From, r.text(c, "a capture"))
				}
			case "year":
				j.YearOf = r.text(v, "year")
				if year, err := strconv.Atoi(j.YearOf); j.YearOf != Modified && (err != nil || year < 1 || year > 9999) {
					r.problem(v, "year is %s or a year such as 2026, not %q", Modified, j.YearOf)
				}
			}
		})
		r.join(value, j)
	}
}

func (r *reader) join(n *yaml.Node, j Join) {
	if len(j.From) == 0 {
		r.problem(n, "the joined capture %q needs from, the captures it is made of", j.Name)
		return
	}
	for _, p := range r.def.Pick {
		for _, c := range p.Pattern.Captures() {
			if c.Name == j.Name {
				r.problem(n, "the capture %q stands in a pattern already; name the joined one otherwise", j.Name)
			}
			if slices.Contains(j.From, c.Name) && c.Kind != dateKind {
				r.problem(n, "the capture %q is a %s; only parts of dates are joined, as in <%s:MM>", c.Name, c.Kind, c.Name)
				return
			}
		}
	}
	for _, name := range j.From {
		if !slices.ContainsFunc(r.def.Pick, func(p Pick) bool {
			return slices.ContainsFunc(p.Pattern.Captures(), func(c pathpattern.Named) bool { return c.Name == name })
		}) {
			r.problem(n, "there is no capture %q to join", name)
			return
		}
	}
	if missing := j.has(r.def).Missing(); missing != "" {
		hint := ""
		if strings.HasPrefix(missing, "the year") {
			hint = "; name the year with year: 2026, or take it from the modified time with year: modified"
		}
		r.problem(n, "joined, %s still lack %s%s", strings.Join(j.From, " and "), missing, hint)
	}
	r.def.Joins = append(r.def.Joins, j)
}

func (r *reader) rules(n *yaml.Node, what string) []Rule {
	var rules []Rule
	entries := r.list(n, what)
	if len(entries) > mostRules {
		r.problem(n, "%d rules are too many, %d may be given", len(entries), mostRules)
		return nil
	}
	for _, entry := range entries {
		node, off := r.switched(entry, "a rule", "if")
		if node == nil {
			continue
		}
		text := r.text(node, "a condition")
		if text == "" {
			continue
		}
		c, err := condition.Parse(text, condition.FileFields(r.def.Captures), r.plainValue)
		var syntax *condition.SyntaxError
		if errors.As(err, &syntax) {
			r.problem(inside(node, syntax.Column), "the condition %s: %s", text, syntax.Message)
			continue
		}
		rules = append(rules, Rule{c, node.Line, off})
	}
	return rules
}

func (r *reader) window(n *yaml.Node) {
	w := &Window{Line: n.Line, Of: Modified}
	for _, c := range r.def.Captures {
		if c.Kind == condition.Date {
			w.Of = c.Name // the only date, unless said otherwise
		}
	}
	node := n
	dates := 0
	for _, c := range r.def.Captures {
		if c.Kind == condition.Date {
			dates++
		}
	}
	if n.Kind == yaml.MappingNode {
		seen := r.mapping(n, "window", func(key string, v *yaml.Node) {
			switch key {
			case "of":
				w.Of = r.text(v, "of")
				dates = 1
				if w.Of == Modified {
					return
				}
				if kind, ok := r.capture(v, w.Of); ok && kind != condition.Date {
					r.problem(v, "the capture %q is a %s; a window is of a date or of %s", w.Of, kind, Modified)
				}
			case "off":
				r.yesNo(v, "off", &w.Off)
			}
		})
		if node = seen["span"]; node == nil {
			r.problem(n, `the key "span" is missing`)
			return
		}
	}
	if dates > 1 {
		r.problem(n, "there are several dates; say which one the window is of, as in window: {span: %s, of: %s}", node.Value, w.Of)
	}
	text, err := pathpattern.Expand(r.text(node, "window"), r.plainValue)
	if err == nil {
		w.Span, err = calendar.ParseWindow(text)
	}
	if err != nil {
		r.problem(node, "%s", err)
		return
	}
	r.def.Window = w
}

func (r *reader) latest(n *yaml.Node) {
	l := &Latest{Keep: 1, Line: n.Line}
	if n.Kind == yaml.ScalarNode {
		l.Of = r.text(n, "latest")
		r.datedOf(n, l.Of)
		r.def.Latest = l
		return
	}
	seen := r.mapping(n, "latest", func(key string, v *yaml.Node) {
		switch key {
		case "of":
			l.Of = r.text(v, "of")
			r.datedOf(v, l.Of)
		case "per":
			for _, c := range r.oneOrMore(v, "per") {
				name := r.text(c, "per")
				if _, ok := r.capture(c, name); ok {
					l.Per = append(l.Per, name)
				}
			}
		case "keep":
			keep, err := strconv.Atoi(r.text(v, "keep"))
			if err != nil || keep < 1 {
				r.problem(v, "keep is a number of files, 1 or more")
			}
			l.Keep = keep
		case "future":
			r.yesNo(v, "future", &l.Future)
		case "fallback":
			l.Previous = r.oneOf(v, "fallback", "previous", "none") == "previous"
		case "off":
			r.yesNo(v, "off", &l.Off)
		}
	})
	if n.Kind == yaml.MappingNode && seen["of"] == nil {
		r.problem(n, `the key "of" is missing: a capture, or %s`, Modified)
	}
	r.def.Latest = l
}

// datedOf checks what a latest is told by.
func (r *reader) datedOf(n *yaml.Node, name string) {
	if name != "" && name != Modified {
		r.capture(n, name)
	}
}

func (r *reader) order(n *yaml.Node) {
	text := r.text(n, "order")
	by, ok := strings.CutPrefix(text, "by ")
	if text != "path" && !ok {
		r.problem(n, "order is path, or by and a capture, as in: by day")
		return
	}
	if ok {
		r.def.OrderBy = by
		if by != Modified {
			r.capture(n, by)
		}
	}
}

func (r *reader) files(n *yaml.Node) {
	entries := r.list(n, "files")
	if len(entries) > mostListed {
		r.problem(n, "%d files are too many, %d may be listed", len(entries), mostListed)
		return
	}
	taken := map[string]bool{}
	for _, entry := range entries {
		l := Listed{Line: entry.Line}
		if entry.Kind == yaml.ScalarNode {
			l.Path = r.path(entry, "a listed file", false)
		} else {
			seen := r.mapping(entry, "a listed file", func(key string, v *yaml.Node) {
				switch key {
				case "path":
					l.Path = r.path(v, "path", false)
				case "sheet":
					l.Sheet = r.text(v, "sheet")
				case "to":
					r.target(v, &l.Target)
				}
			})
			if seen["path"] == nil && entry.Kind == yaml.MappingNode {
				r.problem(entry, `the key "path" is missing`)
			}
		}
		key := l.Path + "\x00" + l.Sheet
		if taken[key] && l.Path != "" {
			r.problem(entry, "%q is listed twice", filename.Show(l.Path))
		}
		taken[key] = true
		r.def.Files = append(r.def.Files, l)
	}
}

func (r *reader) target(n *yaml.Node, t *Target) {
	r.mapping(n, "a target", func(key string, v *yaml.Node) {
		switch key {
		case "sheet":
			t.Sheet = r.text(v, "sheet")
		case "table":
			t.Table = r.text(v, "table")
		case "row":
			row, err := strconv.Atoi(r.text(v, "row"))
			if err != nil || row < 1 {
				r.problem(v, "row is the number of a row, 1 or more")
			}
			t.Row = row
		}
	})
}

// listColumns are the headers that a list's columns have unless told otherwise.
var listColumns = map[string]string{"file": "file", "sheet": "sheet", "to_sheet": "target sheet", "to_table": "target table", "to_row": "start row"}

func (r *reader) listFile(n *yaml.Node) {
	l := &List{Line: n.Line, Columns: map[string]string{}}
	for key, header := range listColumns {
		l.Columns[key] = header
	}
	if n.Kind == yaml.ScalarNode {
		l.File = r.path(n, "list", false)
		r.def.List = l
		return
	}
	seen := r.mapping(n, "list", func(key string, v *yaml.Node) {
		switch key {
		case "file":
			l.File = r.path(v, "file", false)
		case "sheet":
			l.Sheet = r.text(v, "sheet")
		case "columns":
			r.mapping(v, "the list's columns", func(key string, v *yaml.Node) { l.Columns[key] = r.text(v, key) })
		}
	})
	if seen["file"] == nil && n.Kind == yaml.MappingNode {
		r.problem(n, `the key "file" is missing: the list's path below the folder`)
	}
	r.def.List = l
}
