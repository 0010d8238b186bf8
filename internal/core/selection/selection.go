// Package selection gives each file of an input a verdict with its reason. It
// judges a whole set at a time, since some rules compare files with each other;
// it opens nothing and knows no clock.
//
//	judge := selection.New(def, selection.Surroundings{AsOf: now})
//	result := judge.Judge(files)
//	result.Decisions[0].Verdict // selection.Picked
//	judge.Words(result, 0)      // "matches <terminal>/loadings <day:yyyy-MM-dd>.csv"
package selection

import (
	"fmt"
	"path"
	"strings"
	"time"

	"jorvex/internal/core/condition"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/pathpattern"
)

// Verdict says whether a file feeds the input.
type Verdict string

// The verdicts.
const (
	Picked   Verdict = "picked"
	LeftOut  Verdict = "left_out"
	HeldBack Verdict = "held_back"
)

// Code is the stable name of a reason.
type Code string

// The reasons, in the order in which they are tried. A file that is not fully
// seen is held back only where it would otherwise be picked.
const (
	OutsideFolder  Code = "outside_folder"
	NotSeen        Code = "not_seen" // held back: the place or folder could not be listed
	Missing        Code = "missing"  // held back: not there at the last look; another decides
	Arriving       Code = "arriving" // held back: still being written
	InDoubt        Code = "in_doubt" // held back: gone, with too many others to be believed
	HeldIn         Code = "held_in"
	HeldOut        Code = "held_out"
	ScratchFile    Code = "scratch_file"
	OwnDelivery    Code = "own_delivery"
	NotAsked       Code = "not_asked" // a refresh of named files alone, and this is none
	Asked          Code = "asked"     // picked: one of those
	NotListed      Code = "not_listed"
	NoPattern      Code = "no_pattern"
	LeaveOutRule   Code = "leave_out_rule"
	OnlyIfFails    Code = "only_if_fails"
	OutsideWindow  Code = "outside_window"
	OwnContent     Code = "own_content"
	NotYet         Code = "not_yet" // dated after the as-of
	NotLatest      Code = "not_latest"
	PassedOver     Code = "passed_over" // the newest, and not usable; the one before it is used
	SameContent    Code = "same_content"
	Listed         Code = "listed"
	PatternMatches Code = "pattern_matches"
	Gone           Code = "gone" // left out: it was part of the last delivery
)

// File is a file as it is judged.
type File struct {
	Path     string // from the place's root, raw bytes
	Size     int64  // bytes
	Modified int64  // nanoseconds since 1970-01-01 UTC
	Digest   string // SHA-256 in hexadecimal; empty while it is not known
	Held     Code   // why it is not fully seen, NotSeen to InDoubt; empty for most
	Broken   bool   // has a finding of grade broken
	NoRows   bool   // empty, or a header and nothing else
}

// Decision is a verdict with its reason.
type Decision struct {
	Verdict  Verdict
	Code     Code
	Captures []pathpattern.Capture
	// Note is worth knowing beside the reason; may be empty.
	Note string

	pattern int    // index of the pattern that gave the captures, plus one
	rule    int    // index of the rule that decided, plus one; 0 for none
	other   int    // index of the file compared with, plus one
	fixed   bool   // a person decided; no comparison changes it
	detail  string // more words
	near    *pathpattern.Near
}

// Near returns the small difference that keeps the file from being picked, if
// there is one.
func (d *Decision) Near() *pathpattern.Near { return d.near }

// Hold is a person's override on one file.
type Hold struct {
	In     bool
	Note   string
	By     string
	Digest string // binds the hold to these bytes, unless it is empty
}

// Surroundings is what a judge must know beside the definition.
type Surroundings struct {
	AsOf time.Time
	// OwnPaths are the paths in the place that Jorvex itself writes.
	OwnPaths map[string]bool
	// OwnContent holds what Jorvex delivered: size, then digest, to the name.
	OwnContent map[int64]map[string]string
	Holds      map[string]Hold // by path
	// List is what the list's file holds, for a definition that has one.
	List []definition.Listed
	// Only, unless it is nil, are the paths of a refresh of named files.
	Only map[string]bool
	// NearMisses has them sought, which takes a while where many files match
	// no pattern.
	NearMisses bool
}

// Rule is one rule of the definition, with the number of files it met: matched,
// left out, or found outside.
type Rule struct {
	Kind  string // pattern, listed, leave_out, only_if, window, latest, same_content
	Text  string
	Line  int
	Off   bool
	Files int64
}

// Cure is a pattern that takes in files that nearly match.
type Cure struct {
	pathpattern.Near
	Beside string // the pattern it stands beside
	Line   int    // of that pattern
	Path   string // the first of those files, raw bytes
	Files  int64  // how many files that no pattern matches it would take in; 0 if none can
}

// Result is what judging a set of files came to.
type Result struct {
	Decisions []Decision // one for each file
	Picked    []int      // in roster order
	Rules     []Rule
	Cures     []Cure
	// NeedDigest lists files whose bytes must be known before the verdict is
	// final.
	NeedDigest []int
	Missing    []definition.Listed // listed files that are not there
	Lapsed     []string            // paths whose hold is bound to other bytes

	files []File
}

// Judge decides on sets of files. It serves one goroutine.
type Judge struct {
	def   *definition.Definition
	s     Surroundings
	rules []Rule

	firstLeaveOut, firstOnlyIf, windowRule, latestRule, sameRule int

	path    pathpattern.Path
	listed  map[string]int // folded path below the folder -> index in the list, plus one
	entries []definition.Listed
	now     condition.Now
}

// New returns a judge for def.
func New(def *definition.Definition, s Surroundings) *Judge {
	j := &Judge{def: def, s: s, now: condition.Now{At: s.AsOf.In(def.Zone)}}
	rule := func(kind, text string, line int, off bool) int {
		j.rules = append(j.rules, Rule{Kind: kind, Text: text, Line: line, Off: off})
		return len(j.rules) - 1
	}
	for _, p := range def.Pick {
		rule("pattern", p.Pattern.String(), p.Line, p.Off)
	}
	j.firstLeaveOut = len(j.rules)
	for _, r := range def.LeaveOut {
		rule("leave_out", r.Condition.Written(), r.Line, r.Off)
	}
	j.firstOnlyIf = len(j.rules)
	for _, r := range def.OnlyIf {
		rule("only_if", r.Condition.Written(), r.Line, r.Off)
	}
	if w := def.Window; w != nil {
		j.windowRule = rule("window", fmt.Sprintf("%s of %s", w.Span, w.Of), w.Line, w.Off)
	}
	if l := def.Latest; l != nil {
		text := "latest by " + l.Of
		if len(l.Per) > 0 {
			text += " per " + strings.Join(l.Per, ", ")
		}
		if l.Keep > 1 {
			text += fmt.Sprintf(", keep %d", l.Keep)
		}
		j.latestRule = rule("latest", text, l.Line, l.Off)
	}
	if def.SameContent == definition.LeaveOutSame {
		j.sameRule = rule("same_content", "leave out the same content", 0, false)
	}
	j.entries = def.Files
	if def.List != nil {
		j.entries = s.List
	}
	j.listed = make(map[string]int, len(j.entries))
	for i, e := range j.entries {
		if key := condition.Fold(e.Path); j.listed[key] == 0 {
			j.listed[key] = i + 1
		}
	}
	return j
}

// Entries returns the entries of a hand-made list that name a path, in order.
func (j *Judge) Entries(path string) []definition.Listed {
	below, ok := filename.Below(j.def.Folder, path)
	if !ok || j.inList(below) == 0 {
		return nil
	}
	var list []definition.Listed
	for _, e := range j.entries {
		if condition.Fold(e.Path) == condition.Fold(below) {
			list = append(list, e)
		}
	}
	return list
}

// inList returns the index of the first entry that names a path below the
// folder, plus one.
func (j *Judge) inList(below string) int {
	if len(j.listed) == 0 {
		return 0
	}
	return j.listed[condition.Fold(below)]
}

// chosenByHand reports whether files are picked by a list.
func (j *Judge) chosenByHand() bool { return j.def.List != nil || len(j.def.Files) > 0 }

// Step is one rule that was tried on a file, and what it said.
type Step struct {
	Rule    string `json:"rule"`
	Line    int    `json:"line,omitempty"`
	Says    string `json:"says"`
	Decides bool   `json:"decides"`
}

// notes gathers steps, or nothing where they are not asked for.
type notes struct{ steps *[]Step }

func (n notes) add(rule string, line int, decides bool, says string, args ...any) {
	if n.steps != nil {
		*n.steps = append(*n.steps, Step{rule, line, fmt.Sprintf(says, args...), decides})
	}
}

// walk tries on one file the rules that look at it alone.
func (j *Judge) walk(f *File, n notes) Decision {
	d := Decision{Verdict: LeftOut}
	below, ok := filename.Below(j.def.Folder, f.Path)
	folder := folderName(j.def.Folder)
	if !ok {
		n.add("folder", 0, true, "the file is not below %s", folder)
		d.Code = OutsideFolder
		return d
	}
	n.add("folder", 0, false, "the file is below %s", folder)
	if hold, held := j.s.Holds[f.Path]; held {
		if hold.Digest == "" || f.Digest == "" || hold.Digest == f.Digest {
			return j.held(f, hold, below, n)
		}
		n.add("hold", 0, false, "the hold by %s was bound to other bytes, and has lapsed", hold.By)
	} else {
		n.add("hold", 0, false, "no hold")
	}
	if j.def.Scratch {
		if s, is := scratch(below); is {
			n.add("scratch files", 0, true, "%s (%s)", s.What, s)
			d.Code, d.detail = ScratchFile, s.What+" ("+s.String()+")"
			return d
		}
		n.add("scratch files", 0, false, "no scratch file")
	}
	if j.s.OwnPaths[f.Path] || j.isList(below) {
		d.Code = OwnDelivery
		if j.isList(below) {
			d.Code, d.detail = NotListed, "it is the list itself"
			n.add("list", j.def.List.Line, true, "it is the list itself")
			return d
		}
		n.add("Jorvex's own", 0, true, "a delivery of Jorvex lies here")
		return d
	}
	n.add("Jorvex's own", 0, false, "no delivery of Jorvex lies here")
	if j.s.Only != nil {
		j.capture(f, below, &d, notes{})
		if !j.s.Only[f.Path] {
			d.Code = NotAsked
			n.add("named files", 0, true, "not among the files named for this once")
			return d
		}
		d.Verdict, d.Code, d.fixed = Picked, Asked, true
		n.add("named files", 0, true, "named for this once")
		return j.unseen(f, d, n)
	}
	if !j.choose(f, below, &d, n) {
		return d
	}
	if j.conditions(f, below, &d, n) && j.window(f, &d, n) {
		return j.unseen(f, d, n)
	}
	return d
}

// unseen holds a file back that would be picked and is not fully seen.
func (j *Judge) unseen(f *File, d Decision, n notes) Decision {
	if f.Held != "" {
		d.Verdict, d.Code = HeldBack, f.Held
		n.add("the last look", 0, true, "%s", heldWords[f.Held])
	}
	return d
}

// heldWords says why a file is held back that would be picked.
var heldWords = map[Code]string{
	NotSeen:  "its place or folder cannot be looked at; it would be picked",
	Missing:  "it was not there at the last look, and another look decides; it was picked",
	Arriving: "it is still arriving; it is picked once it has been left alone for a while",
	InDoubt:  "it is gone together with so many others that it is not believed; confirm it, or bring the files back",
}

// Words says why a file is held back for the code, which is one of not being
// fully seen.
func (c Code) Words() string { return heldWords[c] }

func (j *Judge) isList(below string) bool { return j.def.List != nil && j.def.List.File == below }

// held is the decision on a file that a person holds in or out.
func (j *Judge) held(f *File, hold Hold, below string, n notes) Decision {
	d := Decision{Verdict: LeftOut, Code: HeldOut, detail: "held out by " + hold.By, fixed: true}
	if hold.In {
		d.Verdict, d.Code, d.detail = Picked, HeldIn, "held in by "+hold.By
	}
	if hold.Note != "" {
		d.detail += ": " + hold.Note
	}
	n.add("hold", 0, true, "%s", d.detail)
	if !hold.In {
		return d
	}
	if len(j.def.Pick) > 0 && !j.capture(f, below, &d, notes{}) {
		d.Note = "no pattern gives it captures; they are blank"
	}
	return j.unseen(f, d, n)
}

// choose picks a file by list or pattern.
func (j *Judge) choose(f *File, below string, d *Decision, n notes) bool {
	if i := j.inList(below); i > 0 {
		e := j.entries[i-1]
		n.add("list", e.Line, true, "the list names it")
		d.Verdict, d.Code = Picked, Listed
		j.capture(f, below, d, notes{})
		d.rule = 0
		return true
	}
	if j.chosenByHand() && len(j.def.Pick) == 0 {
		n.add("list", 0, true, "the list does not name it")
		d.Code = NotListed
		return false
	}
	if j.chosenByHand() {
		n.add("list", 0, false, "the list does not name it")
	}
	if !j.capture(f, below, d, n) {
		d.Code = NoPattern
		return false
	}
	d.Verdict, d.Code = Picked, PatternMatches
	return true
}

// capture matches the patterns and joins captures. It reports false if none
// matches.
func (j *Judge) capture(f *File, below string, d *Decision, n notes) bool {
	if len(j.def.Pick) == 0 {
		return false
	}
	j.path.Set(below)
	first := ""
	for i, pick := range j.def.Pick {
		if pick.Off {
			n.add(pick.Pattern.String(), pick.Line, false, "is switched off")
			continue
		}
		captures, ok := pick.Pattern.Match(&j.path)
		conflict := j.path.Conflict()
		if ok {
			captures, conflict = j.join(f, append([]pathpattern.Capture(nil), captures...))
			ok = conflict == ""
		}
		if ok {
			d.Captures, d.pattern, d.rule = captures, i+1, i+1
			if n.steps != nil {
				n.add(pick.Pattern.String(), pick.Line, false, "matches%s", describe(captures))
			}
			return true
		}
		if conflict != "" {
			n.add(pick.Pattern.String(), pick.Line, false, "does not match: %s", conflict)
			if first == "" {
				first = conflict
			}
			continue
		}
		n.add(pick.Pattern.String(), pick.Line, false, "does not match")
	}
	if d.Code == "" {
		d.detail = first
	}
	return false
}

// conditions holds a file against the leave-out and only-if rules.
func (j *Judge) conditions(f *File, below string, d *Decision, n notes) bool {
	if len(j.def.LeaveOut)+len(j.def.OnlyIf) == 0 {
		return true
	}
	s := &subject{judge: j, file: f, below: below, captures: d.Captures}
	for i, r := range j.def.LeaveOut {
		if r.Off {
			n.add("leave out if "+r.Condition.Written(), r.Line, false, "is switched off")
			continue
		}
		if r.Condition.Holds(s, j.now) {
			n.add("leave out if "+r.Condition.Written(), r.Line, true, "applies")
			d.Verdict, d.Code, d.rule = LeftOut, LeaveOutRule, j.firstLeaveOut+i+1
			return false
		}
		n.add("leave out if "+r.Condition.Written(), r.Line, false, "does not apply")
	}
	for i, r := range j.def.OnlyIf {
		if r.Off {
			n.add("only if "+r.Condition.Written(), r.Line, false, "is switched off")
			continue
		}
		if !r.Condition.Holds(s, j.now) {
			n.add("only if "+r.Condition.Written(), r.Line, true, "fails")
			d.Verdict, d.Code, d.rule = LeftOut, OnlyIfFails, j.firstOnlyIf+i+1
			return false
		}
		n.add("only if "+r.Condition.Written(), r.Line, false, "holds")
	}
	return true
}

// Words returns the reason of a decision as a sentence without a full stop.
func (j *Judge) Words(r *Result, i int) string {
	d := &r.Decisions[i]
	rule := ""
	if d.rule > 0 {
		rule = j.rules[d.rule-1].Text
	}
	other := ""
	if d.other > 0 {
		other = filename.Show(r.files[d.other-1].Path)
	}
	words := ""
	switch d.Code {
	case OutsideFolder:
		words = "not below " + folderName(j.def.Folder)
	case NotSeen, Missing, Arriving, InDoubt:
		words = heldWords[d.Code]
	case OwnDelivery:
		words = "written by Jorvex as a delivery; counting it would count its rows twice"
	case NotAsked:
		words = "not among the files named for this once"
	case Asked:
		words = "named for this once"
	case NotListed:
		words = "the list does not name it"
		if d.detail != "" {
			words = d.detail
		}
	case NoPattern:
		words = "no pattern matches"
		if d.near != nil {
			words += ", nearly: " + string(d.near.Kind.Words()) + ", " + d.near.Says
		} else if d.detail != "" {
			words += ": " + d.detail
		}
	case LeaveOutRule:
		words = "left out if " + rule
	case OnlyIfFails:
		words = "picked only if " + rule
	case OutsideWindow:
		words = d.detail + ", outside " + rule
	case OwnContent:
		words = "the same content as the delivery " + d.detail + " of Jorvex; counting it would count its rows twice"
	case NotYet:
		words = d.detail
	case NotLatest:
		words = "not the latest: " + other + " is newer"
	case PassedOver:
		words = "the newest, but " + d.detail + "; " + other + " is used in its place"
	case SameContent:
		words = "the same content as " + other
	case Listed:
		words = "named in the list"
	case PatternMatches:
		words = "matches " + rule
	default:
		words = d.detail
	}
	if d.Note != "" {
		words += "; " + d.Note
	}
	return words
}

// RuleOf returns the rule that decided, or nil.
func (j *Judge) RuleOf(d *Decision) *Rule {
	if d.rule == 0 {
		return nil
	}
	return &j.rules[d.rule-1]
}

func folderName(folder string) string {
	if folder == "" {
		return "the place's root"
	}
	return filename.Show(folder)
}

func describe(captures []pathpattern.Capture) string {
	var b strings.Builder
	for i, c := range captures {
		b.WriteString(map[bool]string{true: "; ", false: ", "}[i == 0])
		fmt.Fprintf(&b, "%s is %s", c.Name, c.Value())
	}
	return b.String()
}

// subject is a file as conditions ask about it.
type subject struct {
	judge    *Judge
	file     *File
	below    string
	captures []pathpattern.Capture
}

// Value implements condition.Subject.
func (s *subject) Value(field int) condition.Value {
	text := func(t string) condition.Value { return condition.Value{Text: t, Blank: t == ""} }
	name := path.Base(s.below)
	dot := strings.LastIndexByte(name, '.')
	switch field {
	case condition.Name:
		return text(name)
	case condition.Stem:
		if dot > 0 {
			name = name[:dot]
		}
		return text(name)
	case condition.Extension:
		if dot <= 0 {
			return condition.Value{Blank: true}
		}
		return text(name[dot+1:])
	case condition.Folder:
		if i := strings.LastIndexByte(s.below, '/'); i >= 0 {
			return text(s.below[:i])
		}
		return condition.Value{Blank: true}
	case condition.Path:
		return text(s.below)
	case condition.Size:
		return condition.Value{Number: float64(s.file.Size)}
	case condition.Modified:
		return condition.Value{Time: time.Unix(0, s.file.Modified)}
	}
	return s.judge.valueOf(s.captures, s.judge.def.Captures[field-condition.Captures].Name)
}
