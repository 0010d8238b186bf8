// Package changes tells the state of each file of an input against its
// baseline, the last delivered refresh. It never calls a file removed on
// doubtful evidence.
package changes

// State is what became of a file since the baseline, in one word.
type State string

// The states. None is for a file that was never part of the input.
const (
	None    State = ""
	New     State = "new"
	Changed State = "changed"
	Removed State = "removed"
	Same    State = "same"
	Broken  State = "broken"
	Unknown State = "unknown"
)

// Evidence is what the last look knows of a file's being there.
type Evidence uint8

// The kinds of evidence. The zero value is doubt, which removes nothing.
const (
	Unseen  Evidence = iota // its place or folder could not be listed
	Present                 // listed
	Gone                    // its folder was listed, and it was not there
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
	Broken   bool // has a finding of grade broken
}

// Told is the state of one file. Change compares it with the baseline; Shown
// is the one word people see, in which unknown and broken come first.
type Told struct {
	Path   string
	Change State
	Shown  State
	// Touched is set for a file with another time and the same bytes.
	Touched bool
}

// NeedsDigest reports whether only the digest can tell a touched file from a
// changed one.
func NeedsDigest(before Entry, now Seen) bool {
	return now.Evidence == Present && now.Size == before.Size && now.Modified != before.Modified
}

// Tell returns the state of one file. before is nil if the baseline lacks it.
func Tell(before *Entry, now Seen) Told {
	t := Told{Path: now.Path}
	switch {
	case before == nil && !now.Picked:
		return t
	case before == nil && now.Evidence == Gone:
		return t
	case before == nil:
		t.Change = New
	case now.Evidence == Gone:
		t.Change = Removed
	case now.Evidence == Unseen, now.Size == before.Size && now.Modified == before.Modified:
		t.Change = Same
	case now.Size == before.Size && now.Digest == before.Digest:
		t.Change, t.Touched = Same, true
	default:
		t.Change = Changed
	}
	t.Shown = t.Change
	switch {
	case now.Evidence == Unseen:
		t.Shown = Unknown
	case now.Broken && t.Change != Removed:
		t.Shown = Broken
	}
	return t
}

// Compare tells the states of all files: those seen, in their order, then
// those of the baseline that were not seen at all, which are unknown.
func Compare(baseline []Entry, seen []Seen) []Told {
	before := make(map[string]*Entry, len(baseline))
	for i := range baseline {
		before[baseline[i].Path] = &baseline[i]
	}
	told := make([]Told, 0, len(seen))
	for _, now := range seen {
		told = append(told, Tell(before[now.Path], now))
		delete(before, now.Path)
	}
	for _, entry := range baseline {
		if e := before[entry.Path]; e != nil {
			told = append(told, Tell(e, Seen{Path: e.Path}))
		}
	}
	return told
}
