package definition

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/nearest"
	"jorvex/internal/core/pathpattern"
)

var yamlLine = regexp.MustCompile(`^(?:yaml: )?(?:unmarshal errors:\s*)?line (\d+): (.*)`)

func yamlProblem(err error) Problem {
	p := Problem{Line: 1, Column: 1, Message: "this is not YAML: " + strings.TrimPrefix(err.Error(), "yaml: ")}
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		_, _ = fmt.Sscan(m[1], &p.Line)
		p.Message = "this is not YAML: " + m[2]
	}
	return p
}

// document reads the one YAML document that a definition is.
func document(text string) (*yaml.Node, error) {
	var doc, more yaml.Node
	decoder := yaml.NewDecoder(strings.NewReader(text))
	if err := decoder.Decode(&doc); err != nil && !errors.Is(err, io.EOF) {
		return nil, &Invalid{[]Problem{yamlProblem(err)}}
	}
	switch err := decoder.Decode(&more); {
	case err == nil:
		return nil, &Invalid{[]Problem{{more.Line, max(more.Column, 1), "a second document begins here; a file holds one definition"}}}
	case !errors.Is(err, io.EOF):
		return nil, &Invalid{[]Problem{yamlProblem(err)}}
	}
	return &doc, nil
}

// reader walks the YAML nodes and gathers problems.
type reader struct {
	problems []Problem
	asOf     time.Time
	set      Values
	def      *Definition
}

func (r *reader) problem(n *yaml.Node, format string, args ...any) {
	r.problems = append(r.problems, Problem{n.Line, n.Column, fmt.Sprintf(format, args...)})
}

// keys known at each level; the test holds the schema against them.
var known = map[string][]string{
	"the definition": {"input", "title", "place", "folder", "zone", "language", "parameters", "pick", "match_case", "captures", "files", "list",
		"scratch", "only_if", "leave_out", "window", "latest", "same_content", "order", "expect", "changed_within", "read", "columns", "summaries", "deliver", "gate", "refresh", "handover"},
	"a parameter":        {"name", "type", "form", "default"},
	"a pattern":          {"pattern", "off"},
	"a joined capture":   {"from", "year"},
	"a listed file":      {"path", "sheet", "to"},
	"a target":           {"sheet", "table", "row"},
	"list":               {"file", "sheet", "columns"},
	"the list's columns": {"file", "sheet", "to_sheet", "to_table", "to_row"},
	"a rule":             {"if", "off"},
	"window":             {"span", "of", "off"},
	"latest":             {"of", "per", "keep", "future", "fallback", "off"},
	"expect":             {"every", "of", "each", "members", "learn", "from", "due", "holidays"},
	"read": {"delimiter", "encoding", "member", "element", "sheet", "range", "header_row", "header_rows", "header_join", "skip_top", "skip_bottom", "swap", "turn",
		"carry_down", "leave_out", "decimal", "thousands", "dates", "language", "null_words", "yes_words", "no_words", "weeks", "extra", "most_rows", "most_columns", "most_bytes"},
	"turn":            {"headers", "name", "value"},
	"weeks":           {"begin", "first_days"},
	"gate":            causeNames(),
	"a gate's answer": {"answer", "above"},
	"a summary":       {"name", "rows", "columns", "measures"},
	"a column": {"name", "type", "headers", "exact", "position", "capture", "file", "from", "compute", "matches", "split", "piece", "characters", "replace", "lookup", "part", "round",
		"default", "least", "most", "key", "required", "total", "watch"},
	"handover":   {"copy", "move", "delete", "keep"},
	"refresh":    {"cron", "arrivals", "complete"},
	"the report": {"report", "title", "zone", "inputs", "refresh"},
	"a delivery": {"file", "folder", "table", "into", "connection", "columns", "take_over", "as", "encoding", "delimiter", "decimal", "formulas", "sheets", "sheet", "start", "template", "with", "load"},
}

// mapping calls each with every key of n and reports unknown and repeated ones.
func (r *reader) mapping(n *yaml.Node, level string, each func(key string, value *yaml.Node)) map[string]*yaml.Node {
	seen := map[string]*yaml.Node{}
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	if n.Kind != yaml.MappingNode {
		r.problem(n, "%s is written as key: value pairs", level)
		return seen
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		if value.Kind == yaml.AliasNode {
			value = value.Alias
		}
		if seen[key.Value] != nil {
			r.problem(key, "the key %q stands twice", key.Value)
			continue
		}
		if !slices.Contains(known[level], key.Value) {
			r.problem(key, "%s has no key %q; %s", level, key.Value, nearest.Hint(key.Value, known[level]))
			continue
		}
		seen[key.Value] = value
		each(key.Value, value)
	}
	return seen
}

func (r *reader) text(n *yaml.Node, what string) string {
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		r.problem(n, "%s is a text", what)
		return ""
	}
	return n.Value
}

func (r *reader) yesNo(n *yaml.Node, what string, into *bool) {
	if n.Kind != yaml.ScalarNode || n.Tag != "!!bool" || n.Decode(into) != nil {
		r.problem(n, "%s is true or false", what)
	}
}

func (r *reader) list(n *yaml.Node, what string) []*yaml.Node {
	if n.Kind != yaml.SequenceNode || len(n.Content) == 0 {
		r.problem(n, "%s is a list, each entry on a line of its own after a dash", what)
		return nil
	}
	return n.Content
}

func (r *reader) oneOf(n *yaml.Node, what string, choices ...string) string {
	value := r.text(n, what)
	if value != "" && !slices.Contains(choices, value) {
		hint := ""
		if near := nearest.Find(value, choices); near != "" {
			hint = fmt.Sprintf("; did you mean %q?", near)
		}
		r.problem(n, "%s is %s, not %q%s", what, strings.Join(choices, " or "), value, hint)
		return ""
	}
	return value
}

func (r *reader) definition(n *yaml.Node, def *Definition) {
	r.def = def
	var options pathpattern.Options
	seen := r.mapping(n, "the definition", func(key string, v *yaml.Node) {
		switch key {
		case "input":
			if def.Input = r.text(v, "input"); !inputName.MatchString(def.Input) && def.Input != "" {
				r.problem(v, "%q cannot name an input; use small letters, digits and single dashes", def.Input)
			}
		case "title":
			def.Title = r.text(v, "title")
		case "place":
			def.Place = r.text(v, "place")
		case "match_case":
			r.yesNo(v, "match_case", &options.MatchCase)
		case "scratch":
			keep := r.oneOf(v, "scratch", "leave_out", "keep")
			def.Scratch = keep != "keep"
		case "same_content":
			def.SameContent = SameContent(r.oneOf(v, "same_content", string(KeepSame), string(LeaveOutSame)))
		case "changed_within":
			def.ChangedWithin = r.span(v, "changed_within")
		case "zone":
			def.Zone = r.zone(v)
		case "language":
			var err error
			if def.Language, err = calendar.ParseLanguage(r.text(v, "language")); err != nil {
				r.problem(v, "%s", err)
			}
		case "read":
			r.layout(v)
		case "gate":
			r.gate(v)
		}
	})
	for _, key := range []string{"input", "place"} {
		if seen[key] == nil && n.Kind == yaml.MappingNode {
			r.problem(n, "the key %q is missing", key)
		}
	}
	// What refers to other keys is read after them, wherever it stands.
	for _, key := range []struct {
		name string
		read func(*yaml.Node)
	}{
		{"parameters", r.parameters},
		{"folder", func(n *yaml.Node) { def.Folder = r.path(n, "folder", true) }},
		{"pick", func(n *yaml.Node) { r.pick(n, options) }},
		{"captures", r.joins},
		{"files", r.files},
		{"list", r.listFile},
		{"only_if", func(n *yaml.Node) { def.OnlyIf = r.rules(n, "only_if") }},
		{"leave_out", func(n *yaml.Node) { def.LeaveOut = r.rules(n, "leave_out") }},
		{"window", r.window},
		{"latest", r.latest},
		{"order", r.order},
		{"expect", r.expect},
		{"columns", func(n *yaml.Node) { r.columns(n, def) }},
		{"read", r.rowRules},
		{"summaries", r.summaries},
		{"deliver", func(n *yaml.Node) { r.deliver(n, def) }},
		{"handover", r.handover},
		{"refresh", func(n *yaml.Node) {
			if def.Refresh = r.refresh(n, def.Zone); def.Refresh.Complete && def.Expect == nil {
				r.problem(n, "nothing is ever complete; say which files are expected (expect) for complete: true")
			}
		}},
	} {
		if seen[key.name] != nil {
			key.read(seen[key.name])
		}
		switch key.name {
		case "parameters":
			r.bind()
		case "captures":
			r.fields()
		}
	}
	if n.Kind != yaml.MappingNode {
		return
	}
	if seen["pick"] == nil && seen["files"] == nil && seen["list"] == nil {
		r.problem(n, `the key "pick" is missing (or files, or list, for files chosen by hand)`)
	}
	if seen["files"] != nil && seen["list"] != nil {
		r.problem(seen["list"], "the list stands in files already; keep one of the two")
	}
}

// span reads a length of time.
func (r *reader) span(n *yaml.Node, what string) calendar.Span {
	number, unit, _ := strings.Cut(r.text(n, what), " ")
	count, err := strconv.Atoi(number)
	if err != nil {
		r.problem(n, "%s is a number and a unit, as in 45 days", what)
		return calendar.Span{}
	}
	span, err := calendar.ParseSpan(count, unit)
	if err != nil {
		r.problem(n, "%s: %s", what, err)
	}
	return span
}

func (r *reader) delimiter(n *yaml.Node) byte {
	names := map[string]byte{",": ',', "comma": ',', ";": ';', "semicolon": ';', "|": '|', "pipe": '|', "\t": '\t', "tab": '\t'}
	d, ok := names[r.text(n, "delimiter")]
	if !ok {
		r.problem(n, "delimiter is comma, semicolon, tab or pipe")
	}
	return d
}
