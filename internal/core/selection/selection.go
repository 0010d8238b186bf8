// Package selection gives each file of an input a verdict with its reason.
// It looks at paths alone; it opens nothing.
//
//	judge := selection.New(def, selection.Surroundings{})
//	decision := judge.Decide("loadings/Eskvik/2026/loadings 2026-10-05.csv")
//	decision.Verdict // selection.Picked
package selection

import (
	"fmt"
	"path"
	"strings"

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

// The reasons, in the order in which they are tried.
const (
	OutsideFolder  Code = "outside_folder"
	NotSeen        Code = "not_seen" // held back: the place or folder could not be listed
	ScratchFile    Code = "scratch_file"
	OwnDelivery    Code = "own_delivery"
	NoPattern      Code = "no_pattern"
	PatternMatches Code = "pattern_matches"
	Gone           Code = "gone" // left out: it was part of the last delivery
)

// Decision is a verdict with its reason.
type Decision struct {
	Verdict  Verdict
	Code     Code
	Sentence string
	Rule     string // the pattern or rule that decided, as written; may be empty
	Line     int    // its line in the definition; 0 if it stands in none
	Captures []pathpattern.Capture
}

// Surroundings is what a judge must know beside the definition.
type Surroundings struct {
	// OwnPaths are the paths in the place that Jorvex itself writes.
	OwnPaths []string
}

// Judge decides on one file after another. It serves one goroutine.
type Judge struct {
	def  *definition.Definition
	own  map[string]bool
	path pathpattern.Path
}

// New returns a judge for def.
func New(def *definition.Definition, s Surroundings) *Judge {
	own := make(map[string]bool, len(s.OwnPaths))
	for _, p := range s.OwnPaths {
		own[p] = true
	}
	return &Judge{def: def, own: own}
}

// Decide gives the verdict on the file at path, in raw bytes from the place's
// root. Captures are the caller's to keep.
func (j *Judge) Decide(path string) Decision {
	return j.walk(path, nil)
}

// Step is one rule that was tried on a file, and what it said.
type Step struct {
	Rule    string `json:"rule"`
	Line    int    `json:"line,omitempty"`
	Says    string `json:"says"`
	Decides bool   `json:"decides"`
}

// Explain gives the verdict and the whole way to it.
func (j *Judge) Explain(path string) (Decision, []Step) {
	steps := []Step{}
	return j.walk(path, &steps), steps
}

// walk tries the rules in order, and notes each in steps unless it is nil.
func (j *Judge) walk(path string, steps *[]Step) Decision {
	note := func(rule string, line int, decides bool, says string, args ...any) {
		if steps != nil {
			*steps = append(*steps, Step{rule, line, fmt.Sprintf(says, args...), decides})
		}
	}
	below, ok := filename.Below(j.def.Folder, path)
	folder := folderName(j.def.Folder)
	if !ok {
		note("folder", 0, true, "the file is not below %s", folder)
		return Decision{Verdict: LeftOut, Code: OutsideFolder, Sentence: "not below " + folder, Rule: folder}
	}
	note("folder", 0, false, "the file is below %s", folder)
	if j.def.Scratch {
		if s, is := scratch(below); is {
			note("scratch files", 0, true, "%s (%s)", s.What, s)
			return Decision{Verdict: LeftOut, Code: ScratchFile, Sentence: s.What + " (" + s.String() + ")", Rule: s.String()}
		}
		note("scratch files", 0, false, "no scratch file")
	}
	if j.own[path] {
		note("Jorvex's own", 0, true, "a delivery of Jorvex lies here")
		return Decision{Verdict: LeftOut, Code: OwnDelivery, Sentence: "written by Jorvex as a delivery; counting it would count its rows twice"}
	}
	note("Jorvex's own", 0, false, "no delivery of Jorvex lies here")
	j.path.Set(below)
	conflict := ""
	for _, pick := range j.def.Pick {
		captures, ok := pick.Pattern.Match(&j.path)
		if ok {
			said := describe(captures)
			note(pick.Pattern.String(), pick.Line, true, "matches%s", said)
			return Decision{
				Verdict: Picked, Code: PatternMatches, Rule: pick.Pattern.String(), Line: pick.Line,
				Sentence: "matches " + pick.Pattern.String(),
				Captures: append([]pathpattern.Capture(nil), captures...),
			}
		}
		if c := j.path.Conflict(); c != "" {
			note(pick.Pattern.String(), pick.Line, false, "does not match: %s", c)
			if conflict == "" {
				conflict = c
			}
			continue
		}
		note(pick.Pattern.String(), pick.Line, false, "does not match")
	}
	sentence := "no pattern matches"
	if conflict != "" {
		sentence += ": " + conflict
	}
	return Decision{Verdict: LeftOut, Code: NoPattern, Sentence: sentence}
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

// Scratch is one kind of file that programs and systems leave behind, told by
// its whole name or by what the name starts and ends with, in small letters.
type Scratch struct {
	Name, Starts, Ends string
	What               string
}

// String shows the kind as a pattern.
func (s Scratch) String() string {
	if s.Name != "" {
		return s.Name
	}
	return s.Starts + "*" + s.Ends
}

// ScratchFiles is the list that inputs leave out unless told otherwise.
var ScratchFiles = []Scratch{
	{Starts: "~$", What: "lock file of an office program"},
	{Starts: ".~lock.", Ends: "#", What: "lock file of an office program"},
	{Starts: ".jorvex", What: "working file of Jorvex"},
	{Starts: ".", What: "hidden file"},
	{Ends: ".tmp", What: "temporary file"},
	{Ends: "~", What: "backup copy of an editor"},
	{Ends: ".part", What: "download that is not complete"},
	{Ends: ".partial", What: "download that is not complete"},
	{Ends: ".crdownload", What: "download that is not complete"},
	{Name: "thumbs.db", What: "thumbnails made by the system"},
	{Name: "desktop.ini", What: "folder settings made by the system"},
}

// scratch reports whether a file is one, by its name or a hidden folder above.
func scratch(below string) (Scratch, bool) {
	name := path.Base(below)
	for _, s := range ScratchFiles {
		if s.matches(name) {
			return s, true
		}
	}
	if below[0] == '.' || strings.Contains(below, "/.") {
		return Scratch{Name: ".*/", What: "inside a hidden folder"}, true
	}
	return Scratch{}, false
}

func (s Scratch) matches(name string) bool {
	if s.Name != "" {
		return strings.EqualFold(name, s.Name)
	}
	return len(name) >= len(s.Starts)+len(s.Ends) &&
		strings.EqualFold(name[:len(s.Starts)], s.Starts) &&
		strings.EqualFold(name[len(name)-len(s.Ends):], s.Ends)
}
