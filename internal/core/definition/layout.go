package definition

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
)

// Layout says how rows are found in a file.
type Layout struct {
	// Delimiter is the byte between cells, 0 to find it in each file.
	Delimiter byte
	// Encoding is that of text; nil is UTF-8.
	Encoding     encoding.Encoding
	EncodingName string
	// Sheet is the name of a workbook's sheet, or Position its number from 1; with
	// neither it is the first that has the required columns.
	Sheet    string
	Position int
	// HeaderRow is the number of the header's first row, counted from 1; 0 to find
	// it. HeaderRows is how many rows make up the header, their cells joined with
	// HeaderJoin; 0 to find out.
	HeaderRow  int
	HeaderRows int
	HeaderJoin string
	// CarryDown are columns whose blank cells repeat the value above.
	CarryDown []string
	// LeaveOut are conditions on a row's columns, as they are written in the file.
	LeaveOut []*condition.Condition
	// Decimal and Thousands are the marks in numbers; Thousands is 0 for none.
	Decimal   byte
	Thousands string
	// Dates are the forms that dates are written in beside ISO 8601.
	Dates []calendar.Form
}

// mostHeaderRows is how many rows a header may have.
const mostHeaderRows = 5

// layout reads what the key read says; conditions and columns' names are read
// after the columns.
func (r *reader) layout(n *yaml.Node) {
	l := &r.def.Layout
	r.mapping(n, "read", func(key string, v *yaml.Node) {
		switch key {
		case "delimiter":
			l.Delimiter = r.delimiter(v)
		case "encoding":
			name := r.text(v, "encoding")
			e, err := htmlindex.Get(name)
			if err != nil {
				r.problem(v, "%q is no encoding; write utf-8, windows-1252, iso-8859-1 or another name of the Encoding Standard", name)
				return
			}
			if l.EncodingName, _ = htmlindex.Name(e); l.EncodingName != "utf-8" {
				l.Encoding = e
			}
		case "sheet":
			if l.Sheet = r.text(v, "sheet"); v.Tag == "!!int" {
				l.Position, _ = strconv.Atoi(l.Sheet)
				if l.Sheet = ""; l.Position < 1 {
					r.problem(v, "sheets are counted from 1")
				}
			}
		case "header_row":
			l.HeaderRow = r.number(v, "header_row", 1, 100_000)
		case "header_rows":
			l.HeaderRows = r.number(v, "header_rows", 1, mostHeaderRows)
		case "header_join":
			l.HeaderJoin = r.text(v, "header_join")
		case "decimal":
			l.Decimal = map[string]byte{"comma": ',', "point": '.'}[r.oneOf(v, "decimal", "comma", "point")]
		case "thousands":
			l.Thousands = map[string]string{"comma": ",", "point": ".", "space": " ", "apostrophe": "'"}[r.oneOf(v, "thousands", "comma", "point", "space", "apostrophe")]
		case "dates":
			for _, f := range r.oneOrMore(v, "dates") {
				form, err := calendar.ParseTextForm(r.text(f, "dates"))
				if err != nil {
					r.problem(f, "%s", err)
					continue
				}
				l.Dates = append(l.Dates, form)
			}
		}
	})
	if l.Decimal != 0 && string(l.Decimal) == l.Thousands {
		r.problem(n, "the decimal mark and that between thousands are the same")
	}
}

func (r *reader) number(n *yaml.Node, what string, least, most int) int {
	i, err := strconv.Atoi(r.text(n, what))
	if err != nil || i < least || i > most {
		r.problem(n, "%s is a number from %d to %d", what, least, most)
		return 0
	}
	return i
}

// rowRules reads what read says of columns by name.
func (r *reader) rowRules(n *yaml.Node) {
	l := &r.def.Layout
	fields := r.def.RowFields()
	for i := 0; i+1 < len(n.Content); i += 2 {
		v := n.Content[i+1]
		switch n.Content[i].Value {
		case "carry_down":
			for _, c := range r.oneOrMore(v, "carry_down") {
				name := r.text(c, "carry_down")
				if !slices.ContainsFunc(fields, func(f condition.Field) bool { return f.Name == name }) {
					r.problem(c, "there is no column %q that comes from a cell", name)
				}
				l.CarryDown = append(l.CarryDown, name)
			}
		case "leave_out":
			for _, c := range r.oneOrMore(v, "leave_out") {
				text := r.text(c, "a condition")
				if text == "" {
					continue
				}
				parsed, err := condition.Parse(text, fields, r.plainValue)
				var syntax *condition.SyntaxError
				if errors.As(err, &syntax) {
					r.problem(inside(c, syntax.Column), "the condition %s: %s", text, syntax.Message)
					continue
				}
				l.LeaveOut = append(l.LeaveOut, parsed)
			}
		}
	}
}

// RowFields are the columns that conditions on rows can ask about: those that
// come from a cell, by the index of the field.
func (d *Definition) RowFields() []condition.Field {
	var fields []condition.Field
	for _, c := range d.Columns {
		if c.Source == FromCell {
			kind := condition.Text
			switch {
			case c.Type.Number():
				kind = condition.Number
			case c.Type == Date:
				kind = condition.Date
			}
			fields = append(fields, condition.Field{Name: c.Name, Kind: kind})
		}
	}
	return fields
}

// digest covers all of the layout.
func (l *Layout) digest() string {
	var rules, dates []string
	for _, c := range l.LeaveOut {
		rules = append(rules, c.String())
	}
	for _, f := range l.Dates {
		dates = append(dates, f.String())
	}
	return fmt.Sprintf("delimiter %d\nencoding %s\nsheet %q %d\nheader %d %d %q\ncarry %q\nleave %q\nmarks %d %q\ndates %q\n",
		l.Delimiter, l.EncodingName, l.Sheet, l.Position, l.HeaderRow, l.HeaderRows, l.HeaderJoin, l.CarryDown, rules, l.Decimal, l.Thousands, strings.Join(dates, "\n"))
}
