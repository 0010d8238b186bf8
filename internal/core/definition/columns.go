package definition

import (
	"regexp"
	"strings"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/condition"
	"jorvex/internal/core/pathpattern"
)

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
				c.Type = Type(r.oneOf(v, "type", string(Text), string(Whole), string(Decimal), string(Money), string(Percent), string(Date), string(Time), string(Timestamp), string(YesNo)))
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
	if c.Total && !c.Type.Number() {
		r.problem(seen["total"], "the column %q is %s; only columns of numbers have a total", c.Name, c.Type)
	}
}

func (r *reader) deliver(n *yaml.Node, def *Definition) {
	taken := map[string]bool{}
	for _, entry := range r.list(n, "deliver") {
		var d Delivery
		r.mapping(entry, "a delivery", func(key string, v *yaml.Node) {
			d.Template = r.text(v, key)
			name, err := pathpattern.Expand(d.Template, r.value)
			if err != nil {
				r.problem(v, "%s", err)
				return
			}
			switch key {
			case "file":
				d.File = name
				if !localPath(d.File) && d.File != "" {
					r.problem(v, "the delivery %q leaves the delivery folder; name it straight, as in weekly/loadings.csv", d.File)
				}
			case "table":
				if d.Table = name; d.Template != name {
					d.Table = tableOf(name)
				}
				if d.Table != "" && !tableName.MatchString(d.Table) {
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
