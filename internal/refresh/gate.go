package refresh

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/selection"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// met is a cause that the gate came to.
type met struct {
	cause   definition.Cause
	path    string // as it is shown; empty where it is of the whole input
	finding finding.Finding
	says    string // of the whole input
	next    string
	stop    bool // whatever the gate answers
}

// phrases say of one file, and of several, what a cause is.
var phrases = map[definition.Cause][2]string{
	definition.BrokenFile:    {"cannot be used", "cannot be used"},
	definition.MissingColumn: {"cannot be used", "cannot be used"},
	definition.NotConverted:  {"has values that do not convert", "have values that do not convert"},
	definition.Unusual:       {"holds an unusual amount", "hold unusual amounts"},
}

// heldCauses are the causes for which a file is not fully seen.
var heldCauses = map[selection.Code]definition.Cause{
	selection.NotSeen: definition.Unknown, selection.InDoubt: definition.InDoubt, selection.Missing: definition.InDoubt, selection.Arriving: definition.Arriving,
}

// heldWords say of files that are not fully seen why, and what to do.
var heldWords = []struct {
	code          selection.Code
	problem, next string
}{
	{selection.NotSeen, "cannot be looked at", "give the service the right to list their folders and refresh again"},
	{selection.InDoubt, "gone, which is not believed", "bring the files back, or confirm that they are gone: jorvex confirm INPUT"},
	{selection.Missing, "not there at the last look", "refresh again in a moment"},
	{selection.Arriving, "still arriving", "refresh again once they have been left alone for a while"},
}

// answer is what the gate answers to a cause.
func (r *piece) answer(cause definition.Cause) definition.Answer {
	return r.view.Definition.Gate.Answer(cause, r.row.Request.Accept)
}

// surroundings gathers what is known of the set of files before one is read. Files
// that are not fully seen are entered as the gate answers.
func (r *piece) surroundings(ctx context.Context) error {
	view := &r.view
	seen := len(view.Picked) + len(view.HeldBack)
	if view.Unreachable != "" {
		r.meet(met{cause: definition.Unreachable, says: fmt.Sprintf("the place %s cannot be reached: %s", view.Input.Place, view.Unreachable), next: "make it reachable and refresh again"})
	}
	for _, w := range heldWords {
		var of []watch.HeldBack
		for _, f := range view.HeldBack {
			if f.Code == w.code {
				of = append(of, f)
			}
		}
		if len(of) == 0 {
			continue
		}
		cause := heldCauses[w.code]
		if view.Unreachable != "" && cause == definition.Unknown {
			cause = definition.Unreachable // told already
		} else {
			r.meet(met{cause: cause, says: fmt.Sprintf("%s %s, the first is %s", count(len(of), "file"), w.problem, filename.Show(of[0].Path)), next: w.next})
		}
		why := w.problem
		if cause == definition.Unreachable {
			why = "the place cannot be reached"
		}
		switch r.answer(cause) {
		case definition.LeaveOut:
			for _, f := range of {
				r.files = append(r.files, &fed{picked: watch.Picked{Path: f.Path}, held: cause, leftOut: why, done: closed})
			}
		case definition.LastGood:
			if err := r.standInFor(ctx, cause, of, why); err != nil {
				return err
			}
		}
	}
	if seen == 0 {
		r.meet(met{cause: definition.NothingPicked, says: "no file is picked", next: "check the folder and the patterns of the input; jorvex why tells of one file"})
	}
	for _, f := range view.Findings {
		if f.Code == finding.SlotMissing {
			r.meet(met{cause: definition.MissingSlot, says: f.Sentence, next: "ask for the files that did not come, or excuse them: jorvex excuse"})
		}
	}
	if n := view.Counts.Near; n > 0 {
		r.meet(met{cause: definition.NearMiss, says: nearly(n), next: "take them in or rename them; jorvex files INPUT -near lists them"})
	}
	return r.decide()
}

func nearly(n int64) string {
	if n == 1 {
		return "1 file nearly meets the patterns and is left out"
	}
	return fmt.Sprintf("%d files nearly meet the patterns and are left out", n)
}

var closed = func() chan struct{} { c := make(chan struct{}); close(c); return c }()

// meet notes a cause.
func (r *piece) meet(m met) {
	r.gating.Lock()
	r.met = append(r.met, m)
	r.gating.Unlock()
}

// judge holds a file that was read against the gate, and does as it answers.
func (r *piece) judge(ctx context.Context, f *fed) error {
	for _, m := range r.causesOf(f) {
		answer := r.answer(m.cause)
		if answer == definition.LastGood {
			problem, err := r.standIn(ctx, f, m.finding.Sentence)
			if err != nil {
				return err
			}
			if problem != "" {
				m.stop = true
				m.finding.Sentence += ", and " + problem
			}
		}
		r.meet(m)
		switch {
		case m.stop || answer == definition.Stop || answer == definition.Wait:
			f.gated = true
		case answer == definition.LeaveOut:
			f.leftOut = m.finding.Sentence
		}
		if answer == definition.LastGood || answer == definition.LeaveOut {
			return nil
		}
	}
	return nil
}

// unconverted are the findings of values that did not become what they should.
var unconverted = map[finding.Code]bool{
	finding.NotWhole: true, finding.NotDecimal: true, finding.NotDate: true, finding.NotTime: true, finding.NotTimestamp: true, finding.NotYesNo: true,
	finding.NotText: true, finding.NotCut: true, finding.NotInLookup: true, finding.NotComputed: true,
}

// causesOf tells what is wrong or odd with a file, the weightiest first.
func (r *piece) causesOf(f *fed) (list []met) {
	path := filename.Show(f.picked.Path)
	if found, broken := f.broken(); broken {
		cause := definition.BrokenFile
		if found.Code == finding.ColumnMissing {
			cause = definition.MissingColumn
		}
		return []met{{cause: cause, path: path, finding: found, next: found.Suggest}}
	}
	var worst *finding.Finding
	for i, found := range f.shaped.Findings {
		switch {
		case unconverted[found.Code] && float64(found.Count) > r.view.Definition.Gate.Above*float64(f.shaped.Kept) && (worst == nil || found.Count > worst.Count):
			worst = &f.shaped.Findings[i]
		case found.Code == finding.UnusualAmount:
			list = append(list, met{cause: definition.Unusual, path: path, finding: found, next: found.Suggest})
		}
	}
	if worst != nil {
		list = append(list, met{cause: definition.NotConverted, path: path, finding: *worst, next: worst.Suggest})
	}
	return list
}

// decide ends the refresh where the gate stops it or asks, by what it met so far.
func (r *piece) decide() error {
	r.gating.Lock()
	defer r.gating.Unlock()
	r.passed = nil
	var stop, ask *stopped
	for _, cause := range definition.Causes() {
		var of []met
		var files []records.StoppingFile
		for _, m := range r.met {
			if m.cause == cause {
				of = append(of, m)
				if m.path != "" {
					files = append(files, records.StoppingFile{Path: m.path, Finding: m.finding})
				}
			}
		}
		if len(of) == 0 {
			continue
		}
		slices.SortFunc(files, func(a, b records.StoppingFile) int {
			return bytes.Compare(filename.SortKey(a.Path), filename.SortKey(b.Path))
		})
		// What stops whatever the gate answers is told before what it lets through.
		forced := slices.IndexFunc(of, func(m met) bool { return m.stop })
		told := of[max(forced, 0)]
		problem, next := told.says, told.next
		if len(files) > 0 {
			first := files[0]
			problem, next = fmt.Sprintf("%s %s: %s", first.Path, phrases[cause][0], first.Finding.Sentence), first.Finding.Suggest
			if n := len(files); n > 1 {
				problem = fmt.Sprintf("%d files %s; the first is %s: %s", n, phrases[cause][1], first.Path, first.Finding.Sentence)
			}
		}
		answer := r.answer(cause)
		switch {
		case answer == definition.Stop || forced >= 0:
			if answer == definition.Stop && cause == definition.BrokenFile {
				next += "; or have the gate leave broken files out (gate: {broken: leave_out})"
			}
			stop = stop.and(problem, next, files)
		case answer == definition.Wait:
			ask = ask.and(problem, next, files)
			ask.asks = append(ask.asks, string(cause))
		default:
			r.passed = append(r.passed, receipt.Passed{Cause: string(cause), Answer: string(answer), Says: problem, Files: int64(len(files))})
		}
	}
	switch {
	case stop != nil:
		return stop
	case ask != nil:
		ask.next = fmt.Sprintf("%s; or answer: jorvex answer %d go", ask.next, r.row.ID)
		return ask
	}
	return nil
}

func (e *stopped) and(problem, next string, files []records.StoppingFile) *stopped {
	if e == nil {
		return &stopped{problem: problem, next: next, files: files}
	}
	e.problem += "; " + problem
	e.next += "; " + next
	e.files = append(e.files, files...)
	return e
}

// gate decides whether the refresh may go on with what it read.
func (r *piece) gate() error {
	if err := r.decide(); err != nil {
		return err
	}
	used := slices.ContainsFunc(r.files, func(f *fed) bool { return f.leftOut == "" })
	if used || r.answer(definition.NothingPicked) == definition.GoOn {
		return nil
	}
	why := "every picked file is left out by the gate"
	if n := slices.IndexFunc(r.files, func(f *fed) bool { _, broken := f.broken(); return !broken }); n < 0 {
		why = "every picked file is broken"
	}
	var files []records.StoppingFile
	for _, m := range r.met {
		if m.path != "" {
			files = append(files, records.StoppingFile{Path: m.path, Finding: m.finding})
		}
	}
	return &stopped{problem: why, next: "mend the files and refresh again", files: files}
}
