package receipt

import (
	"slices"

	"jorvex/internal/core/totals"
)

// Change is what became of a file between two receipts.
type Change string

// The changes. A moved file has the same bytes at another path.
const (
	In      Change = "in"
	Out     Change = "out"
	Changed Change = "changed"
	Moved   Change = "moved"
)

// FileMove is one file that the later of two receipts has otherwise.
type FileMove struct {
	Change        Change
	Path          string // of the later receipt, or of the earlier if it went out
	From          string // where it was, of one that moved
	Before, After *File  // nil where it was not
	Rows          int64  // more, or fewer, than before
	Totals        []TotalMove
}

// TotalMove is how a total moved.
type TotalMove struct {
	Column        string
	Before, After string // empty where there was none
	Moved         string // with its sign; empty if it did not, or cannot be told
}

// Comparison is what two receipts differ in.
type Comparison struct {
	Totals []TotalMove
	Files  []FileMove // in the order of the earlier receipt, then those that came in
	Same   int        // files with the same bytes at the same path
}

// Compare tells what moved from one receipt to a later one: how its totals did,
// and which files they moved by.
func Compare(before, after Header, had, has []File) Comparison {
	c := Comparison{Totals: movedTotals(before.Totals, after.Totals)}
	had, has = used(had), used(has)
	now := make(map[string]*File, len(has))
	came := map[string][]*File{} // by digest, files at paths that the earlier receipt has not
	then := make(map[string]bool, len(had))
	for i := range had {
		then[key(&had[i])] = true
	}
	for i := range has {
		f := &has[i]
		if now[key(f)] = f; !then[key(f)] && f.Size > 0 {
			came[f.Digest] = append(came[f.Digest], f)
		}
	}
	paired := map[*File]bool{}
	for i := range had {
		old := &had[i]
		f, there := now[key(old)]
		switch {
		case there && f.Digest == old.Digest && f.Kept == old.Kept && samePart(f, old) && slices.Equal(f.Totals, old.Totals):
			c.Same++
		case there:
			c.Files = append(c.Files, move(Changed, old, f))
		case len(came[old.Digest]) > 0:
			f := came[old.Digest][0]
			came[old.Digest] = came[old.Digest][1:]
			paired[f] = true
			c.Files = append(c.Files, move(Moved, old, f))
		default:
			c.Files = append(c.Files, move(Out, old, nil))
		}
	}
	for i := range has {
		if f := &has[i]; !then[key(f)] && !paired[f] {
			c.Files = append(c.Files, move(In, nil, f))
		}
	}
	return c
}

// samePart reports whether two files came to the same rows, as far as it is
// known: the digest of a part is taken only where a table is delivered.
func samePart(a, b *File) bool { return a.Part == "" || b.Part == "" || a.Part == b.Part }

func key(f *File) string { return f.Place + "\x00" + f.Path }

func used(list []File) []File {
	return slices.DeleteFunc(slices.Clone(list), func(f File) bool { return f.Use == NotUsed })
}

func move(change Change, before, after *File) FileMove {
	m := FileMove{Change: change, Before: before, After: after}
	var old, now []Total
	if before != nil {
		m.Path, m.Rows, old = before.Path, -before.Kept, before.Totals
	}
	if after != nil {
		m.Path, m.Rows, now = after.Path, m.Rows+after.Kept, after.Totals
	}
	if change == Moved {
		m.From = before.Path
	}
	m.Totals = movedTotals(old, now)
	return m
}

// movedTotals lists the totals of both, those of the later first.
func movedTotals(before, after []Total) (list []TotalMove) {
	old := make(map[string]string, len(before))
	for _, t := range before {
		old[t.Column] = t.Sum
	}
	for _, t := range after {
		list = append(list, totalMove(t.Column, old[t.Column], t.Sum))
		delete(old, t.Column)
	}
	for _, t := range before {
		if sum, gone := old[t.Column]; gone {
			list = append(list, totalMove(t.Column, sum, ""))
		}
	}
	return list
}

func totalMove(column, before, after string) TotalMove {
	m := TotalMove{Column: column, Before: before, After: after}
	from, to := before, after
	if from == "" {
		from = "0"
	}
	if to == "" {
		to = "0"
	}
	if moved, ok := totals.Difference(from, to); ok && !isZero(moved) {
		m.Moved = moved
	}
	return m
}

func isZero(number string) bool {
	for _, c := range number {
		if c >= '1' && c <= '9' {
			return false
		}
	}
	return true
}
