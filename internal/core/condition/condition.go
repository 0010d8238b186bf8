// Package condition is the small language that rules about files and rows are
// written in.
//
//	fields := condition.FileFields([]condition.Field{{Name: "terminal", Kind: condition.Text}})
//	c, err := condition.Parse(`extension is one of ("csv", "txt") and size above 10 KB`, fields, nil)
//	c.Holds(subject, condition.Now{At: asOf})
//
//	condition = clause { "and" clause } | clause { "or" clause }
//	clause    = ["not"] test | "(" condition ")"
//	test      = field verb ["exactly"] value
//
// The package does not know where values come from: the subject gives them.
package condition

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"jorvex/internal/core/calendar"
)

// Kind is what a field holds.
type Kind uint8

// The kinds of field.
const (
	Text Kind = iota
	Number
	Date // a day or a longer period
	Time // an instant; compared by its day in the zone of Now, except within last
)

// String returns the kind in words.
func (k Kind) String() string { return [...]string{"text", "number", "date", "time"}[k] }

// Field is something a condition can ask about.
type Field struct {
	Name string
	Kind Kind
}

// Value is what a subject has in a field. Blank is for a field it has nothing
// in; a test on it is false.
type Value struct {
	Blank  bool
	Text   string
	Number float64
	Date   calendar.Date
	Time   time.Time
}

// Subject is what a condition is held against.
type Subject interface {
	// Value returns what the subject has in the field of that index.
	Value(field int) Value
}

// Now is the moment a condition is judged for.
type Now struct {
	At time.Time // the as-of, in the zone that days are told in
}

// A SyntaxError says what is wrong with a condition and where.
type SyntaxError struct {
	Condition string
	Column    int // counted in characters, from 1
	Message   string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("condition %q, character %d: %s", e.Condition, e.Column, e.Message)
}

// Condition is a parsed condition. It is safe for use by many goroutines.
type Condition struct {
	text string
	root node
}

// String returns the canonical form, which parses to the same condition.
func (c *Condition) String() string { return c.root.String() }

// Written returns the condition as it was written.
func (c *Condition) Written() string { return c.text }

// Holds reports whether the condition is true of a subject.
func (c *Condition) Holds(s Subject, now Now) bool { return c.root.holds(s, now) }

type node interface {
	holds(Subject, Now) bool
	String() string
}

// joined is clauses joined by "and" or by "or".
type joined struct {
	word  string
	parts []node
}

func (j *joined) holds(s Subject, now Now) bool {
	for _, p := range j.parts {
		if p.holds(s, now) != (j.word == "and") {
			return j.word == "or"
		}
	}
	return j.word == "and"
}

func (j *joined) String() string {
	parts := make([]string, len(j.parts))
	for i, p := range j.parts {
		parts[i] = p.String()
		if _, nested := p.(*joined); nested {
			parts[i] = "(" + parts[i] + ")"
		}
	}
	return strings.Join(parts, " "+j.word+" ")
}

type not struct{ of node }

func (n *not) holds(s Subject, now Now) bool { return !n.of.holds(s, now) }

func (n *not) String() string {
	if _, nested := n.of.(*joined); nested {
		return "not (" + n.of.String() + ")"
	}
	return "not " + n.of.String()
}

// test asks one thing of one field.
type test struct {
	field   int
	name    string
	kind    Kind
	verb    string
	exactly bool
	values  []literal
	span    calendar.Span
	pattern *regexp.Regexp // of "matches"
}

// literal is a value as it stands in a condition.
type literal struct {
	written string
	text    string // folded unless exact
	number  float64
	date    calendar.Date
}

func (t *test) String() string {
	out := t.name + " " + t.verb
	if t.exactly {
		out += " exactly"
	}
	switch t.verb {
	case "is blank":
		return out
	case "within last":
		return out + " " + t.span.String()
	case "is one of":
		written := make([]string, len(t.values))
		for i, v := range t.values {
			written[i] = v.written
		}
		return out + " (" + strings.Join(written, ", ") + ")"
	}
	return out + " " + t.values[0].written
}

func (t *test) holds(s Subject, now Now) bool {
	v := s.Value(t.field)
	if t.verb == "is blank" {
		return v.Blank
	}
	if v.Blank {
		return false
	}
	switch t.kind {
	case Text:
		return t.text(v.Text)
	case Number:
		return t.number(v.Number)
	case Time:
		if t.verb == "within last" {
			return v.Time.After(t.span.Before(now.At)) && !v.Time.After(now.At)
		}
		return t.date(calendar.Date{Unit: calendar.OneDay, Start: calendar.DayOf(v.Time.In(now.At.Location()))})
	}
	if t.verb == "within last" {
		return v.Date.End() > calendar.DayOf(t.span.Before(now.At)) && v.Date.Start <= calendar.DayOf(now.At)
	}
	return t.date(v.Date)
}

func (t *test) text(v string) bool {
	if t.verb == "matches" {
		return t.pattern.MatchString(v)
	}
	if !t.exactly {
		v = Fold(v)
	}
	for _, want := range t.values {
		var is bool
		switch t.verb {
		case "is", "is one of":
			is = v == want.text
		case "contains":
			is = strings.Contains(v, want.text)
		case "starts with":
			is = strings.HasPrefix(v, want.text)
		case "ends with":
			is = strings.HasSuffix(v, want.text)
		}
		if is {
			return true
		}
	}
	return false
}

func (t *test) number(v float64) bool {
	want := t.values[0].number
	switch t.verb {
	case "above":
		return v > want
	case "below":
		return v < want
	case "at least":
		return v >= want
	case "at most":
		return v <= want
	}
	for _, want := range t.values {
		if v == want.number {
			return true
		}
	}
	return false
}

// date compares periods: one is another when it lies within it.
func (t *test) date(v calendar.Date) bool {
	want := t.values[0].date
	switch t.verb {
	case "before":
		return v.End() < want.Start
	case "after":
		return v.Start > want.End()
	case "at least":
		return v.Start >= want.Start
	case "at most":
		return v.End() <= want.End()
	}
	for _, want := range t.values {
		if v.Start >= want.date.Start && v.End() <= want.date.End() {
			return true
		}
	}
	return false
}

// size units, in bytes.
var units = map[string]float64{
	"b": 1, "kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12,
	"kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40,
}

// unitNames are the units as they are written.
var unitNames = map[string]string{
	"b": "B", "kb": "KB", "mb": "MB", "gb": "GB", "tb": "TB", "kib": "KiB", "mib": "MiB", "gib": "GiB", "tib": "TiB",
}

// Quote writes text as a value of a condition.
func Quote(text string) string { return `"` + strings.ReplaceAll(text, `"`, `""`) + `"` }

func formatNumber(n float64) string { return strconv.FormatFloat(n, 'f', -1, 64) }
