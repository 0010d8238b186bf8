package definition

import (
	"cmp"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/condition"
	"jorvex/internal/core/formula"
	"jorvex/internal/core/nearest"
)

// typeNames are the types as they are written.
var typeNames = []string{string(Text), string(Whole), string(Decimal), string(Money), string(Percent), string(Date), string(Time), string(Timestamp), string(YesNo)}

// fileFacts are what a column can tell of the file that a row comes from, with
// their types.
var fileFacts = map[string]Type{"name": Text, "stem": Text, "folder": Text, "path": Text, "modified": Timestamp, "row": Whole}

func (r *reader) columns(n *yaml.Node, def *Definition) {
	names := map[string]bool{}
	headers := map[string]string{}
	for _, entry := range r.list(n, "columns") {
		c := Column{Round: -1}
		seen := r.mapping(entry, "a column", func(key string, v *yaml.Node) { r.columnKey(&c, key, v) })
		r.column(entry, seen, &c, def)
		if names[strings.ToLower(c.Name)] {
			r.problem(entry, "the column %q stands twice", c.Name)
		}
		if def.Layout.Extra == KeepExtra && strings.EqualFold(c.Name, Others) {
			r.problem(entry, "the column %q is that of extra: keep; name this one otherwise", Others)
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
	if def.Layout.Extra == KeepExtra {
		def.Columns = append(def.Columns, Column{Name: Others, Type: Text, Source: FromOthers, Round: -1})
	}
}

func (r *reader) columnKey(c *Column, key string, v *yaml.Node) {
	switch key {
	case "name":
		if c.Name = r.text(v, "name"); c.Name != "" && !columnName.MatchString(c.Name) {
			r.problem(v, "%q cannot name a column; use letters, digits and _, a letter first", c.Name)
		}
	case "type":
		c.Type = Type(r.oneOf(v, "type", typeNames...))
	case "headers":
		for _, h := range r.list(v, "headers") {
			c.Headers = append(c.Headers, r.text(h, "a header"))
		}
	case "exact":
		r.yesNo(v, "exact", &c.Exact)
	case "position":
		c.Position = r.number(v, "position", 1, 16_384)
	case "capture":
		c.Source, c.From = FromCapture, r.text(v, "capture")
	case "file":
		c.Source, c.From = FromFile, r.oneOf(v, "file", slices.Sorted(maps.Keys(fileFacts))...)
	case "from":
		c.Source, c.From = FromColumn, r.text(v, "from")
	case "compute":
		c.Source = FromFormula
		if text := r.text(v, "compute"); text != "" {
			var err error
			if c.Formula, err = formula.Parse(text); err != nil {
				r.problem(v, "%s", err)
			}
		}
	case "matches":
		pattern, err := regexp.Compile(r.text(v, "matches"))
		if c.Matches = pattern; err != nil {
			r.problem(v, "%q is no regular expression (RE2): %s", v.Value, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		}
	case "split":
		c.Split = r.text(v, "split")
	case "piece":
		if c.Piece = r.number(v, "piece", -1000, 1000); v.Value == "0" {
			r.problem(v, "pieces are counted from 1, or from -1 at the end")
		}
	case "characters":
		c.Characters = r.characters(v)
	case "replace":
		r.pairs(v, "replace", func(from, to string) { c.Replace = append(c.Replace, [2]string{from, to}) })
	case "lookup":
		c.Lookup = map[string]string{}
		r.pairs(v, "lookup", func(from, to string) {
			if _, twice := c.Lookup[Plain(from)]; twice {
				r.problem(v, "the lookup has %q twice; values are compared without letter case", from)
			}
			c.Lookup[Plain(from)] = to
		})
	case "part":
		var names []string
		for p := range Parts {
			names = append(names, string(p))
		}
		slices.Sort(names)
		c.Part = Part(r.oneOf(v, "part", names...))
	case "round":
		c.Round = r.number(v, "round", 0, 100)
	case "default":
		c.Default = r.text(v, "default")
	case "least":
		c.Least = r.text(v, "least")
	case "most":
		c.Most = r.text(v, "most")
	case "key":
		r.yesNo(v, "key", &c.Key)
	case "required":
		r.yesNo(v, "required", &c.Required)
	case "total":
		r.yesNo(v, "total", &c.Total)
	case "watch":
		r.yesNo(v, "watch", &c.Watched)
	}
}

// characters reads a span of characters, as in 1-3, 4- or 5.
func (r *reader) characters(n *yaml.Node) (span [2]int) {
	from, to, more := strings.Cut(r.text(n, "characters"), "-")
	var err, err2 error
	span[0], err = strconv.Atoi(strings.TrimSpace(from))
	switch to = strings.TrimSpace(to); {
	case !more:
		span[1] = span[0]
	case to != "":
		span[1], err2 = strconv.Atoi(to)
	}
	if err != nil || err2 != nil || span[0] < 1 || span[1] != 0 && span[1] < span[0] {
		r.problem(n, "characters are a span counted from 1, as in 1-3, or 4- up to the end")
	}
	return span
}

// pairs reads a mapping of texts.
func (r *reader) pairs(n *yaml.Node, what string, each func(from, to string)) {
	if n.Kind != yaml.MappingNode || len(n.Content) == 0 {
		r.problem(n, "%s is written as old: new pairs", what)
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		from := r.text(n.Content[i], what)
		if from == "" {
			r.problem(n.Content[i], "%s of nothing says nothing", what)
		}
		each(from, n.Content[i+1].Value)
	}
}

// column checks one column and fills in what it leaves unsaid.
func (r *reader) column(n *yaml.Node, seen map[string]*yaml.Node, c *Column, def *Definition) {
	if seen["name"] == nil && n.Kind == yaml.MappingNode {
		r.problem(n, "a column needs a name")
	}
	sources := 0
	for _, key := range []string{"headers", "position", "capture", "file", "from", "compute"} {
		if seen[key] != nil {
			sources++
		}
	}
	if sources > 1 {
		r.problem(n, "the column %q has more than one source; give headers, position, capture, file, from or compute", c.Name)
	}
	if c.Source != FromCell {
		for _, key := range []string{"required", "exact"} {
			if seen[key] != nil {
				r.problem(seen[key], "the column %q does not come from a cell; %s says nothing here", c.Name, key)
			}
		}
	}
	switch c.Source {
	case FromCell:
		if len(c.Headers) == 0 && c.Position == 0 && c.Name != "" {
			c.Headers = []string{c.Name}
		}
		if def.Layout.HeaderRow == NoHeader && c.Position == 0 {
			r.problem(n, "there is no header row; say where the column %q stands, as in position: 2", c.Name)
		}
	case FromCapture:
		r.captured(seen, c, def)
	case FromFile:
		if natural := fileFacts[c.From]; c.Type == "" {
			c.Type = natural
		} else if natural != "" && c.Type != natural && c.Type != Text && !c.Changed() {
			r.problem(seen["type"], "the fact %q is a %s; make the column %s or text", c.From, natural, natural)
		}
	case FromColumn:
		r.above(seen["from"], c.From, def)
	case FromFormula:
		if c.Type == "" {
			c.Type = Decimal
		}
		if c.Formula != nil {
			for _, name := range c.Formula.Names {
				if from := r.above(seen["compute"], name, def); from != nil && !from.Type.Number() {
					r.problem(seen["compute"], "the column %q is %s and no number", name, from.Type)
				}
			}
		}
		if !c.Type.Number() {
			r.problem(seen["type"], "the column %q is computed; make it a number", c.Name)
		}
	}
	r.steps(seen, c, def)
	if c.Type == "" {
		c.Type = Text
	}
	if c.Total && !c.Type.Number() {
		r.problem(seen["total"], "the column %q is %s; only columns of numbers have a total", c.Name, c.Type)
	}
	for _, key := range []string{"least", "most"} {
		if seen[key] != nil && !c.Type.Number() && c.Type != Date && c.Type != Timestamp && c.Type != Time {
			r.problem(seen[key], "the column %q is %s; only numbers, dates and times have bounds", c.Name, c.Type)
		}
	}
	for key, text := range map[string]string{"default": c.Default, "least": c.Least, "most": c.Most} {
		if seen[key] == nil {
			continue
		}
		if is, example := isValue(c.Type, text); !is {
			r.problem(seen[key], "%s is a value of the column, which is %s; write it as in %s", key, c.Type, example)
		}
	}
}

// canonical forms of values, which defaults and bounds are written in.
var (
	wholeForm   = regexp.MustCompile(`^(0|-?[1-9][0-9]*)$`)
	decimalForm = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?$`)
)

// isValue reports whether text is a value of a type in its canonical form, and
// gives an example of one.
func isValue(t Type, text string) (is bool, example string) {
	parses := func(form string) bool {
		_, err := time.Parse(form, text)
		return err == nil
	}
	switch t {
	case Whole:
		return wholeForm.MatchString(text), "12"
	case Decimal, Money, Percent:
		return decimalForm.MatchString(text), "12.5"
	case Date:
		return parses(time.DateOnly), "2026-10-05"
	case Time:
		return parses(time.TimeOnly), "08:30:00"
	case Timestamp:
		return parses(time.DateTime), "2026-10-05 08:30:00"
	case YesNo:
		return text == "true" || text == "false", "true"
	}
	return text != "", "unknown"
}

// Changed reports whether something is made of the source's text.
func (c *Column) Changed() bool {
	return c.Matches != nil || c.Split != "" || c.Characters != [2]int{} || c.Replace != nil || c.Lookup != nil || c.Part != ""
}

// above returns the column of that name, which must stand above.
func (r *reader) above(n *yaml.Node, name string, def *Definition) *Column {
	for i := range def.Columns {
		if strings.EqualFold(def.Columns[i].Name, name) {
			return &def.Columns[i]
		}
	}
	var names []string
	for _, c := range def.Columns {
		names = append(names, c.Name)
	}
	r.problem(n, "no column %q stands above; %s", name, nearest.Hint(name, names))
	return nil
}

// steps checks what is made of the source's text.
func (r *reader) steps(seen map[string]*yaml.Node, c *Column, def *Definition) {
	if (seen["split"] == nil) != (seen["piece"] == nil) {
		r.problem(cmp.Or(seen["split"], seen["piece"]), `split and piece go together, as in split: "-", piece: 2`)
	}
	if seen["round"] != nil && c.Source != FromFormula {
		r.problem(seen["round"], "only what is computed is rounded")
	}
	if c.Source == FromFormula && c.Changed() {
		r.problem(seen["compute"], "a column is computed, or made of a text; not both")
	}
	if c.Part == "" {
		return
	}
	if c.Source == FromColumn {
		for _, from := range def.Columns {
			if strings.EqualFold(from.Name, c.From) && from.Type != Date && from.Type != Timestamp {
				r.problem(seen["part"], "the column %q is %s and no date", c.From, from.Type)
			}
		}
	} else {
		r.problem(seen["part"], "a part is one of a date column that stands above, as in from: day, part: %s", c.Part)
	}
	natural := Text
	if Parts[c.Part] {
		natural = Whole
	}
	if c.Type == "" {
		c.Type = natural
	}
}

// captured checks a column that a capture gives.
func (r *reader) captured(seen map[string]*yaml.Node, c *Column, def *Definition) {
	kind, day, err := def.captureOfAll(c.From)
	if err != nil {
		r.problem(seen["capture"], "%s", err)
		return
	}
	natural := map[condition.Kind]Type{condition.Text: Text, condition.Number: Whole, condition.Date: Date}[kind]
	if c.Type == "" {
		c.Type = natural
	}
	if c.Type == Date && kind == condition.Date {
		if !day && seen["type"] == nil {
			c.Type = Text
		} else if !day {
			r.problem(seen["type"], "the capture %q names no single day; make the column text", c.From)
		}
	} else if c.Type != natural && c.Type != Text && !c.Changed() {
		fit := string(Text)
		if natural != Text {
			fit = string(natural) + " or text"
		}
		r.problem(seen["type"], "the capture %q is a %s; make the column %s", c.From, kind, fit)
	}
}

var notInTable = regexp.MustCompile(`[^a-z0-9]+`)

// tableOf turns a name with parameters put in into that of a table.
func tableOf(name string) string { return notInTable.ReplaceAllString(strings.ToLower(name), "_") }

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
