// Package changes tells the state of each file of an input against its
// baseline, the last delivered refresh. It never calls a file removed on
// doubtful evidence.
package changes

import (
	"slices"
	"strings"
)

// State is what became of a file since the baseline, in one word.
type State string

// The states. None is for a file that was never part of the input.
const (
	None     State = ""
	New      State = "new"
	Changed  State = "changed"
	Removed  State = "removed"
	Same     State = "same"
	Moved    State = "moved"
	Returned State = "returned"
	Broken   State = "broken"
	Arriving State = "arriving"
	InDoubt  State = "in_doubt"
	Unknown  State = "unknown"
)

// Evidence is what the last look knows of a file's being there.
type Evidence uint8

// The kinds of evidence. The zero value is doubt, which removes nothing.
const (
	Unseen  Evidence = iota // its place or folder could not be listed
	Present                 // listed
	Gone                    // its folder was listed twice, and it was not there
	Missing                 // its folder was listed once, and it was not there
)

// Entry is a file as the baseline holds it.
type Entry struct {
	Path     string
	Size     int64  // bytes
	Modified int64  // nanoseconds since 1970-01-01 UTC
	Digest   string // SHA-256, hexadecimal
}

// Seen is a file as it is now.
type Seen struct {
	Path     string
	Evidence Evidence
	Size     int64
	Modified int64
	Digest   string // empty if it was not computed
	Picked   bool
	Broken   bool   // has a finding of grade broken
	Arriving bool   // not settled yet
	InDoubt  bool   // gone, but with too many others to be believed
	Departed bool   // removed in an earlier delivery
	From     string // the path that it moved from, as Moves found out
}

// Told is the state of one file. Change compares it with the baseline; Shown
// is the one word people see, in which what is not certain comes first.
type Told struct {
	Path   string
	Change State
	Shown  State
	// Touched is set for a file with another time and the same bytes.
	Touched bool
	// From is the path that a moved file had.
	From string
}

// Tell returns the state of one file. before is nil if the baseline lacks it.
func Tell(before *Entry, now Seen) Told {
	t := Told{Path: now.Path}
	away := now.Evidence == Gone
	switch {
	case before == nil && (!now.Picked || away || now.Evidence == Missing):
		return t
	case before == nil && now.From != "":
		t.Change, t.From = Moved, now.From
	case before == nil && now.Departed:
		t.Change = Returned
	case before == nil:
		t.Change = New
	case away:
		t.Change = Removed
	case now.Evidence != Present, now.Size == before.Size && now.Modified == before.Modified:
		t.Change = Same
	case now.Size == before.Size && now.Digest == before.Digest:
		t.Change, t.Touched = Same, true
	default:
		t.Change = Changed
	}
	t.Shown = t.Change
	switch {
	case now.Evidence == Unseen || now.Evidence == Missing:
		t.Shown = Unknown
	case now.InDoubt:
		t.Shown = InDoubt
	case now.Arriving && !away:
		t.Shown = Arriving
	case now.Broken && !away:
		t.Shown = Broken
	}
	return t
}

// Moves pairs files that are new with files of the baseline that are certainly
// gone and had the same bytes, one to one in the order of paths; never empty
// ones. It returns the old path by the new.
func Moves(baseline map[string]Entry, gone []string, seen []Seen) map[string]string {
	byDigest := map[string][]string{}
	slices.Sort(gone)
	for _, path := range gone {
		if e := baseline[path]; e.Size > 0 && e.Digest != "" {
			byDigest[e.Digest] = append(byDigest[e.Digest], path)
		}
	}
	if len(byDigest) == 0 {
		return nil
	}
	var fresh []Seen
	for _, s := range seen {
		if _, known := baseline[s.Path]; !known && s.Picked && s.Digest != "" && byDigest[s.Digest] != nil {
			fresh = append(fresh, s)
		}
	}
	slices.SortFunc(fresh, func(a, b Seen) int { return strings.Compare(a.Path, b.Path) })
	moves := map[string]string{}
	for _, s := range fresh {
		if from := byDigest[s.Digest]; len(from) > 0 {
			moves[s.Path], byDigest[s.Digest] = from[0], from[1:]
		}
	}
	return moves
}

// Doubtful reports whether so many of the files that an input had are gone that
// it is not believed: all of two or more, or more than the larger of ten and a
// fifth.
func Doubtful(had, gone int) bool {
	return gone >= 2 && gone == had || gone > max(10, had/5)
}

// Compare tells the states of all files: those seen, in their order, then
// those of the baseline that were not seen at all, which are unknown.
func Compare(baseline []Entry, seen []Seen) []Told {
	before := make(map[string]Entry, len(baseline))
	for _, e := range baseline {
		before[e.Path] = e
	}
	var gone []string
	for _, s := range seen {
		if _, was := before[s.Path]; was && s.Evidence == Gone && !s.InDoubt {
			gone = append(gone, s.Path)
		}
	}
	moves := Moves(before, gone, seen)
	left := map[string]bool{}
	for _, from := range moves {
		left[from] = true
	}
	told := make([]Told, 0, len(seen))
	for _, now := range seen {
		if left[now.Path] {
			delete(before, now.Path)
			continue // told at its new path
		}
		now.From = moves[now.Path]
		var entry *Entry
		if e, was := before[now.Path]; was {
			entry = &e
		}
		told = append(told, Tell(entry, now))
		delete(before, now.Path)
	}
	for _, entry := range baseline {
		if _, unseen := before[entry.Path]; unseen {
			told = append(told, Tell(&entry, Seen{Path: entry.Path}))
		}
	}
	return told
}
