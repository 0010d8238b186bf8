package selection

import (
	"bytes"
	"cmp"
	"fmt"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/pathpattern"
)

// Judge gives every file of a set its verdict.
func (j *Judge) Judge(files []File) *Result {
	r := &Result{Decisions: make([]Decision, len(files)), files: files}
	j.spread(len(files), func(j *Judge, from, to int) {
		for i := from; i < to; i++ {
			r.Decisions[i] = j.walk(&files[i], notes{})
		}
	})
	j.digests(r)
	j.ownContent(r)
	j.latest(r)
	j.order(r)
	j.sameContent(r)
	j.missing(r)
	if j.s.NearMisses {
		j.nearMisses(r)
	}
	j.count(r)
	return r
}

// spread has ranges of n files worked on side by side, each by a judge of its
// own.
func (j *Judge) spread(n int, work func(j *Judge, from, to int)) {
	const least = 5000
	workers := max(1, min(runtime.GOMAXPROCS(0), n/least))
	var group sync.WaitGroup
	for w := range workers {
		mine := *j
		mine.path = pathpattern.Path{}
		group.Go(func() { work(&mine, w*n/workers, (w+1)*n/workers) })
	}
	group.Wait()
}

// Explain gives the whole way to the verdict on one file of a judged set.
func (j *Judge) Explain(r *Result, i int) []Step {
	steps := []Step{}
	n := notes{&steps}
	f := &r.files[i]
	alone := j.walk(f, n)
	d := &r.Decisions[i]
	switch d.Code {
	case alone.Code:
		if d.Code == NoPattern && d.near != nil {
			n.add("near miss", 0, false, "%s: %s", d.near.Kind.Words(), d.near.Says)
		}
		if d.Verdict == Picked && (alone.Code == PatternMatches || alone.Code == Listed) {
			if l := j.def.Latest; l != nil {
				n.add(j.rules[j.latestRule].Text, l.Line, false, "%s", map[bool]string{true: "is switched off", false: "it is among the newest"}[l.Off])
			}
			n.add("picked", 0, true, "%s", j.Words(r, i))
		}
	default:
		line := 0
		name := string(d.Code)
		if rule := j.RuleOf(d); rule != nil {
			name, line = rule.Text, rule.Line
		}
		for k := range steps {
			steps[k].Decides = false
		}
		n.add(strings.ReplaceAll(name, "_", " "), line, true, "%s", j.Words(r, i))
	}
	return steps
}

// join adds the joined captures. A date that is none comes back as words.
func (j *Judge) join(f *File, captures []pathpattern.Capture) ([]pathpattern.Capture, string) {
	for _, join := range j.def.Joins {
		var fields calendar.Fields
		for _, c := range captures {
			if !slices.Contains(join.From, c.Name) {
				continue
			}
			var ok bool
			if fields, ok = fields.Merge(c.Fields); !ok {
				return nil, fmt.Sprintf("%s does not agree with the rest of %s", c.Name, join.Name)
			}
		}
		if fields == (calendar.Fields{}) {
			continue // another pattern's
		}
		if join.YearOf != "" && fields.Year == 0 && fields.WeekYear == 0 {
			modified := time.Unix(0, f.Modified).In(j.def.Zone)
			year := modified.Year()
			weekYear, _ := modified.ISOWeek()
			if join.YearOf != definition.Modified {
				year, _ = strconv.Atoi(join.YearOf)
				weekYear = year
			}
			if fields.Week != 0 {
				fields.WeekYear = weekYear
			} else {
				fields.Year = year
			}
		}
		if fields.Missing() != "" {
			continue
		}
		date, ok := fields.Date()
		if !ok {
			return nil, fmt.Sprintf("%s, joined, is not on the calendar", join.Name)
		}
		captures = append(captures, pathpattern.Capture{Name: join.Name, Kind: pathpattern.DateKind, Text: date.String(), Fields: fields, Date: date})
	}
	return captures, ""
}

// valueOf returns a capture as conditions ask about it.
func (j *Judge) valueOf(captures []pathpattern.Capture, name string) condition.Value {
	for _, c := range captures {
		if c.Name != name {
			continue
		}
		switch c.Kind {
		case pathpattern.Number:
			n, err := strconv.ParseFloat(c.Text, 64)
			return condition.Value{Number: n, Text: c.Text, Blank: err != nil}
		case pathpattern.DateKind:
			return condition.Value{Date: c.Date, Blank: c.Date.Unit == calendar.NoUnit}
		}
		return condition.Value{Text: c.Text}
	}
	return condition.Value{Blank: true}
}

// dateOf returns the date that a file has in a capture, or of its modified time.
func (j *Judge) dateOf(f *File, captures []pathpattern.Capture, of string) calendar.Date {
	if of == definition.Modified {
		return calendar.Date{Unit: calendar.OneDay, Start: calendar.DayOf(time.Unix(0, f.Modified).In(j.def.Zone))}
	}
	return j.valueOf(captures, of).Date
}

// window leaves a file out whose date lies outside.
func (j *Judge) window(f *File, d *Decision, n notes) bool {
	w := j.def.Window
	if w == nil {
		return true
	}
	rule := j.rules[j.windowRule].Text
	if w.Off {
		n.add(rule, w.Line, false, "is switched off")
		return true
	}
	from, to := w.Span.Range(calendar.DayOf(j.now.At))
	date := j.dateOf(f, d.Captures, w.Of)
	switch {
	case date.Unit == calendar.NoUnit:
		d.detail = "it has no " + w.Of
	case date.Start > to || date.End() < from:
		d.detail = fmt.Sprintf("%s is %s", w.Of, date)
	default:
		n.add(rule, w.Line, false, "%s is %s, inside", w.Of, date)
		return true
	}
	d.Verdict, d.Code, d.rule = LeftOut, OutsideWindow, j.windowRule+1
	n.add(rule, w.Line, true, "%s, outside", d.detail)
	return false
}

// open reports whether a decision may still change by comparing files.
func (d *Decision) open() bool { return d.Verdict != LeftOut && !d.fixed }

// digests lists the files whose bytes decide and are not known.
func (j *Judge) digests(r *Result) {
	sizes := map[int64]int{} // of files whose content is compared
	for i := range r.files {
		if j.def.SameContent == definition.LeaveOutSame && r.Decisions[i].open() {
			sizes[r.files[i].Size]++
		}
	}
	for i := range r.files {
		f, d := &r.files[i], &r.Decisions[i]
		if f.Digest != "" || f.Held != "" {
			if hold, held := j.s.Holds[f.Path]; held && hold.Digest != "" && f.Digest != "" && hold.Digest != f.Digest {
				r.Lapsed = append(r.Lapsed, f.Path)
			}
			continue
		}
		need := d.open() && (j.s.OwnContent[f.Size] != nil || sizes[f.Size] > 1)
		if hold, held := j.s.Holds[f.Path]; held && hold.Digest != "" {
			need = true
		}
		if need {
			r.NeedDigest = append(r.NeedDigest, i)
		}
	}
}

// ownContent leaves out what holds the bytes of a delivery.
func (j *Judge) ownContent(r *Result) {
	if len(j.s.OwnContent) == 0 {
		return
	}
	for i := range r.files {
		f, d := &r.files[i], &r.Decisions[i]
		if !d.open() || f.Digest == "" || f.Size == 0 {
			continue
		}
		if name, own := j.s.OwnContent[f.Size][f.Digest]; own {
			d.Verdict, d.Code, d.rule, d.detail = LeftOut, OwnContent, 0, name
		}
	}
}

// latest keeps the newest files of each group.
func (j *Judge) latest(r *Result) {
	l := j.def.Latest
	if l == nil || l.Off {
		return
	}
	today := calendar.DayOf(j.now.At)
	groups := map[string][]int{}
	for i := range r.files {
		d := &r.Decisions[i]
		if !d.open() {
			continue
		}
		if date := j.dateOf(&r.files[i], d.Captures, l.Of); !l.Future && date.Unit != calendar.NoUnit && date.Start > today {
			d.Verdict, d.Code, d.rule = LeftOut, NotYet, j.latestRule+1
			d.detail = fmt.Sprintf("%s is %s, after %s; it does not count yet", l.Of, date, today)
			continue
		}
		key := ""
		for _, per := range l.Per {
			key += condition.Fold(text(d.Captures, per)) + "\x00"
		}
		groups[key] = append(groups[key], i)
	}
	for _, group := range groups {
		j.keep(r, group)
	}
}

func text(captures []pathpattern.Capture, name string) string {
	for _, c := range captures {
		if c.Name == name {
			return c.Value()
		}
	}
	return ""
}

// keep leaves all but the newest of a group out.
func (j *Judge) keep(r *Result, group []int) {
	l := j.def.Latest
	newest := func(a, b int) int {
		fa, fb := &r.files[a], &r.files[b]
		if c := cmp.Or(-j.compareBy(r, a, b, l.Of), -cmp.Compare(fa.Modified, fb.Modified)); c != 0 {
			return c
		}
		return -bytes.Compare(filename.SortKey(fa.Path), filename.SortKey(fb.Path))
	}
	slices.SortFunc(group, newest)
	kept := 0
	var passed []int
	last := -1
	for _, i := range group {
		f, d := &r.files[i], &r.Decisions[i]
		if kept < l.Keep {
			if l.Previous && (f.Broken || d.Verdict == HeldBack) {
				passed = append(passed, i)
				continue
			}
			kept++
			last = i
			for _, p := range passed {
				j.passOver(r, p, i)
			}
			passed = nil
			continue
		}
		d.Verdict, d.Code, d.rule, d.other = LeftOut, NotLatest, j.latestRule+1, last+1
	}
}

// passOver leaves a newest file out that cannot be used, for the one before it.
func (j *Judge) passOver(r *Result, i, instead int) {
	d := &r.Decisions[i]
	d.detail = "broken"
	if d.Verdict == HeldBack {
		d.detail = "not fully seen"
	}
	d.Verdict, d.Code, d.rule, d.other = LeftOut, PassedOver, j.latestRule+1, instead+1
}

// compareBy compares two files by a capture, or by modified time.
func (j *Judge) compareBy(r *Result, a, b int, by string) int {
	if by == definition.Modified {
		return cmp.Compare(r.files[a].Modified, r.files[b].Modified)
	}
	va, vb := j.valueOf(r.Decisions[a].Captures, by), j.valueOf(r.Decisions[b].Captures, by)
	if va.Blank || vb.Blank {
		return map[[2]bool]int{{true, false}: -1, {false, true}: 1}[[2]bool{va.Blank, vb.Blank}]
	}
	if c := cmp.Or(va.Date.Compare(vb.Date), cmp.Compare(va.Number, vb.Number)); c != 0 || va.Text == vb.Text {
		return c
	}
	return bytes.Compare(filename.SortKey(va.Text), filename.SortKey(vb.Text))
}

// order puts the picked files in roster order.
func (j *Judge) order(r *Result) {
	type entry struct {
		key   []byte
		index int
	}
	var list []entry
	for i := range r.Decisions {
		if r.Decisions[i].Verdict == Picked {
			list = append(list, entry{filename.SortKey(r.files[i].Path), i})
		}
	}
	slices.SortFunc(list, func(a, b entry) int {
		if j.def.OrderBy != "" {
			if c := j.compareBy(r, a.index, b.index, j.def.OrderBy); c != 0 {
				return c
			}
		}
		return bytes.Compare(a.key, b.key)
	})
	r.Picked = make([]int, len(list))
	for i, e := range list {
		r.Picked[i] = e.index
	}
}

// sameContent treats files that hold the bytes of one before them.
func (j *Judge) sameContent(r *Result) {
	first := map[string]int{}
	r.Picked = slices.DeleteFunc(r.Picked, func(i int) bool {
		f, d := &r.files[i], &r.Decisions[i]
		if f.Digest == "" || f.Size == 0 || f.NoRows {
			return false
		}
		before, again := first[f.Digest]
		if !again {
			first[f.Digest] = i
			return false
		}
		if j.def.SameContent == definition.LeaveOutSame && d.open() {
			d.Verdict, d.Code, d.rule, d.other = LeftOut, SameContent, j.sameRule+1, before+1
			return true
		}
		d.Note = "the same content as " + filename.Show(r.files[before].Path)
		return false
	})
}

// missing finds listed files that are not there.
func (j *Judge) missing(r *Result) {
	if !j.chosenByHand() {
		return
	}
	there := map[string]bool{}
	for i := range r.files {
		if below, ok := filename.Below(j.def.Folder, r.files[i].Path); ok {
			there[condition.Fold(below)] = true
		}
	}
	for _, e := range j.entries {
		if !there[condition.Fold(e.Path)] {
			r.Missing = append(r.Missing, e)
		}
	}
}

// mostFinders and mostCures bound the search for near misses.
const (
	mostFinders = 50
	mostCures   = 50
)

// nearMisses finds what would take in files that no pattern matches.
func (j *Judge) nearMisses(r *Result) {
	beside := make([]int32, len(r.files)) // pattern that a file nearly matches
	j.spread(len(r.files), func(j *Judge, from, to int) {
		var finders []*pathpattern.Finder
		var picks []int
		for i, p := range j.def.Pick {
			if !p.Off && len(finders) < mostFinders {
				finders, picks = append(finders, pathpattern.NewFinder(p.Pattern)), append(picks, i)
			}
		}
		for i := from; i < to; i++ {
			d := &r.Decisions[i]
			if d.Code != NoPattern || d.detail != "" {
				continue
			}
			below, _ := filename.Below(j.def.Folder, r.files[i].Path)
			for k, f := range finders {
				near, is := f.Find(below)
				if is && (d.near == nil || near.Kind.Rank() < d.near.Kind.Rank()) {
					d.near, beside[i] = &near, int32(picks[k])
				}
			}
		}
	})
	cures := map[string]bool{}
	for i := range r.files {
		near := r.Decisions[i].near
		if near == nil || len(cures) == mostCures {
			continue
		}
		pick := j.def.Pick[beside[i]]
		key := string(near.Kind) + "\x00" + near.Pattern + "\x00" + pick.Pattern.String()
		if !cures[key] {
			cures[key] = true
			r.Cures = append(r.Cures, Cure{*near, pick.Pattern.String(), pick.Line, r.files[i].Path, 0})
		}
	}
	j.takenIn(r)
}

// takenIn counts the files that each cure would take in.
func (j *Judge) takenIn(r *Result) {
	for c := range r.Cures {
		cure := &r.Cures[c]
		if cure.Pattern == "" {
			continue
		}
		for _, p := range j.def.Pick {
			if p.Pattern.String() != cure.Beside {
				continue
			}
			pattern, err := p.Pattern.Like(cure.Pattern)
			if err != nil {
				continue
			}
			for i := range r.files {
				if r.Decisions[i].Code != NoPattern {
					continue
				}
				below, _ := filename.Below(j.def.Folder, r.files[i].Path)
				j.path.Set(below)
				if _, ok := pattern.Match(&j.path); ok {
					cure.Files++
				}
			}
		}
	}
	slices.SortStableFunc(r.Cures, func(a, b Cure) int {
		return cmp.Or(-cmp.Compare(a.Files, b.Files), bytes.Compare(filename.SortKey(a.Path), filename.SortKey(b.Path)))
	})
}

// count tells how many files each rule met.
func (j *Judge) count(r *Result) {
	r.Rules = slices.Clone(j.rules)
	for i := range r.Decisions {
		d := &r.Decisions[i]
		if d.rule > 0 {
			r.Rules[d.rule-1].Files++
		}
		// A pattern met the files that a later rule decided on, too.
		if d.pattern > 0 && d.pattern != d.rule {
			r.Rules[d.pattern-1].Files++
		}
	}
}
