// Package definition is the plain-text definition of an input: where to look,
// what to pick, how to read it, what to deliver. It parses and validates; it
// opens nothing and decides nothing about files.
//
//	def, err := definition.Parse(text)
//	var invalid *definition.Invalid
//	if errors.As(err, &invalid) { … every problem, with line and column }
package definition

import (
	"cmp"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/formula"
	"jorvex/internal/core/pathpattern"
	"jorvex/internal/core/totals"
)

// Schema is the JSON Schema (draft 2020-12) of a definition.
//
//go:embed definition.schema.json
var Schema []byte

// Definition is a parsed and valid definition, with its parameters put in.
type Definition struct {
	Input    string // name of the input, unique in the service
	Title    string
	Place    string
	Folder   string // below the place, raw bytes; empty is the whole place
	Zone     *time.Location
	Language calendar.Language

	Parameters []Parameter
	Values     Values // the parameters' values that were put in

	Pick        []Pick
	Joins       []Join
	Files       []Listed // a hand-made list
	List        *List    // a hand-made list kept in a file
	Scratch     bool     // leave out scratch files; true unless switched off
	OnlyIf      []Rule
	LeaveOut    []Rule
	Window      *Window
	Latest      *Latest
	SameContent SameContent
	Expect      *Expect // which files should be there; nil for whichever come
	// ChangedWithin is how soon a new or changed file is to follow the last; 0
	// whenever it comes.
	ChangedWithin calendar.Span
	OrderBy       string // capture; empty is natural order of path
	// Captures are the captures of all patterns, and the joined ones, in the
	// order of the condition's fields.
	Captures []condition.Field

	Gate      Gate
	Columns   []Column
	Summaries []totals.Summary
	Delivery  []Delivery
	Refresh   Refresh
	Handover  Handover
	Layout    Layout
}

// Pick is one pattern of the definition.
type Pick struct {
	Pattern *pathpattern.Pattern
	Line    int
	Off     bool
}

// Join is a date made of several captures.
type Join struct {
	Name string
	From []string
	// YearOf is where a date without a year takes it from: "modified", or a
	// year; empty if the captures give it.
	YearOf string
	Line   int
}

// Rule is a condition that files are held against.
type Rule struct {
	Condition *condition.Condition
	Line      int
	Off       bool
}

// Window leaves out files whose date lies outside a span.
type Window struct {
	Span calendar.Window
	Of   string // a date capture, or Modified
	Line int
	Off  bool
}

// Modified stands for a file's modified time where a capture could stand.
const Modified = "modified"

// Latest keeps the newest files of each group.
type Latest struct {
	Of       string // a capture, or Modified
	Per      []string
	Keep     int
	Future   bool // dates after the as-of count
	Previous bool // fall back to the one before a newest that cannot be used
	Line     int
	Off      bool
}

// SameContent says what becomes of a file with the content of an earlier one.
type SameContent string

// The policies.
const (
	KeepSame     SameContent = "keep"
	LeaveOutSame SameContent = "leave_out"
)

// Listed is one file of a hand-made list.
type Listed struct {
	Path   string // below the folder, raw bytes
	Sheet  string // source sheet
	Target Target
	Line   int // in the definition, or row of the list's file
}

// Target is where a listed file's rows are to go.
type Target struct {
	Sheet string `json:"sheet,omitempty"`
	Table string `json:"table,omitempty"`
	Row   int    `json:"row,omitempty"`
}

// List is a file that a hand-made list is kept in, read at every look.
type List struct {
	File  string // below the folder, raw bytes
	Sheet string // of a workbook; the first if empty
	// Columns are the headers of the list's columns: file, sheet, to_sheet,
	// to_table, to_row.
	Columns map[string]string
	Line    int
}

// Type is the type of a column's values.
type Type string

// The types. A blank is null in all of them.
const (
	Text      Type = "text"
	Whole     Type = "whole"
	Decimal   Type = "decimal"
	Date      Type = "date"
	Money     Type = "money"   // a decimal, with a currency's sign or code around it in the file
	Percent   Type = "percent" // a share as a fraction: 5% is 0.05
	Time      Type = "time"    // of the day
	Timestamp Type = "timestamp"
	YesNo     Type = "yes_no"
)

// Source says where a column's values come from.
type Source uint8

// The sources.
const (
	FromCell Source = iota
	FromCapture
	FromFile
	FromColumn  // one that stands above
	FromFormula // of columns that stand above
	FromOthers  // what is not declared
)

// Column is one declared column of the combined table.
type Column struct {
	Name     string
	Type     Type
	Source   Source
	From     string   // capture, fact of the file, or column
	Headers  []string // for cells: the headers it accepts
	Exact    bool     // headers are compared letter by letter
	Position int      // for cells: the cell's number from 1, whatever its header
	Required bool
	Total    bool // its sum is a control total
	Watched  bool // its distinct values are counted
	Key      bool // with the other keys, it tells rows apart

	// What is made of the source's text, in this order.
	Matches    *regexp.Regexp // its first group, or all that matches
	Split      string         // a piece between separators
	Piece      int            // its number from 1, or from the end below 0
	Characters [2]int         // from and to, counted from 1; to may be 0 for the end
	Replace    [][2]string    // old and new, in order
	Lookup     map[string]string
	Part       Part // of a date
	Formula    *formula.Formula
	Round      int // decimals of a formula, or -1

	Default     string // in place of a blank
	Least, Most string // values of the type; empty for none
}

// Part is a part of a date.
type Part string

// Parts are the parts of a date, and whether they are numbers.
var Parts = map[Part]bool{
	"year": true, "quarter": true, "month": true, "day": true, "week": true, "week_year": true, "week_of_month": true,
	"month_name": false, "short_month": false, "day_name": false,
}

// Takes reports whether a parameter is part of the delivery's name.
func (d Delivery) Takes(parameter string) bool {
	takes := false
	_, _ = pathpattern.Expand(d.Template, func(name, _ string) (string, error) {
		takes = takes || name == parameter
		return "", nil
	})
	return takes
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
	fmt.Fprintf(h, "reader 4\nlanguage %s\n%s", d.Language, d.Layout.digest())
	for _, c := range d.Columns {
		fmt.Fprintf(h, "%q %s %d %q %q %t %d %t %t %t\n", c.Name, c.Type, c.Source, c.From, c.Headers, c.Exact, c.Position, c.Required, c.Total, c.Key)
		fmt.Fprintf(h, "%v %q %d %d %q %q %s %v %d %q %q %q\n", c.Matches, c.Split, c.Piece, c.Characters, c.Replace, c.Lookup, c.Part, c.Formula, c.Round, c.Default, c.Least, c.Most)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// For returns the definition by which a file is read that a hand-made list names:
// from the sheet that the list says.
func (d *Definition) For(entries []Listed) *Definition {
	if len(entries) == 0 || entries[0].Sheet == "" {
		return d
	}
	its := *d
	its.Layout.Sheet, its.Layout.Position, its.Layout.Range = entries[0].Sheet, 0, ""
	return &its
}

var (
	inputName  = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)
	columnName = regexp.MustCompile(`^[\p{L}_][\p{L}\p{N}_]{0,62}$`)
	tableName  = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)
)

// Parse reads a definition, as of a moment, with its parameters at their
// defaults. What is wrong with it comes back as *Invalid.
func Parse(text string, asOf time.Time) (*Definition, error) { return ParseWith(text, asOf, nil) }

// ParseWith reads a definition with some parameters set.
func ParseWith(text string, asOf time.Time, set Values) (*Definition, error) {
	doc, err := document(text)
	if err != nil {
		return nil, err
	}
	r := &reader{asOf: asOf, set: set}
	def := &Definition{Scratch: true, Gate: NewGate(), SameContent: KeepSame, Zone: time.UTC}
	if len(doc.Content) == 0 {
		r.problem(&yaml.Node{Line: 1, Column: 1}, "the definition is empty; it needs at least input, place and pick")
	} else {
		r.definition(doc.Content[0], def)
	}
	if len(r.problems) > 0 {
		slices.SortStableFunc(r.problems, func(a, b Problem) int { return cmp.Compare(a.Line, b.Line) })
		return nil, &Invalid{r.problems}
	}
	return def, nil
}

// Keys lists the keys that the definition of an input knows, by level.
func Keys() map[string][]string {
	keys := maps.Clone(known)
	delete(keys, "the report")
	return keys
}

// ValidName reports whether text can name an input or a place.
func ValidName(text string) bool { return inputName.MatchString(text) }

// Number reports whether values of the type are numbers, which have a total.
func (t Type) Number() bool { return t == Whole || t == Decimal || t == Money || t == Percent }

// Plan is what is counted of the combined rows.
func (d *Definition) Plan() totals.Plan {
	p := totals.Plan{Summaries: d.Summaries}
	for _, c := range d.Columns {
		p.Columns = append(p.Columns, c.Name)
		p.Numeric = append(p.Numeric, c.Type.Number())
		if c.Watched {
			p.Watched = append(p.Watched, c.Name)
		}
	}
	return p
}
