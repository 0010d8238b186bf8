// Package definition is the plain-text definition of an input: where to look,
// what to pick, how to read it, what to deliver. It parses and validates; it
// opens nothing and decides nothing about files.
//
//	def, err := definition.Parse(text)
//	var invalid *definition.Invalid
//	if errors.As(err, &invalid) { … every problem, with line and column }
package definition

import (
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/filename"
	"jorvex/internal/core/pathpattern"
)

// Schema is the JSON Schema (draft 2020-12) of a definition.
//
//go:embed definition.schema.json
var Schema []byte

// Definition is a parsed and valid definition.
type Definition struct {
	Input    string // name of the input, unique in the service
	Title    string
	Place    string
	Folder   string // below the place, raw bytes; empty is the whole place
	Pick     []Pick
	Scratch  bool // leave out scratch files; true unless switched off
	Broken   BrokenAnswer
	Columns  []Column
	Delivery []Delivery
	// Delimiter is the byte between cells, 0 to find it in each file.
	Delimiter byte
}

// Pick is one pattern of the definition.
type Pick struct {
	Pattern *pathpattern.Pattern
	Line    int
}

// BrokenAnswer is what a gate answers when a picked file cannot be used.
type BrokenAnswer string

// The answers.
const (
	Stop     BrokenAnswer = "stop"
	LeaveOut BrokenAnswer = "leave_out"
)

// Type is the type of a column's values.
type Type string

// The types. A blank is null in all of them.
const (
	Text    Type = "text"
	Whole   Type = "whole"
	Decimal Type = "decimal"
	Date    Type = "date"
)

// Source says where a column's values come from.
type Source uint8

// The sources.
const (
	FromCell Source = iota
	FromCapture
	FromFile
)

// Column is one declared column of the combined table.
type Column struct {
	Name     string
	Type     Type
	Source   Source
	From     string   // capture, or fact of the file: name, folder, path
	Headers  []string // for cells: the headers it accepts
	Required bool
	Total    bool // its sum is a control total
}

// Delivery is one thing a refresh writes: a file or a table.
type Delivery struct {
	File  string // path below the delivery folder
	Table string // table in the schema "delivered"
}

// Name returns the delivery's path or table.
func (d Delivery) Name() string { return d.File + d.Table }

// Kind returns "file" or "table".
func (d Delivery) Kind() string {
	if d.Table != "" {
		return "table"
	}
	return "file"
}

// Problem is one thing wrong with a definition.
type Problem struct {
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
}

// Invalid holds every problem of a definition, in order of line.
type Invalid struct {
	Problems []Problem
}

func (e *Invalid) Error() string {
	lines := make([]string, len(e.Problems))
	for i, p := range e.Problems {
		lines[i] = fmt.Sprintf("line %d, column %d: %s", p.Line, p.Column, p.Message)
	}
	return strings.Join(lines, "\n")
}

// Digest returns the SHA-256 of a definition's text, in hexadecimal.
func Digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// LayoutDigest covers all that decides how a file's bytes become rows, and
// nothing else: two definitions with equal digests read a file alike.
func (d *Definition) LayoutDigest() string {
	h := sha256.New()
	fmt.Fprintf(h, "reader 1\ndelimiter %d\n", d.Delimiter)
	for _, c := range d.Columns {
		fmt.Fprintf(h, "%q %s %d %q %q %t\n", c.Name, c.Type, c.Source, c.From, c.Headers, c.Required)
	}
	return hex.EncodeToString(h.Sum(nil))
}

var (
	inputName  = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)
	columnName = regexp.MustCompile(`^[\p{L}_][\p{L}\p{N}_]{0,62}$`)
	tableName  = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)
)

// Parse reads a definition. What is wrong with it comes back as *Invalid.
func Parse(text string) (*Definition, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(text), &doc); err != nil {
		return nil, &Invalid{[]Problem{yamlProblem(err)}}
	}
	r := &reader{}
	def := &Definition{Scratch: true, Broken: Stop}
	if len(doc.Content) == 0 {
		r.problem(&yaml.Node{Line: 1, Column: 1}, "the definition is empty; it needs at least input, place and pick")
	} else {
		r.definition(doc.Content[0], def)
	}
	if len(r.problems) > 0 {
		return nil, &Invalid{r.problems}
	}
	return def, nil
}

var yamlLine = regexp.MustCompile(`^(?:yaml: )?(?:unmarshal errors:\s*)?line (\d+): (.*)`)

func yamlProblem(err error) Problem {
	p := Problem{Line: 1, Column: 1, Message: "this is not YAML: " + strings.TrimPrefix(err.Error(), "yaml: ")}
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		_, _ = fmt.Sscan(m[1], &p.Line)
		p.Message = "this is not YAML: " + m[2]
	}
	return p
}

// reader walks the YAML nodes and gathers problems.
type reader struct {
	problems []Problem
}

func (r *reader) problem(n *yaml.Node, format string, args ...any) {
	r.problems = append(r.problems, Problem{n.Line, n.Column, fmt.Sprintf(format, args...)})
}

// keys known at each level; the test holds the schema against them.
var known = map[string][]string{
	"the definition": {"input", "title", "place", "folder", "pick", "match_case", "scratch", "read", "columns", "deliver", "gate"},
	"read":           {"delimiter"},
	"gate":           {"broken"},
	"a column":       {"name", "type", "headers", "capture", "file", "required", "total"},
	"a delivery":     {"file", "table"},
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
		if !contains(known[level], key.Value) {
			hint := "known are " + strings.Join(known[level], ", ")
			if near := Nearest(key.Value, known[level]); near != "" {
				hint = fmt.Sprintf("did you mean %q?", near)
			}
			r.problem(key, "%s has no key %q; %s", level, key.Value, hint)
			continue
		}
		seen[key.Value] = value
		each(key.Value, value)
	}
	return seen
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
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
	if value != "" && !contains(choices, value) {
		hint := ""
		if near := Nearest(value, choices); near != "" {
			hint = fmt.Sprintf("; did you mean %q?", near)
		}
		r.problem(n, "%s is %s, not %q%s", what, strings.Join(choices, " or "), value, hint)
		return ""
	}
	return value
}

func (r *reader) definition(n *yaml.Node, def *Definition) {
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
		case "folder":
			def.Folder = r.folder(v)
		case "match_case":
			r.yesNo(v, "match_case", &options.MatchCase)
		case "scratch":
			keep := r.oneOf(v, "scratch", "leave_out", "keep")
			def.Scratch = keep != "keep"
		case "read":
			r.mapping(v, "read", func(_ string, v *yaml.Node) { def.Delimiter = r.delimiter(v) })
		case "gate":
			r.mapping(v, "gate", func(_ string, v *yaml.Node) {
				def.Broken = BrokenAnswer(r.oneOf(v, "gate: broken", string(Stop), string(LeaveOut)))
			})
		}
	})
	for _, key := range []string{"input", "place", "pick"} {
		if seen[key] == nil && n.Kind == yaml.MappingNode {
			r.problem(n, "the key %q is missing", key)
		}
	}
	if seen["pick"] != nil {
		r.pick(seen["pick"], def, options)
	}
	if seen["columns"] != nil {
		r.columns(seen["columns"], def)
	}
	if seen["deliver"] != nil {
		r.deliver(seen["deliver"], def)
	}
}

func (r *reader) folder(n *yaml.Node) string {
	shown := strings.Trim(r.text(n, "folder"), "/")
	folder, err := filename.Parse(shown)
	if err != nil {
		r.problem(n, "folder: %s", err)
	}
	for part := range strings.SplitSeq(folder, "/") {
		if part == ".." || part == "." || part == "" && folder != "" {
			r.problem(n, "folder %q climbs or doubles back; name it straight from the place's root, as in loadings/2026", shown)
			return ""
		}
	}
	return folder
}

func (r *reader) delimiter(n *yaml.Node) byte {
	names := map[string]byte{",": ',', "comma": ',', ";": ';', "semicolon": ';', "|": '|', "pipe": '|', "\t": '\t', "tab": '\t'}
	d, ok := names[r.text(n, "delimiter")]
	if !ok {
		r.problem(n, "delimiter is comma, semicolon, tab or pipe")
	}
	return d
}

func (r *reader) pick(n *yaml.Node, def *Definition, options pathpattern.Options) {
	for _, entry := range r.list(n, "pick") {
		text := r.text(entry, "a pattern")
		if text == "" {
			continue
		}
		pattern, err := pathpattern.Parse(text, options)
		var syntax *pathpattern.SyntaxError
		if errors.As(err, &syntax) {
			// Quoted text starts one column later.
			quoted := 0
			if entry.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
				quoted = 1
			}
			at := &yaml.Node{Line: entry.Line, Column: entry.Column + quoted + syntax.Column - 1}
			r.problem(at, "the pattern %q: %s", text, syntax.Message)
			continue
		}
		def.Pick = append(def.Pick, Pick{pattern, entry.Line})
	}
}

// captureKind returns the kind of the capture that every pattern declares.
func (d *Definition) captureKind(name string) (pathpattern.Kind, error) {
	var kind pathpattern.Kind
	for i, pick := range d.Pick {
		found := false
		for _, c := range pick.Pattern.Captures() {
			if c.Name != name {
				continue
			}
			if found = true; i > 0 && kind != c.Kind {
				return 0, fmt.Errorf("the capture %q is a %s in one pattern and a %s in another", name, kind, c.Kind)
			}
			kind = c.Kind
		}
		if !found {
			var names []string
			for _, c := range pick.Pattern.Captures() {
				names = append(names, c.Name)
			}
			hint := ""
			if near := Nearest(name, names); near != "" {
				hint = fmt.Sprintf("; did you mean %q?", near)
			}
			return 0, fmt.Errorf("the pattern %q has no capture <%s>%s", pick.Pattern, name, hint)
		}
	}
	return kind, nil
}

func (r *reader) columns(n *yaml.Node, def *Definition) {
	names := map[string]bool{}
	headers := map[string]string{}
	for _, entry := range r.list(n, "columns") {
		c := Column{}
		seen := r.mapping(entry, "a column", func(key string, v *yaml.Node) {
			switch key {
			case "name":
				if c.Name = r.text(v, "name"); c.Name != "" && !columnName.MatchString(c.Name) {
					r.problem(v, "%q cannot name a column; use letters, digits and _, a letter first", c.Name)
				}
			case "type":
				c.Type = Type(r.oneOf(v, "type", string(Text), string(Whole), string(Decimal), string(Date)))
			case "headers":
				for _, h := range r.list(v, "headers") {
					c.Headers = append(c.Headers, r.text(h, "a header"))
				}
			case "capture":
				c.Source, c.From = FromCapture, r.text(v, "capture")
			case "file":
				c.Source, c.From = FromFile, r.oneOf(v, "file", "name", "folder", "path")
			case "required":
				r.yesNo(v, "required", &c.Required)
			case "total":
				r.yesNo(v, "total", &c.Total)
			}
		})
		r.column(entry, seen, &c, def)
		if names[strings.ToLower(c.Name)] {
			r.problem(entry, "the column %q stands twice", c.Name)
		}
		names[strings.ToLower(c.Name)] = true
		for _, h := range c.Headers {
			if other, taken := headers[Plain(h)]; taken {
				r.problem(entry, "the header %q is accepted by the column %q already", h, other)
			}
			headers[Plain(h)] = c.Name
		}
		def.Columns = append(def.Columns, c)
	}
}

// column checks one column and fills in what it leaves unsaid.
func (r *reader) column(n *yaml.Node, seen map[string]*yaml.Node, c *Column, def *Definition) {
	if seen["name"] == nil && n.Kind == yaml.MappingNode {
		r.problem(n, "a column needs a name")
	}
	sources := 0
	for _, key := range []string{"headers", "capture", "file"} {
		if seen[key] != nil {
			sources++
		}
	}
	if sources > 1 {
		r.problem(n, "the column %q has more than one source; give headers, capture or file", c.Name)
	}
	if c.Source != FromCell && c.Required {
		r.problem(n, "the column %q does not come from a cell; required says nothing here", c.Name)
	}
	switch c.Source {
	case FromCell:
		if len(c.Headers) == 0 && c.Name != "" {
			c.Headers = []string{c.Name}
		}
	case FromCapture:
		kind, err := def.captureKind(c.From)
		if err != nil {
			r.problem(seen["capture"], "%s", err)
		}
		natural := map[pathpattern.Kind]Type{pathpattern.Text: Text, pathpattern.Number: Whole, pathpattern.DateKind: Date}[kind]
		if c.Type == "" {
			c.Type = natural
		}
		if c.Type == Date && kind == pathpattern.DateKind {
			for _, p := range def.Pick {
				if !p.Pattern.WholeDate(c.From) {
					if seen["type"] == nil {
						c.Type = Text
					} else {
						r.problem(seen["type"], "the capture %q names no single day; make the column text", c.From)
					}
					break
				}
			}
		} else if c.Type != natural && c.Type != Text {
			fit := string(Text)
			if natural != Text {
				fit = string(natural) + " or text"
			}
			r.problem(seen["type"], "the capture %q is a %s; make the column %s", c.From, kind, fit)
		}
	}
	if c.Type == "" {
		c.Type = Text
	}
	if c.Total && c.Type != Whole && c.Type != Decimal {
		r.problem(seen["total"], "the column %q is %s; only whole and decimal columns have a total", c.Name, c.Type)
	}
}

func (r *reader) deliver(n *yaml.Node, def *Definition) {
	taken := map[string]bool{}
	for _, entry := range r.list(n, "deliver") {
		var d Delivery
		r.mapping(entry, "a delivery", func(key string, v *yaml.Node) {
			switch key {
			case "file":
				d.File = r.text(v, "file")
				if !localPath(d.File) && d.File != "" {
					r.problem(v, "the delivery %q leaves the delivery folder; name it straight, as in weekly/loadings.csv", d.File)
				}
			case "table":
				if d.Table = r.text(v, "table"); d.Table != "" && !tableName.MatchString(d.Table) {
					r.problem(v, "%q cannot name a table; use small letters, digits and _, a letter first, 63 at most", d.Table)
				}
			}
		})
		if (d.File == "") == (d.Table == "") {
			r.problem(entry, "a delivery is a file or a table")
			continue
		}
		if taken[d.Kind()+strings.ToLower(d.Name())] {
			r.problem(entry, "the delivery %q stands twice", d.Name())
		}
		taken[d.Kind()+strings.ToLower(d.Name())] = true
		def.Delivery = append(def.Delivery, d)
	}
	if len(def.Columns) == 0 {
		r.problem(n, "a table can be delivered only with columns; declare columns")
	}
}

// localPath reports whether path stays below where it starts and names a file
// that does not pass for one of Jorvex's own working files.
func localPath(path string) bool {
	for part := range strings.SplitSeq(path, "/") {
		if part == "" || part == "." || part == ".." || strings.HasPrefix(part, ".jorvex") || strings.ContainsAny(part, "\\\x00") {
			return false
		}
	}
	return true
}

// Keys lists the keys a definition knows, by level.
func Keys() map[string][]string { return known }

// ValidName reports whether text can name an input or a place.
func ValidName(text string) bool { return inputName.MatchString(text) }
