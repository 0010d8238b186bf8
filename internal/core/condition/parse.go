package condition

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/nearest"
)

// FileFields returns the fields of a file, in the order of the indexes that a
// subject is asked for, with its captures after them.
func FileFields(captures []Field) []Field {
	return append([]Field{
		{"name", Text}, {"stem", Text}, {"extension", Text}, {"folder", Text}, {"path", Text},
		{"size", Number}, {"modified", Time},
	}, captures...)
}

// The indexes of a file's own fields; captures follow.
const (
	Name = iota
	Stem
	Extension
	Folder
	Path
	Size
	Modified
	Captures
)

// verbs lists what may be asked, longer ones first where they begin alike, with
// the kinds of field each fits.
var verbs = []struct {
	verb string
	fits []Kind
}{
	{"is one of", []Kind{Text, Number, Date, Time}},
	{"is blank", []Kind{Text, Number, Date, Time}},
	{"is", []Kind{Text, Number, Date, Time}},
	{"contains", []Kind{Text}},
	{"starts with", []Kind{Text}},
	{"ends with", []Kind{Text}},
	{"matches", []Kind{Text}},
	{"above", []Kind{Number}},
	{"below", []Kind{Number}},
	{"at least", []Kind{Number, Date, Time}},
	{"at most", []Kind{Number, Date, Time}},
	{"before", []Kind{Date, Time}},
	{"after", []Kind{Date, Time}},
	{"within last", []Kind{Date, Time}},
}

// Verbs lists the verbs that fit a kind of field.
func Verbs(k Kind) []string {
	var list []string
	for _, v := range verbs {
		if slices.Contains(v.fits, k) {
			list = append(list, v.verb)
		}
	}
	return list
}

// Parameter returns the text that $name stands for.
type Parameter func(name, form string) (string, error)

// Parse reads a condition on fields. Its error is a *SyntaxError.
func Parse(text string, fields []Field, parameter Parameter) (*Condition, error) {
	p := &parser{text: text, fields: fields, parameter: parameter}
	if err := p.scan(); err != nil {
		return nil, err
	}
	root, err := p.condition(0)
	if err != nil {
		return nil, err
	}
	if t := p.peek(); t.kind != end {
		if t.is("and") || t.is("or") {
			return nil, p.fail(t, `"and" and "or" are mixed; put parentheses around the clauses that belong together`)
		}
		return nil, p.fail(t, `%s is too much here; clauses are joined by "and" or "or"`, t)
	}
	return &Condition{text, root}, nil
}

type tokenKind uint8

const (
	end tokenKind = iota
	word
	quoted
	sign // ( ) ,
)

type token struct {
	kind   tokenKind
	text   string
	column int
}

func (t token) is(text string) bool {
	return t.kind == word && strings.EqualFold(t.text, text) || t.kind == sign && t.text == text
}

func (t token) String() string {
	if t.kind == end {
		return "the end"
	}
	return fmt.Sprintf("%q", t.text)
}

type parser struct {
	text      string
	fields    []Field
	parameter Parameter
	tokens    []token
	at        int
}

func (p *parser) fail(t token, format string, args ...any) error {
	return &SyntaxError{p.text, t.column, fmt.Sprintf(format, args...)}
}

func (p *parser) scan() error {
	runes := []rune(p.text)
	for i := 0; i < len(runes); {
		r, from := runes[i], i
		switch {
		case unicode.IsSpace(r):
			i++
		case r == '(' || r == ')' || r == ',':
			p.tokens = append(p.tokens, token{sign, string(r), i + 1})
			i++
		case r == '"' || r == '\'':
			var b strings.Builder
			closed := false
			for i++; i < len(runes) && !closed; i++ {
				switch {
				case runes[i] != r:
					b.WriteRune(runes[i])
				case i+1 < len(runes) && runes[i+1] == r: // doubled, it stands for itself
					b.WriteRune(r)
					i++
				default:
					closed = true
				}
			}
			if !closed {
				return &SyntaxError{p.text, from + 1, "this quote is not closed"}
			}
			p.tokens = append(p.tokens, token{quoted, b.String(), from + 1})
		default:
			for i < len(runes) && !unicode.IsSpace(runes[i]) && !strings.ContainsRune(`(),"'`, runes[i]) {
				i++
			}
			p.tokens = append(p.tokens, token{word, string(runes[from:i]), from + 1})
		}
	}
	p.tokens = append(p.tokens, token{end, "", len(runes) + 1})
	return nil
}

func (p *parser) peek() token { return p.tokens[p.at] }

func (p *parser) next() token {
	t := p.tokens[p.at]
	if t.kind != end {
		p.at++
	}
	return t
}

// deepest is how far parentheses may nest.
const deepest = 100

func (p *parser) condition(depth int) (node, error) {
	first, err := p.clause(depth)
	if err != nil {
		return nil, err
	}
	t := p.peek()
	if !t.is("and") && !t.is("or") {
		return first, nil
	}
	j := &joined{strings.ToLower(t.text), []node{first}}
	for p.peek().is(j.word) {
		p.next()
		part, err := p.clause(depth)
		if err != nil {
			return nil, err
		}
		j.parts = append(j.parts, part)
	}
	if t := p.peek(); t.is("and") || t.is("or") {
		return nil, p.fail(t, `"and" and "or" are mixed; put parentheses around the clauses that belong together`)
	}
	return j, nil
}

func (p *parser) clause(depth int) (node, error) {
	t := p.peek()
	if depth > deepest {
		return nil, p.fail(t, "parentheses nest deeper than %d", deepest)
	}
	switch {
	case t.is("not"):
		p.next()
		of, err := p.clause(depth + 1)
		return &not{of}, err
	case t.is("("):
		p.next()
		inner, err := p.condition(depth + 1)
		if err != nil {
			return nil, err
		}
		if closing := p.next(); !closing.is(")") {
			return nil, p.fail(closing, "a ) is missing before %s", closing)
		}
		return inner, nil
	}
	return p.test()
}

func (p *parser) test() (node, error) {
	field := p.next()
	if field.kind != word {
		return nil, p.fail(field, "a field is missing before %s; known are %s", field, strings.Join(p.names(), ", "))
	}
	index := slices.IndexFunc(p.fields, func(f Field) bool { return strings.EqualFold(f.Name, field.text) })
	if index < 0 {
		return nil, p.fail(field, "there is no field %q; %s", field.text, nearest.Hint(field.text, p.names()))
	}
	t := &test{field: index, name: p.fields[index].Name, kind: p.fields[index].Kind}
	at := p.peek()
	if err := p.verb(t); err != nil {
		return nil, err
	}
	if p.peek().is("exactly") {
		if t.kind != Text || t.verb == "is blank" || t.verb == "matches" {
			return nil, p.fail(p.peek(), `"exactly" says that letter case matters, which says nothing here`)
		}
		p.next()
		t.exactly = true
	}
	var err error
	switch t.verb {
	case "is blank":
	case "within last":
		err = p.span(t)
	case "is one of":
		err = p.list(t)
	default:
		err = p.value(t)
	}
	if err != nil {
		return nil, err
	}
	if t.verb == "matches" {
		if t.pattern, err = regexp.Compile(`(?is)^(?:` + t.values[0].text + `)$`); err != nil {
			return nil, p.fail(at, "%q is no regular expression (RE2): %s", t.values[0].text, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		}
	}
	return t, nil
}

func (p *parser) names() []string {
	names := make([]string, len(p.fields))
	for i, f := range p.fields {
		names[i] = f.Name
	}
	return names
}

func (p *parser) verb(t *test) error {
	first := p.peek()
	for _, v := range verbs {
		words := strings.Fields(v.verb)
		if p.at+len(words) > len(p.tokens) {
			continue
		}
		all := true
		for i, w := range words {
			all = all && p.tokens[p.at+i].is(w)
		}
		if !all {
			continue
		}
		if !slices.Contains(v.fits, t.kind) {
			return p.fail(first, "%s is a %s; ask it %s", t.name, t.kind, strings.Join(Verbs(t.kind), ", "))
		}
		p.at += len(words)
		t.verb = v.verb
		if t.verb == "is" && p.peek().is("not") {
			return p.fail(p.peek(), `"not" stands before the test: not %s is …`, t.name)
		}
		return nil
	}
	if first.kind == end {
		return p.fail(first, "a verb is missing after %s; write %s", t.name, strings.Join(Verbs(t.kind), ", "))
	}
	known := Verbs(t.kind)
	for _, v := range known {
		if start, _, two := strings.Cut(v, " "); two && nearest.Find(first.text, []string{start}) != "" {
			return p.fail(first, "there is no verb %s; did you mean %q?", first, v)
		}
	}
	return p.fail(first, "there is no verb %s; %s", first, nearest.Hint(first.text, known))
}

func (p *parser) list(t *test) error {
	if open := p.next(); !open.is("(") {
		return p.fail(open, `"is one of" wants a list in parentheses, as in ("csv", "txt")`)
	}
	for {
		if err := p.value(t); err != nil {
			return err
		}
		switch next := p.next(); {
		case next.is(")"):
			return nil
		case !next.is(","):
			return p.fail(next, "a , or ) is missing before %s", next)
		}
	}
}

func (p *parser) span(t *test) error {
	number := p.next()
	n, err := strconv.Atoi(number.text)
	if err != nil || number.kind != word {
		return p.fail(number, `a span is missing, as in "within last 8 weeks"`)
	}
	unit := p.next()
	if t.span, err = calendar.ParseSpan(n, unit.text); err != nil {
		return p.fail(unit, "%s", err)
	}
	if t.kind == Date && t.span.Unit == "hour" {
		return p.fail(unit, "%s is a date, which has no hours", t.name)
	}
	return nil
}

// value reads one value that fits the test's field.
func (p *parser) value(t *test) error {
	at := p.next()
	text, given := at.text, false
	if at.kind == word && strings.HasPrefix(at.text, "$") {
		if p.parameter == nil {
			return p.fail(at, "%s stands for a parameter, and this input has none; put text in quotes", at.text)
		}
		name, form, _ := strings.Cut(at.text[1:], ":")
		var err error
		if text, err = p.parameter(name, form); err != nil {
			return p.fail(at, "%s", err)
		}
		given = true
	}
	if at.kind == end || at.kind == sign {
		return p.fail(at, "a value is missing before %s", at)
	}
	v := literal{}
	var err error
	switch t.kind {
	case Text:
		if at.kind != quoted && !given {
			return p.fail(at, `text stands in quotes: %s`, Quote(text))
		}
		v.text, v.written = text, Quote(text)
		if !t.exactly && t.verb != "matches" {
			v.text = Fold(text)
		}
	case Number:
		err = p.number(&v, text, given)
	case Date, Time:
		v.date, err = calendar.Parse(strings.ToUpper(text))
		v.written = v.date.String()
	}
	if given {
		v.written = at.text
	}
	if err != nil {
		return p.fail(at, "%s", err)
	}
	t.values = append(t.values, v)
	return nil
}

var withUnit = regexp.MustCompile(`^([+-]?[0-9][0-9_]*(?:\.[0-9]+)?) ?([A-Za-z]*)$`)

// number reads a number, or a size with its unit after it.
func (p *parser) number(v *literal, text string, given bool) error {
	m := withUnit.FindStringSubmatch(text)
	if m == nil {
		return fmt.Errorf("%q is no number; write 10, 2.5 or a size such as 10 KB", text)
	}
	n, err := strconv.ParseFloat(strings.ReplaceAll(m[1], "_", ""), 64)
	if err != nil {
		return errors.New("this number is too large")
	}
	v.number = n
	v.written = formatNumber(n)
	unit := strings.ToLower(m[2])
	if unit == "" && !given && p.peek().kind == word {
		next := p.peek()
		if _, known := units[strings.ToLower(next.text)]; known {
			unit = strings.ToLower(p.next().text)
		}
	}
	if unit != "" {
		factor, known := units[unit]
		if !known {
			return fmt.Errorf("%q is no unit of size; write B, KB, MB, GB (1000) or KiB, MiB, GiB (1024)", m[2])
		}
		v.number *= factor
		v.written += " " + unitNames[unit]
	}
	return nil
}

// ParseSize reads a number of bytes, as in 10 KB.
func ParseSize(text string) (int64, error) {
	var v literal
	if err := new(parser).number(&v, text, true); err != nil {
		return 0, err
	}
	if v.number < 1 || v.number > 1<<60 {
		return 0, fmt.Errorf("%q is no size", text)
	}
	return int64(v.number), nil
}
