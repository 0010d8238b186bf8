// Package pathpattern parses path patterns and matches file paths against
// them, returning the named parts (captures).
//
//	p, err := pathpattern.Parse("<terminal>/loadings <day:yyyy-MM-dd>.csv", pathpattern.Options{})
//	var path pathpattern.Path
//	path.Set("Eskvik/loadings 2026-10-05.csv")
//	captures, ok := p.Match(&path) // terminal=Eskvik, day=2026-10-05
//
// Matching takes time linear in the length of pattern times path, whatever the
// pattern: a text position that failed once is not tried again. The package
// knows nothing of files, folders or verdicts.
package pathpattern

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/filename"
)

// Options say how texts are compared.
type Options struct {
	// MatchCase makes letter case matter.
	MatchCase bool
	// Language gives the names of months; English if it is zero.
	Language calendar.Language
	// Parameter returns what $name, or $name:form, stands for. Without it a
	// pattern can have no parameter.
	Parameter func(name, form string) (string, error)
}

// Kind is what a capture holds.
type Kind uint8

// The kinds of capture.
const (
	Text Kind = iota
	Number
	DateKind
)

// String returns the kind in words.
func (k Kind) String() string { return [...]string{"text", "number", "date"}[k] }

// Named is a capture that a pattern declares.
type Named struct {
	Name string
	Kind Kind
	// Has tells which parts a date capture gives, each as 1.
	Has calendar.Fields
}

// Capture is one named part of a matched path. Text is as it stands in the
// path (in Unicode NFC, a run of white space as one space). Fields are set for
// dates alone, and Date for those that are complete: <m:MMMM> names no date
// before it is joined with a year.
type Capture struct {
	Name   string
	Kind   Kind
	Text   string
	Fields calendar.Fields
	Date   calendar.Date
}

// Value returns the capture in its canonical form: ISO 8601 for dates.
func (c Capture) Value() string {
	if c.Date.Unit != calendar.NoUnit {
		return c.Date.String()
	}
	return c.Text
}

// A SyntaxError says what is wrong with a pattern and where.
type SyntaxError struct {
	Pattern string
	Column  int // counted in characters, from 1
	Message string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("pattern %q, character %d: %s", e.Pattern, e.Column, e.Message)
}

// Pattern is a parsed pattern. It is safe for use by many goroutines, each
// with a Path of its own.
type Pattern struct {
	text     string
	options  Options
	program  []step
	choices  int // how many steps need a row in the memo of failures
	names    []Named
	spots    []int // spot -> index in names; a repeated capture has several
	elements []element
	prefix   []rune // what every path starts and ends with
	suffix   []rune
	anyDate  bool // dates need not be on the calendar
	loose    bool // separators within dates may differ
}

// element is one part of the text of a pattern.
type element struct {
	op       opcode // opRune for a run of literals, opSlash for a /
	from, to int    // characters of the text
	pc, end  int    // steps of the program
}

type opcode uint8

const (
	opRune     opcode = iota // one character
	opAny                    // ?
	opClass                  // [a-f]
	opStar                   // *
	opSegments               // **/
	opRest                   // ** at the end
	opText                   // <name>
	opNumber                 // <name:number>
	opDate                   // <name:yyyy-MM-dd>
	opSplit                  // { , }: try each target in turn
	opJump                   // end of one alternative
	opEnd
	opSlash  // stands in elements alone
	opFuzzy  // near misses: a literal but for a few edits
	opSpaces // near misses: spaces, _ and -, or none
	opTail   // near misses: any extension, or none
	opNone   // near misses: in the place of a step that was replaced
)

type step struct {
	op      opcode
	r       rune
	ranges  []rune // pairs, for opClass
	not     bool
	targets []int // opSplit, opJump; where the steps of near misses go on
	spot    int
	choice  int
	form    []part
	literal []rune // opFuzzy
	edits   int
}

// part is one part of a date form, made ready for matching.
type part struct {
	calendar.Part
	least, most int
	literal     []rune          // folded
	names       []calendar.Name // of months
}

// String returns the pattern as it was written.
func (p *Pattern) String() string { return p.text }

// Captures lists the captures the pattern declares, in order of appearance.
func (p *Pattern) Captures() []Named { return p.names }

// Parse reads a pattern. Its error is a *SyntaxError.
func Parse(text string, options Options) (*Pattern, error) {
	p := &Pattern{text: text, options: options}
	q := parser{pattern: p, runes: normal(text)}
	if err := q.parse(); err != nil {
		return nil, err
	}
	p.prepare()
	return p, nil
}

// prepare numbers the choices and finds what every path starts and ends with.
func (p *Pattern) prepare() {
	p.choices = 0
	for i := range p.program {
		switch p.program[i].op {
		case opStar, opSegments, opText, opNumber, opDate, opSplit, opFuzzy, opSpaces, opTail:
			p.program[i].choice = p.choices
			p.choices++
		}
	}
	p.prefix, p.suffix = nil, nil
	for i := 0; p.program[i].op == opRune; i++ {
		p.prefix = append(p.prefix, p.program[i].r)
	}
	for i := len(p.program) - 2; i >= 0 && p.program[i].op == opRune; i-- {
		p.suffix = append(p.suffix, p.program[i].r)
	}
	slices.Reverse(p.suffix)
}

type parser struct {
	pattern *Pattern
	runes   []rune
	at      int
	depth   int
}

func (q *parser) fail(at int, format string, args ...any) error {
	return &SyntaxError{q.pattern.text, at + 1, fmt.Sprintf(format, args...)}
}

func (q *parser) emit(s step) int {
	q.pattern.program = append(q.pattern.program, s)
	return len(q.pattern.program) - 1
}

func (q *parser) literal(r rune) {
	if !q.pattern.options.MatchCase {
		r = filename.Fold(r)
	}
	q.emit(step{op: opRune, r: r})
}

func (q *parser) parse() error {
	if len(q.runes) == 0 {
		return q.fail(0, "an empty pattern matches no file; write at least *")
	}
	if q.runes[0] == '/' {
		return q.fail(0, "a pattern starts below the input's folder; take the first / away")
	}
	for q.at < len(q.runes) {
		from, pc := q.at, len(q.pattern.program)
		if err := q.one(); err != nil {
			return err
		}
		q.note(from, pc)
	}
	q.emit(step{op: opEnd})
	return nil
}

// note records the element that was read from a character on; literals that
// follow each other are one.
func (q *parser) note(from, pc int) {
	p := q.pattern
	e := element{p.program[pc].op, from, q.at, pc, len(p.program)}
	if q.runes[from] == '/' {
		e.op = opSlash
	}
	if n := len(p.elements); n > 0 && e.op == opRune && p.elements[n-1].op == opRune {
		p.elements[n-1].to, p.elements[n-1].end = e.to, e.end
		return
	}
	p.elements = append(p.elements, e)
}

// one parses the next element of the pattern.
func (q *parser) one() error {
	at, r := q.at, q.runes[q.at]
	q.at++
	switch r {
	case '\\':
		if q.at == len(q.runes) {
			return q.fail(at, `nothing follows the \`)
		}
		q.literal(q.runes[q.at])
		q.at++
	case '?':
		q.emit(step{op: opAny})
	case '*':
		return q.star(at)
	case '[':
		return q.class(at)
	case '{':
		return q.alternatives(at)
	case '<':
		return q.capture(at)
	case '$':
		return q.parameter(at)
	case '/':
		if q.at == len(q.runes) || q.runes[q.at] == '/' {
			return q.fail(at, "a name is missing after /")
		}
		q.literal(r)
	case ']', '}', '>':
		return q.fail(at, `%c closes nothing; write \%c for the sign itself`, r, r)
	default:
		q.literal(r)
	}
	return nil
}

func (q *parser) star(at int) error {
	if q.at == len(q.runes) || q.runes[q.at] != '*' {
		q.emit(step{op: opStar})
		return nil
	}
	q.at++
	whole := (at == 0 || q.runes[at-1] == '/') && (q.at == len(q.runes) || q.runes[q.at] == '/') && q.depth == 0
	if !whole {
		return q.fail(at, "** stands for whole folders; it needs a / on either side")
	}
	if q.at == len(q.runes) {
		q.emit(step{op: opRest})
		return nil
	}
	q.at++ // the slash belongs to it
	if q.at == len(q.runes) {
		return q.fail(q.at-1, "a name is missing after /")
	}
	q.emit(step{op: opSegments})
	return nil
}

func (q *parser) class(at int) error {
	s := step{op: opClass}
	if q.at < len(q.runes) && (q.runes[q.at] == '!' || q.runes[q.at] == '^') {
		s.not = true
		q.at++
	}
	for first := true; ; first = false {
		if q.at == len(q.runes) {
			return q.fail(at, "[ has no closing ]")
		}
		low := q.runes[q.at]
		q.at++
		if low == ']' && !first {
			break
		}
		if low == '\\' && q.at < len(q.runes) {
			low = q.runes[q.at]
			q.at++
		}
		high := low
		if q.at+1 < len(q.runes) && q.runes[q.at] == '-' && q.runes[q.at+1] != ']' {
			high = q.runes[q.at+1]
			q.at += 2
		}
		if high < low {
			return q.fail(at, "[%c-%c] runs backwards", low, high)
		}
		s.ranges = append(s.ranges, low, high)
	}
	q.emit(s)
	return nil
}

func (q *parser) alternatives(at int) error {
	split := q.emit(step{op: opSplit})
	var jumps, targets []int
	q.depth++
	for {
		targets = append(targets, len(q.pattern.program))
		for {
			if q.at == len(q.runes) {
				return q.fail(at, "{ has no closing }")
			}
			if r := q.runes[q.at]; r == ',' || r == '}' {
				break
			}
			if r := q.runes[q.at]; r == '<' || r == '/' {
				return q.fail(q.at, "%c cannot stand between { and }; give several patterns instead", r)
			}
			if err := q.one(); err != nil {
				return err
			}
		}
		jumps = append(jumps, q.emit(step{op: opJump}))
		q.at++
		if q.runes[q.at-1] == '}' {
			break
		}
	}
	q.depth--
	q.pattern.program[split].targets = targets
	for _, j := range jumps {
		q.pattern.program[j].targets = []int{len(q.pattern.program)}
	}
	return nil
}

// parameter puts the value of $name, $name:form or ${name:form} in.
func (q *parser) parameter(at int) error {
	name, form, length := cutParameter(string(q.runes[q.at:]))
	if length == 0 {
		q.literal('$')
		return nil
	}
	q.at += length
	if q.pattern.options.Parameter == nil {
		return q.fail(at, `$%s stands for a parameter, and this input has none; write \$ for the sign itself`, name)
	}
	value, err := q.pattern.options.Parameter(name, form)
	if err != nil {
		return q.fail(at, "%s", err)
	}
	if value == "" {
		return q.fail(at, "the parameter %s is blank here", name)
	}
	for _, r := range normal(value) {
		q.literal(r)
	}
	return nil
}

var parameterText = regexp.MustCompile(`^(?:\{([a-z][a-z0-9_]*)(?::([^}]+))?\}|([a-z][a-z0-9_]*)(?::([yYMdQDw]+(?:-[yYMdQDw]+)*))?)`)

// cutParameter reads the name and form after a $, and how many characters they
// take; none if no parameter stands there.
func cutParameter(text string) (name, form string, length int) {
	m := parameterText.FindStringSubmatch(text)
	if m == nil {
		return "", "", 0
	}
	return m[1] + m[3], m[2] + m[4], utf8.RuneCountInString(m[0])
}

// Expand replaces the parameters in a text that is no pattern, such as the name
// of a folder or a delivery. A $ that no name follows stands for itself.
func Expand(text string, value func(name, form string) (string, error)) (string, error) {
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(text, "$")
		b.WriteString(before)
		if !found {
			return b.String(), nil
		}
		name, form, length := cutParameter(rest)
		if length == 0 {
			b.WriteByte('$')
			text = rest
			continue
		}
		v, err := value(name, form)
		if err != nil {
			return "", err
		}
		b.WriteString(v)
		text = rest[length:] // names and forms are ASCII but for quoted literals
		if runes := []rune(rest); len(runes) != len(rest) {
			text = string(runes[length:])
		}
	}
}

func (q *parser) capture(at int) error {
	end := at
	for end < len(q.runes) && q.runes[end] != '>' {
		end++
	}
	if end == len(q.runes) {
		return q.fail(at, `< has no closing >; write \< for the sign itself`)
	}
	name, form, _ := strings.Cut(string(q.runes[at+1:end]), ":")
	q.at = end + 1
	if !validName(name) {
		return q.fail(at, "%q cannot name a capture; use small letters, digits and _, a letter first", name)
	}
	s := step{}
	kind := Text
	var has calendar.Fields
	switch form {
	case "":
		s.op = opText
		if n := len(q.pattern.program); n > 0 && q.pattern.program[n-1].op == opText {
			return q.fail(at, "two captures of any text stand side by side; put a text between them")
		}
	case "number":
		s.op, kind = opNumber, Number
	default:
		parsed, err := calendar.ParseForm(form)
		if err != nil {
			return q.fail(at+2+utf8.RuneCountInString(name), "%s", err)
		}
		s.op, s.form, kind, has = opDate, q.parts(parsed), DateKind, parsed.Has()
	}
	index := -1
	for i, known := range q.pattern.names {
		if known.Name == name {
			if known.Kind != kind {
				return q.fail(at, "the capture %s is a %s above and a %s here", name, known.Kind, kind)
			}
			index = i
		}
	}
	if index < 0 {
		index = len(q.pattern.names)
		q.pattern.names = append(q.pattern.names, Named{name, kind, has})
	}
	s.spot = len(q.pattern.spots)
	q.pattern.spots = append(q.pattern.spots, index)
	q.emit(s)
	return nil
}

func (q *parser) parts(form calendar.Form) []part {
	var list []part
	for _, from := range form.Parts() {
		p := part{Part: from}
		p.least, p.most = from.Digits()
		for _, r := range normal(from.Literal) {
			p.literal = append(p.literal, filename.Fold(r))
		}
		if from.Letter != 0 && p.most == 0 {
			p.names = q.pattern.options.Language.Names(from)
		}
		list = append(list, p)
	}
	return list
}

func validName(name string) bool {
	for i, r := range name {
		if !('a' <= r && r <= 'z' || i > 0 && (r == '_' || '0' <= r && r <= '9')) {
			return false
		}
	}
	return name != ""
}

// normal returns text as runes in NFC, each run of white space as one space.
// A byte that is not UTF-8 becomes a rune beyond Unicode that stands for it.
func normal(text string) []rune { return appendNormal(nil, text) }

const rawByte = 0x110000

func appendNormal(runes []rune, text string) []rune {
	if !norm.NFC.IsNormalString(text) {
		text = norm.NFC.String(text)
	}
	for i, r := range text {
		switch {
		case r == unicode.ReplacementChar && text[i] != 0xEF:
			r = rawByte + rune(text[i])
		case unicode.IsSpace(r):
			if n := len(runes); n > 0 && runes[n-1] == ' ' {
				continue
			}
			r = ' '
		}
		runes = append(runes, r)
	}
	return runes
}
