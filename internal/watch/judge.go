package watch

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"time"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/changes"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/pathpattern"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/selection"
	"jorvex/internal/notice"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// View is an input with its picked files, as they were at one moment.
type View struct {
	Input       records.Input
	Definition  *definition.Definition
	Place       places.Place
	Directory   string   // of the place
	Writable    bool     // files in it may be handed over
	Unreachable string   // why the place could not be reached; empty if it was
	Picked      []Picked // in roster order
	HeldBack    []HeldBack
	NotThere    []string // files asked for by name, as they are shown, that are not there
	Counts      records.Counts
	Parameters  string // canonical JSON of the parameters' values
	Findings    []finding.Finding
	Gone        []string          // files of the last delivery that are certainly gone, raw bytes
	MovedFrom   map[string]string // the path of a moved file to the one it had

	standing notice.Standing // what is worth telling for as long as it lasts
	save     func() error    // records the roster; nil for a refresh of its own kind
	unread   []Picked        // files to be read
	needed   []Picked        // those whose bytes decide on a verdict
	until    time.Time       // when the verdicts may change though nothing else does
}

// HeldBack is a file that is not fully seen.
type HeldBack struct {
	Path string // raw bytes
	Code selection.Code
}

// Picked is one picked file.
type Picked struct {
	FileID   int64
	Path     string // raw bytes
	Mark     places.Mark
	Captures []pathpattern.Capture
	Entries  []definition.Listed // of a hand-made list
	Held     string              // why a person held it in; empty for others
	Findings []finding.Finding   // of the file beside others, its name, or the time
	// Digest is that of the bytes, if the file was read since it has this mark
	// and had been left alone for a while then.
	Digest string
	// HandedOver says that it was moved or deleted by a handover, and feeds out of
	// the vault.
	HandedOver bool
}

// set is the files of one input at one moment, ready to be judged.
type set struct {
	files []selection.File
	ids   []int64
	marks []places.Mark
	came  []int64 // the modified time when it was first seen
	known []known
	gone  []gone
	// handed says which files were handed over and feed out of the vault.
	handed map[int]bool
}

// paths returns the paths of some files by id.
func (s *set) paths(ids []int64) map[int64]string {
	paths := make(map[int64]string, len(ids))
	if len(ids) == 0 {
		return paths
	}
	for _, id := range ids {
		paths[id] = ""
	}
	note := func(id int64, path string) {
		if _, wanted := paths[id]; wanted {
			paths[id] = path
		}
	}
	for i, id := range s.ids {
		note(id, s.files[i].Path)
	}
	for _, g := range s.gone {
		note(g.id, g.path)
	}
	return paths
}

// lost lists the files of the last delivery that are gone.
func (s *set) lost(base map[string]changes.Entry) []string {
	var list []string
	for _, g := range s.gone {
		if _, inBase := base[g.path]; inBase {
			list = append(list, g.path)
		}
	}
	return list
}

// known is what reading a file told.
type known struct {
	digest string    // believed: it belongs to the mark
	read   bool      // under the input's layout, and not too early
	why    string    // it is broken
	again  time.Time // when it is to be tried again; zero if it could be read
}

// troubled is how long a file that could not be opened or read is left alone
// before it is tried again: a lock or a fault of the share leaves no mark.
const troubled = time.Minute

// gone is a file that is certainly not there.
type gone struct {
	path string
	id   int64
	mark places.Mark
}

// gather lists the files below a definition's folder. checked tells what reading
// told of digests. The caller holds the state's lock.
func (at *watched) gather(def *definition.Definition, checked map[string]records.Known, handed map[string]records.HandedOver, now time.Time) *set {
	s := &set{handed: map[int]bool{}}
	for path, h := range handed {
		if _, ok := filename.Below(def.Folder, path); ok && h.Feeds && !at.returned(path, h) {
			check, was := checked[h.Digest]
			s.handed[len(s.files)] = true
			s.files = append(s.files, selection.File{Path: path, Size: h.Size, Modified: h.Modified, Digest: h.Digest, Broken: check.Broken, NoRows: was && check.Rows == 0 && len(def.Columns) > 0})
			s.ids = append(s.ids, h.FileID)
			s.marks = append(s.marks, places.Mark{Size: h.Size, Modified: h.Modified})
			s.came = append(s.came, h.Modified)
			s.known = append(s.known, known{digest: h.Digest, read: true, why: check.Why})
		}
	}
	for name, files := range at.snapshot.folders {
		if _, ok := filename.Below(def.Folder, name+"/x"); !ok {
			continue
		}
		for i := range files {
			f := &files[i]
			path := join(name, f.name)
			if h, was := handed[path]; was && !at.returned(path, h) || places.IsReserved(f.name) {
				continue // it feeds out of the vault, or no more
			}
			if f.evidence == changes.Gone {
				s.gone = append(s.gone, gone{path, f.id, f.mark})
				continue
			}
			file := selection.File{Path: path, Size: f.mark.Size, Modified: f.mark.Modified}
			switch {
			case f.evidence == changes.Unseen || !at.reachable:
				file.Held = selection.NotSeen
			case f.evidence == changes.Missing:
				file.Held = selection.Missing
			case len(at.arriving) > 0:
				if _, is := at.arriving[path]; is {
					file.Held = selection.Arriving
				}
			}
			var k known
			if f.read != nil {
				file.Digest = f.read.digest
				check, was := checked[f.read.digest]
				file.Broken, file.NoRows = check.Broken, was && check.Rows == 0 && len(def.Columns) > 0
				why := check.Why
				if found, is := claim(f.name, reading.Kind(check.Kind)); is && found.Grade == finding.Broken && !check.Broken {
					file.Broken, why = true, found.Sentence
				}
				if found, bad := finding.AnyBroken(f.read.trouble); bad {
					file.Broken, was, why = true, true, found.Sentence
				}
				k = known{digest: f.read.digest, read: was && !f.read.fresh, why: why}
				if len(f.read.trouble) > 0 {
					k.again = f.read.at.Add(troubled)
					k.read = k.read && now.Before(k.again)
				}
				if f.read.fresh {
					k.digest = ""
				}
			}
			s.files = append(s.files, file)
			s.ids = append(s.ids, f.id)
			s.marks = append(s.marks, f.mark)
			s.came = append(s.came, f.came)
			s.known = append(s.known, k)
		}
	}
	return s
}

// returned reports whether a file that was handed over is there again: another one
// under its name.
func (at *watched) returned(path string, h records.HandedOver) bool {
	f := at.snapshot.find(path)
	return f != nil && f.evidence == changes.Present && (f.mark.Size != h.Size || f.mark.Modified != h.Modified)
}

// judge gives every file of an input its verdict and state. What is judged as
// usual, and not for a refresh that asks for something of its own, is recorded.
func (w *Watcher) judge(ctx context.Context, at *watched, in records.Input, request records.Request) (View, error) {
	view := View{Input: in, Place: at.place}
	now := w.Clock()
	asOf := now
	if request.AsOf != nil {
		asOf = *request.AsOf
	}
	def, err := definition.ParseWith(in.Text, asOf, request.Set)
	if err != nil {
		return view, fmt.Errorf("the definition of %s: %w", in.Name, err)
	}
	view.Definition = def
	view.Parameters = Parameters(def)
	base, err := w.baseline(ctx, in.ID, view.Parameters)
	if err != nil {
		return view, err
	}
	checked, err := w.checked(ctx, at, in.Layout)
	if err != nil {
		return view, err
	}
	handed, err := w.Store.HandedOver(ctx, in.ID)
	if err != nil {
		return view, err
	}
	at.state.RLock()
	s := at.gather(def, checked, handed, now)
	at.state.RUnlock()
	around, err := w.surroundings(ctx, at, in.ID, &in, def, asOf)
	if err != nil {
		return view, err
	}
	view.until = around.until
	view.Findings = around.findings
	if len(request.Only) > 0 {
		around.Only, view.NotThere = named(def.Folder, request.Only, s.files)
	}
	around.NearMisses = true
	j := selection.New(def, around.Surroundings)
	result := j.Judge(s.files)
	view.Findings = append(view.Findings, findings(def, result)...)

	e := &entering{view: &view, set: s, judge: j, result: result, base: base, holds: around.Holds}
	if e.departed, err = w.Store.Departed(ctx, in.ID); err != nil {
		return view, err
	}
	doubt := e.doubt(in.Doubt, now)
	var slots map[string]int64
	var c *Coverage
	if def.Expect != nil {
		var list []finding.Finding
		var next time.Time
		var err error
		var lost []string
		if e.doubted {
			lost = s.lost(base)
		}
		c, err = w.cover(ctx, at, in.ID, def, result, s, lost, now, calendar.Earliest, calendar.Latest)
		if err != nil {
			list = []finding.Finding{finding.New(finding.NotCovered, "%s", err)}
		} else {
			slots, list, next = covered(c, now)
		}
		view.Findings = append(view.Findings, list...)
		if !next.IsZero() && next.Before(view.until) {
			view.until = next
		}
	}
	late, due := unchangedLong(def, result, s.files, now)
	view.Findings = append(view.Findings, late...)
	if !due.IsZero() && due.Before(view.until) {
		view.until = due
	}
	n := &notable{e: e, checked: checked, now: now}
	if n.own, err = w.Store.EarlierVersions(ctx, in.ID, e.altered()); err != nil {
		return view, err
	}
	e.notable = n.find()
	e.enter()
	view.Counts.Coverage = slots
	if doubt != nil && !doubt.Confirmed && doubt.Gone < doubt.Had && doubt.Since.Add(believed).Before(view.until) {
		view.until = doubt.Since.Add(believed)
	}
	view.standing = e.standing(doubt, c)
	usual := len(request.Set) == 0 && len(request.Only) == 0 && request.AsOf == nil
	if !usual {
		return view, nil
	}
	if err := w.lapse(ctx, in, around, result, now); err != nil {
		return view, err
	}
	if !sameDoubt(doubt, in.Doubt) {
		if err := w.Store.SaveDoubt(ctx, in.ID, doubt); err != nil {
			return view, err
		}
	}
	view.save = func() error { return w.saveRoster(ctx, in, e.rows, s, view.Counts) }
	return view, nil
}

// believed is how long a partial loss must last for to be believed by itself.
const believed = time.Hour

func sameDoubt(a, b *records.Doubt) bool {
	return a == nil && b == nil || a != nil && b != nil && *a == *b
}

// doubt tells whether so many files are gone that it is not believed, and keeps
// since when. A loss that was confirmed, or a partial one that has lasted, is
// believed as long as it does not grow.
func (e *entering) doubt(known *records.Doubt, now time.Time) *records.Doubt {
	gone := len(e.set.lost(e.base))
	if !changes.Doubtful(len(e.base), gone) {
		return nil
	}
	d := records.Doubt{Since: now, Gone: gone, Had: len(e.base)}
	if known != nil && gone <= known.Gone {
		d = *known
	}
	if d.Gone < d.Had && now.Sub(d.Since) >= believed {
		d.Confirmed = true
	}
	e.doubted = !d.Confirmed
	return &d
}

// moves pairs new files with those that are gone.
func (e *entering) moves() map[string]string {
	if e.doubted || len(e.set.gone) == 0 {
		return nil
	}
	gone := e.set.lost(e.base)
	var seen []changes.Seen
	for i := range e.set.files {
		f := &e.set.files[i]
		if e.result.Decisions[i].Verdict == selection.Picked && f.Digest != "" {
			seen = append(seen, changes.Seen{Path: f.Path, Digest: f.Digest, Picked: true})
		}
	}
	return changes.Moves(e.base, gone, seen)
}

// Parameters returns the values of a definition's parameters as canonical JSON.
func Parameters(def *definition.Definition) string {
	text, err := json.Marshal(def.Values) // keys are sorted
	if err != nil || len(def.Values) == 0 {
		return "{}"
	}
	return string(text)
}

// named finds the files that are asked for by name, from the place's root or
// from the input's folder.
func named(folder string, asked []string, files []selection.File) (only map[string]bool, missing []string) {
	there := make(map[string]bool, len(files))
	for i := range files {
		there[files[i].Path] = true
	}
	only = map[string]bool{}
	for _, shown := range asked {
		path, err := filename.Parse(shown)
		if err == nil && !there[path] {
			path = join(folder, path)
		}
		if err != nil || !there[path] {
			missing = append(missing, shown)
		}
		only[path] = true
	}
	return only, missing
}

// findings tells what is wrong with the set of files.
func findings(def *definition.Definition, r *selection.Result) []finding.Finding {
	var list []finding.Finding
	if len(r.Picked) == 0 {
		list = append(list, finding.New(finding.NothingPicked, ""))
	}
	for _, rule := range r.Rules {
		if rule.Off || rule.Files > 0 || rule.Kind != "pattern" && rule.Kind != "leave_out" {
			continue
		}
		f := finding.New(finding.RuleMeetsNone, "line %d, %s", rule.Line, rule.Text)
		if rule.Kind == "leave_out" {
			f.Grade = finding.Note
		}
		list = append(list, f)
	}
	const most = 100
	for i, m := range r.Missing {
		if i == most {
			break
		}
		f := finding.New(finding.ListedMissing, "%s", filename.Show(m.Path))
		f.Count = int64(len(r.Missing))
		list = append(list, f)
	}
	return list
}

// checked returns what is known of every digest that was read under a layout.
func (w *Watcher) checked(ctx context.Context, at *watched, layout string) (map[string]records.Known, error) {
	at.state.RLock()
	known := at.checks[layout]
	at.state.RUnlock()
	if known != nil {
		return known, nil
	}
	known, err := w.Store.KnownChecks(ctx, layout)
	if err != nil {
		return nil, err
	}
	at.state.Lock()
	defer at.state.Unlock()
	if at.checks[layout] == nil {
		at.checks[layout] = known
	}
	return at.checks[layout], nil
}

// entering turns verdicts into states, rows of the roster, and counts.
type entering struct {
	view   *View
	set    *set
	judge  *selection.Judge
	result *selection.Result
	base   map[string]changes.Entry
	holds  map[string]selection.Hold
	rows   []records.RosterRow

	departed map[string]bool
	doubted  bool
	movedTo  map[string]string // the new path to the old
	notable  map[int][]finding.Finding
}

// altered lists the picked files that the last delivery has with other bytes.
func (e *entering) altered() [][]byte {
	var list [][]byte
	for _, i := range e.result.Picked {
		f := &e.set.files[i]
		if before, inBase := e.base[f.Path]; inBase && f.Digest != "" && before.Digest != f.Digest {
			list = append(list, []byte(f.Path))
		}
	}
	return list
}

// counts returns what a result says of the rules, with no file counted yet.
func counts(r *selection.Result, findings []finding.Finding) records.Counts {
	c := records.Counts{ByState: map[string]int64{}, ByReason: map[string]int64{}, Findings: findings}
	for _, rule := range r.Rules {
		c.Rules = append(c.Rules, records.Rule{Kind: rule.Kind, Text: rule.Text, Line: rule.Line, Off: rule.Off, Files: rule.Files})
	}
	for _, cure := range r.Cures {
		c.Cures = append(c.Cures, records.Cure{
			Near:   records.Near{Kind: string(cure.Kind), Says: cure.Says, Pattern: cure.Pattern},
			Beside: cure.Beside, Line: cure.Line, Path: filename.Show(cure.Path), Files: cure.Files,
		})
	}
	return c
}

// count counts a file with its verdict.
func count(c *records.Counts, d *selection.Decision, held bool) {
	c.Files++
	switch d.Verdict {
	case selection.Picked:
		c.Picked++
	case selection.LeftOut:
		c.LeftOut++
	case selection.HeldBack:
		c.HeldBack++
	}
	c.ByReason[string(d.Code)]++
	if d.Near() != nil {
		c.Near++
	}
	if held {
		c.Held++
	}
}

func (e *entering) enter() {
	e.view.Counts = counts(e.result, e.view.Findings)
	need := make(map[int]bool, len(e.result.NeedDigest))
	for _, i := range e.result.NeedDigest {
		need[i] = true
	}
	e.movedTo = e.moves()
	e.view.MovedFrom = e.movedTo
	left := map[string]bool{}
	for _, from := range e.movedTo {
		left[from] = true
	}
	for i := range e.set.files {
		e.file(i, need[i])
	}
	for _, g := range e.set.gone {
		e.gone(g, left[g.path])
	}
	for _, i := range e.result.Picked {
		e.view.Picked = append(e.view.Picked, e.picked(i))
	}
}

// picked is a file as a refresh or a check works on it.
func (e *entering) picked(i int) Picked {
	f, d := &e.set.files[i], &e.result.Decisions[i]
	p := Picked{FileID: e.set.ids[i], Path: f.Path, Mark: e.set.marks[i], Captures: d.Captures, Digest: e.set.known[i].digest, Entries: e.judge.Entries(f.Path), Findings: e.notable[i], HandedOver: e.set.handed[i]}
	if d.Code == selection.HeldIn {
		p.Held = e.judge.Words(e.result, i)
	}
	return p
}

func (e *entering) file(i int, need bool) {
	f, d := &e.set.files[i], &e.result.Decisions[i]
	is := d.Verdict == selection.Picked
	if again := e.set.known[i].again; is && !again.IsZero() && again.Before(e.view.until) {
		e.view.until = again
	}
	if (is || need) && !e.set.known[i].read && !e.set.handed[i] {
		e.view.unread = append(e.view.unread, e.picked(i))
	}
	if need && e.set.known[i].digest == "" {
		e.view.needed = append(e.view.needed, e.picked(i))
	}
	evidence := changes.Present
	switch f.Held {
	case selection.NotSeen:
		evidence = changes.Unseen
	case selection.Missing:
		evidence = changes.Missing
	}
	told := e.tell(f, evidence, is || d.Verdict == selection.HeldBack)
	if d.Verdict == selection.HeldBack {
		e.view.HeldBack = append(e.view.HeldBack, HeldBack{f.Path, d.Code})
	}
	near := d.Near()
	_, held := e.holds[f.Path]
	count(&e.view.Counts, d, held)
	e.state(told)
	if (d.Code == selection.NoPattern || d.Code == selection.NotListed) && near == nil && told.Shown == changes.None && !held {
		return // counted; judged again when it is asked for
	}
	row := records.RosterRow{FileID: e.set.ids[i], Path: f.Path, Verdict: string(d.Verdict), Reason: string(d.Code),
		Sentence: e.judge.Words(e.result, i), State: string(told.Shown), Entries: e.judge.Entries(f.Path), Findings: e.notable[i], Size: f.Size, Modified: f.Modified, Digest: f.Digest}
	if told.From != "" {
		row.Sentence += "; moved from " + filename.Show(told.From)
	}
	if rule := e.judge.RuleOf(d); rule != nil {
		row.Rule, row.Line = rule.Text, rule.Line
	}
	if near != nil {
		row.Near = &records.Near{Kind: string(near.Kind), Says: near.Says, Pattern: near.Pattern}
	}
	if len(d.Captures) > 0 {
		row.Captures = make(map[string]string, len(d.Captures))
		for _, c := range d.Captures {
			row.Captures[c.Name] = c.Value()
		}
	}
	e.rows = append(e.rows, row)
}

// gone enters a file of the last delivery that is not there any more. One that
// moved is told at its new path.
func (e *entering) gone(g gone, moved bool) {
	before, inBase := e.base[g.path]
	if !inBase {
		return
	}
	if !e.doubted {
		e.view.Gone = append(e.view.Gone, g.path)
	}
	if moved {
		return
	}
	told := changes.Tell(&before, changes.Seen{Path: g.path, Evidence: changes.Gone, InDoubt: e.doubted})
	row := records.RosterRow{FileID: g.id, Path: g.path, Verdict: string(selection.LeftOut), Reason: string(selection.Gone),
		Sentence: "it fed the last delivery and is gone", State: string(told.Shown), Size: before.Size, Modified: before.Modified, Digest: before.Digest}
	c := &e.view.Counts
	if e.doubted {
		row.Verdict, row.Reason = string(selection.HeldBack), string(selection.InDoubt)
		row.Sentence = selection.InDoubt.Words()
		e.view.HeldBack = append(e.view.HeldBack, HeldBack{g.path, selection.InDoubt})
		c.HeldBack++
	} else {
		c.LeftOut++
	}
	c.ByReason[row.Reason]++
	e.state(told)
	e.rows = append(e.rows, row)
}

// tell compares a file with the last delivery.
func (e *entering) tell(f *selection.File, evidence changes.Evidence, picked bool) changes.Told {
	var before *changes.Entry
	if entry, inBase := e.base[f.Path]; inBase {
		before = &entry
	}
	return changes.Tell(before, changes.Seen{Path: f.Path, Evidence: evidence, Size: f.Size, Modified: f.Modified, Digest: f.Digest, Picked: picked, Broken: f.Broken,
		Arriving: f.Held == selection.Arriving, Departed: e.departed[f.Path], From: e.movedTo[f.Path]})
}

func (e *entering) state(told changes.Told) {
	if told.Shown != changes.None {
		e.view.Counts.ByState[string(told.Shown)]++
	}
}

// saveRoster records the rows that differ from those recorded.
func (w *Watcher) saveRoster(ctx context.Context, in records.Input, rows []records.RosterRow, s *set, counts records.Counts) error {
	before, err := w.Store.Roster(ctx, in.ID)
	if err != nil {
		return err
	}
	var put []records.RosterRow
	var log []records.Change
	why := map[int64]string{}
	for i, id := range s.ids {
		if s.known[i].why != "" {
			why[id] = s.known[i].why
		}
	}
	at := w.Clock()
	for _, row := range rows {
		old, known := before[row.FileID]
		if known && row.Digest == "" && old.State == row.State {
			// Told once its bytes are known, which is soon.
			row.Size, row.Modified, row.Digest = old.Size, old.Modified, old.Digest
		}
		if !known || !old.Equal(row) {
			put = append(put, row)
			if transition(old, row) {
				log = append(log, change(at, row.Path, old, row, why[row.FileID]))
			}
		}
		delete(before, row.FileID)
	}
	gone := slices.Collect(maps.Keys(before))
	for id, path := range s.paths(gone) {
		if old := before[id]; old.State != "" && path != "" {
			log = append(log, change(at, path, old, records.RosterRow{}, ""))
		}
	}
	if len(put)+len(gone) == 0 && sameCounts(in.Counts, counts) {
		return nil
	}
	slices.SortFunc(put, func(a, b records.RosterRow) int { return cmp.Compare(a.FileID, b.FileID) })
	slices.SortFunc(log, func(a, b records.Change) int {
		return bytes.Compare(filename.SortKey(string(a.Path)), filename.SortKey(string(b.Path)))
	})
	if err := w.Store.SaveRoster(ctx, in.ID, put, gone, log, counts); err != nil {
		return err
	}
	if slices.ContainsFunc(log, arrives) {
		if err := w.Store.NoteArrivals(ctx, in.ID, at); err != nil {
			return err
		}
	}
	w.Events.Publish("roster", RosterEvent{in.Name, in.Place})
	if len(log) > 0 {
		level := slog.LevelInfo
		if log[0].State == string(changes.Arriving) {
			level = slog.LevelDebug // told once they have arrived
		}
		w.Log.Log(ctx, level, "files changed", "input", in.Name, "files", len(log), "first", filename.Show(string(log[0].Path)), "state", log[0].State)
		w.Events.Publish("changes", ChangesEvent{in.Name, len(log), log[:min(len(log), mostTold)]})
	}
	return nil
}

// arrives reports whether a change is one that a refresh would take in.
func arrives(c records.Change) bool {
	switch changes.State(c.State) {
	case changes.New, changes.Changed, changes.Moved, changes.Returned, changes.Removed:
		return true
	}
	return false
}

// mostTold is how many changes one event carries.
const mostTold = 100

// ChangesEvent tells what became of files of an input.
type ChangesEvent struct {
	Input string
	Files int
	First []records.Change
}

// transition reports whether a row tells something else of a file than the one
// before it.
func transition(old, now records.RosterRow) bool {
	if old.State != now.State || now.State != "" && old.Verdict != now.Verdict {
		return true
	}
	return now.State != "" && old.Digest != "" && now.Digest != "" && old.Digest != now.Digest
}

func change(at time.Time, path string, old, now records.RosterRow, why string) records.Change {
	if now.State == string(changes.Broken) {
		now.Sentence = cmp.Or(why, "its content cannot be used")
	}
	return records.Change{Path: []byte(path), At: at, State: now.State, BeforeState: old.State, Verdict: now.Verdict, BeforeVerdict: old.Verdict, Sentence: now.Sentence,
		Size: now.Size, BeforeSize: old.Size, Modified: now.Modified, BeforeModified: old.Modified, Digest: now.Digest, BeforeDigest: old.Digest}
}

// sameCounts compares what is recorded with what would be.
func sameCounts(a, b records.Counts) bool {
	one, err := json.Marshal(a)
	two, err2 := json.Marshal(b)
	return err == nil && err2 == nil && string(one) == string(two)
}
