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
	// Encoding is that of text; nil is UTF-8 if none is named, and what is not
	// UTF-8 is judged.
	Encoding     encoding.Encoding
	EncodingName string
	// Member is the file that is read of an archive with several; it may have * and
	// ? in it. Element is the repeating element of XML.
	Member, Element string
	// Sheet is the name of a workbook's sheet, which may have * and ? in it, or
	// Position its number from 1; with neither it is the first that has the required
	// columns. Range is the part of it that is read: cells such as B4:H200, or the
	// name of a table or range of the workbook.
	Sheet    string
	Position int
	Range    string
	// HeaderRow is the number of the header's first row, counted from 1; 0 to find
	// it, and NoHeader if there is none. HeaderRows is how many rows make up the
	// header, their cells joined with HeaderJoin; 0 to find out.
	HeaderRow  int
	HeaderRows int
	HeaderJoin string
	// SkipTop and SkipBottom are how many rows are not looked at.
	SkipTop, SkipBottom int
	// Swap makes rows of columns, before anything else.
	Swap bool
	// Turn makes rows of some columns.
	Turn Turn
	// CarryDown are columns whose blank cells repeat the value above.
	CarryDown []string
	// LeaveOut are conditions on a row's columns, as they are written in the file.
	LeaveOut []*condition.Condition
	// Decimal and Thousands are the marks in numbers; Thousands is 0 for none.
	Decimal   byte
	Thousands string
	// Dates are the forms that dates are written in beside ISO 8601, the names of
	// their months in Language.
	Dates    []calendar.Form
	Language calendar.Language
	// NullWords stand for a blank, YesWords and NoWords for yes and no, in small
	// letters.
	NullWords, YesWords, NoWords []string
	Weeks                        calendar.WeekRule
	// Extra says what becomes of columns that are not declared.
	Extra Extra
	// MostRows, MostColumns and MostBytes guard against files that are too large; 0
	// for none.
	MostRows, MostColumns, MostBytes int64
}

// NoHeader is the HeaderRow of files without a header.
const NoHeader = -1

// Turn makes rows of columns: each row becomes as many as it has values in the
// columns that the headers name, with the column's header in Name and its value
// in Value.
type Turn struct {
	Headers     []string // may have * and ? in them; none for no turn
	Name, Value string   // the headers that the two have
}

// Extra says what becomes of columns that are not declared.
type Extra string

// What becomes of them.
const (
	DropExtra Extra = "drop" // with a note
	KeepExtra Extra = "keep" // in one more column, Others
	WarnExtra Extra = "warn"
)

// Others is the name of the column that keeps what is not declared, as a JSON
// object.
const Others = "others"

// mostHeaderRows is how many rows a header may have.
const mostHeaderRows = 5

// mostSkipped is how many rows may be skipped at an end.
const mostSkipped = 1000

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
		case "member":
			l.Member = r.text(v, "member")
		case "element":
			l.Element = r.text(v, "element")
		case "range":
			l.Range = r.text(v, "range")
		case "skip_top":
			l.SkipTop = r.number(v, "skip_top", 0, mostSkipped)
		case "skip_bottom":
			l.SkipBottom = r.number(v, "skip_bottom", 0, mostSkipped)
		case "swap":
			r.yesNo(v, "swap", &l.Swap)
		case "turn":
			r.turn(v)
		case "language":
			var err error
			if l.Language, err = calendar.ParseLanguage(r.text(v, "language")); err != nil {
				r.problem(v, "%s", err)
			}
		case "null_words":
			l.NullWords = r.words(v, key)
		case "yes_words":
			l.YesWords = r.words(v, key)
		case "no_words":
			l.NoWords = r.words(v, key)
		case "weeks":
			r.weeks(v)
		case "extra":
			l.Extra = Extra(r.oneOf(v, "extra", string(DropExtra), string(KeepExtra), string(WarnExtra)))
		case "most_rows":
			l.MostRows = int64(r.number(v, "most_rows", 1, 1<<40))
		case "most_columns":
			l.MostColumns = int64(r.number(v, "most_columns", 1, 1<<20))
		case "most_bytes":
			size, err := condition.ParseSize(r.text(v, "most_bytes"))
			if l.MostBytes = size; err != nil {
				r.problem(v, "most_bytes is a size, as in 500 MB")
			}
		case "sheet":
			if l.Sheet = r.text(v, "sheet"); v.Tag == "!!int" {
				l.Position, _ = strconv.Atoi(l.Sheet)
				if l.Sheet = ""; l.Position < 1 {
					r.problem(v, "sheets are counted from 1")
				}
			}
		case "header_row":
			if l.HeaderRow = NoHeader; v.Value != "none" {
				l.HeaderRow = r.number(v, "header_row", 1, 100_000)
			}
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

// words reads a list of words, which are compared in small letters.
func (r *reader) words(n *yaml.Node, what string) []string {
	var words []string
	for _, w := range r.oneOrMore(n, what) {
		words = append(words, strings.ToLower(r.text(w, what)))
	}
	return words
}

func (r *reader) turn(n *yaml.Node) {
	t := &r.def.Layout.Turn
	seen := r.mapping(n, "turn", func(key string, v *yaml.Node) {
		switch key {
		case "headers":
			for _, h := range r.oneOrMore(v, "headers") {
				t.Headers = append(t.Headers, r.text(h, "a header"))
			}
		case "name":
			t.Name = r.text(v, "name")
		case "value":
			t.Value = r.text(v, "value")
		}
	})
	for _, key := range []string{"headers", "name", "value"} {
		if seen[key] == nil {
			r.problem(n, "turn needs %s, as in turn: {headers: [Jan, Feb], name: Month, value: Passengers}", key)
			return
		}
	}
}

func (r *reader) weeks(n *yaml.Node) {
	w := &r.def.Layout.Weeks
	r.mapping(n, "weeks", func(key string, v *yaml.Node) {
		switch key {
		case "begin":
			w.Begin = calendar.Weekday(r.oneOf(v, "begin", calendar.Weekdays...))
		case "first_days":
			w.FirstDays = r.number(v, "first_days", 1, 7)
		}
	})
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
			fields = append(fields, c.Field())
		}
	}
	return fields
}

// Field is the column as conditions ask about it.
func (c Column) Field() condition.Field {
	switch {
	case c.Type.Number():
		return condition.Field{Name: c.Name, Kind: condition.Number}
	case c.Type == Date:
		return condition.Field{Name: c.Name, Kind: condition.Date}
	}
	return condition.Field{Name: c.Name, Kind: condition.Text}
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
	return fmt.Sprintf("delimiter %d\nencoding %s\nfrom %q %q\nsheet %q %d %q\nheader %d %d %q\nskip %d %d\nshape %t %q\ncarry %q\nleave %q\nmarks %d %q\ndates %q %q\nwords %q %q %q\nweeks %v\nextra %s\nmost %d %d %d\n",
		l.Delimiter, l.EncodingName, l.Member, l.Element, l.Sheet, l.Position, l.Range, l.HeaderRow, l.HeaderRows, l.HeaderJoin, l.SkipTop, l.SkipBottom, l.Swap, l.Turn,
		l.CarryDown, rules, l.Decimal, l.Thousands, strings.Join(dates, "\n"), l.Language, l.NullWords, l.YesWords, l.NoWords, l.Weeks, l.Extra, l.MostRows, l.MostColumns, l.MostBytes)
}
