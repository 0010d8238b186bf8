package watch

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"jorvex/internal/core/changes"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/pathpattern"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/selection"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// View is an input with its picked files, as they were at one moment.
type View struct {
	Input       records.Input
	Definition  *definition.Definition
	Place       places.Place
	Unreachable string   // why the place could not be reached; empty if it was
	Picked      []Picked // in roster order
	HeldBack    []string // paths, raw bytes
	Counts      records.Counts

	unread []int // indexes in Picked of files to be read
}

// Picked is one picked file.
type Picked struct {
	FileID   int64
	Path     string // raw bytes
	Mark     places.Mark
	Captures []pathpattern.Capture
	// Digest is that of the bytes, if the file was read since it has this mark
	// and had been left alone for a while then.
	Digest string

	sortKey []byte
}

// baselines keeps the file list of each input's last receipt.
type baselines struct {
	mu   sync.Mutex
	last map[int64]baseline
}

type baseline struct {
	number  int64
	entries map[string]changes.Entry
}

// baseline returns the files of the last delivered refresh of an input.
func (w *Watcher) baseline(ctx context.Context, input int64) (map[string]changes.Entry, error) {
	stored, err := w.Store.LastReceipt(ctx, input, 0)
	if errors.Is(err, records.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	w.base.mu.Lock()
	defer w.base.mu.Unlock()
	if known := w.base.last[input]; known.number == stored.Number {
		return known.entries, nil
	}
	entries := map[string]changes.Entry{}
	err = ReceiptFiles(w, stored, func(f receipt.File) error {
		path, err := filename.Parse(f.Path)
		if err != nil || f.Use == receipt.NotUsed {
			return err
		}
		entries[path] = changes.Entry{Path: path, Size: f.Size, Modified: f.Modified.UnixNano(), Digest: f.Digest}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("read the files of receipt %d: %w", stored.Number, err)
	}
	if w.base.last == nil {
		w.base.last = map[int64]baseline{}
	}
	w.base.last[input] = baseline{stored.Number, entries}
	return entries, nil
}

// ReceiptFiles calls each with every file of a receipt's list, out of the vault.
func ReceiptFiles(w *Watcher, stored receipt.Stored, each func(receipt.File) error) error {
	h, err := receipt.ParseHeader(stored.Header)
	if err != nil {
		return err
	}
	list, err := w.Vault.Open(h.FilesDigest)
	if err != nil {
		return err
	}
	defer list.Close()
	return receipt.ReadList(list, each)
}

// judge gives every file of an input its verdict and state and records what
// changed.
func (w *Watcher) judge(ctx context.Context, at *watched, in records.Input) (View, error) {
	view := View{Input: in, Place: at.place}
	def, err := definition.Parse(in.Text)
	if err != nil {
		return view, fmt.Errorf("the definition of %s: %w", in.Name, err)
	}
	view.Definition = def
	base, err := w.baseline(ctx, in.ID)
	if err != nil {
		return view, err
	}
	own, err := w.ownPaths(ctx, at.directory)
	if err != nil {
		return view, err
	}
	j := &judging{
		view: &view, base: base, reachable: at.reachable,
		judge:  selection.New(def, selection.Surroundings{OwnPaths: own}),
		counts: records.Counts{ByState: map[string]int64{}, ByReason: map[string]int64{}},
	}
	if j.checked, err = w.checked(ctx, at, in.Layout); err != nil {
		return view, err
	}
	for folder, files := range at.snapshot.folders {
		if _, ok := filename.Below(def.Folder, folder+"/x"); ok {
			for i := range files {
				j.file(join(folder, files[i].name), &files[i])
			}
		}
	}
	slices.SortFunc(view.Picked, func(a, b Picked) int { return bytes.Compare(a.sortKey, b.sortKey) })
	for i := range view.Picked {
		if j.unread[view.Picked[i].FileID] {
			view.unread = append(view.unread, i)
		}
	}
	view.Counts = j.counts
	return view, w.saveRoster(ctx, in, j)
}

// checked returns for every digest that was read under a layout whether it is
// broken.
func (w *Watcher) checked(ctx context.Context, at *watched, layout string) (map[string]bool, error) {
	if known := at.checks[layout]; known != nil {
		return known, nil
	}
	known, err := w.Store.KnownChecks(ctx, layout)
	if err == nil {
		at.checks[layout] = known
	}
	return known, err
}

// judging is the judging of one input's files.
type judging struct {
	view      *View
	judge     *selection.Judge
	base      map[string]changes.Entry
	checked   map[string]bool // digest -> broken
	reachable bool
	rows      []records.RosterRow
	unread    map[int64]bool
	counts    records.Counts
}

func (j *judging) file(path string, f *file) {
	entry, inBase := j.base[path]
	if f.evidence == changes.Gone && !inBase {
		return
	}
	evidence := f.evidence
	if !j.reachable && evidence == changes.Present {
		evidence = changes.Unseen
	}
	decision := j.judge.Decide(path)
	seen := changes.Seen{Path: path, Evidence: evidence, Size: f.mark.Size, Modified: f.mark.Modified, Picked: decision.Verdict == selection.Picked}
	if f.read != nil {
		seen.Digest = f.read.digest
		broken, known := j.checked[f.read.digest]
		seen.Broken = broken
		if _, bad := finding.AnyBroken(f.read.trouble); bad {
			seen.Broken, known = true, true
		}
		if seen.Picked && (!known || f.read.fresh) {
			j.read(f.id)
		}
	} else if seen.Picked {
		j.read(f.id)
	}
	var before *changes.Entry
	if inBase {
		before = &entry
	}
	told := changes.Tell(before, seen)
	switch {
	case evidence == changes.Gone:
		decision = selection.Decision{Verdict: selection.LeftOut, Code: selection.Gone, Sentence: "it fed the last delivery and is gone"}
	case evidence == changes.Unseen && seen.Picked:
		decision.Verdict, decision.Code = selection.HeldBack, selection.NotSeen
		decision.Sentence = "its place or folder cannot be looked at; it would be picked"
		j.view.HeldBack = append(j.view.HeldBack, path)
	}
	j.count(decision, told)
	if decision.Verdict == selection.Picked {
		picked := Picked{FileID: f.id, Path: path, Mark: f.mark, Captures: decision.Captures, sortKey: filename.SortKey(path)}
		if f.read != nil && !f.read.fresh {
			picked.Digest = f.read.digest
		}
		j.view.Picked = append(j.view.Picked, picked)
	}
	if decision.Code == selection.NoPattern && told.Shown == changes.None {
		return // counted; judged again when it is asked for
	}
	row := records.RosterRow{FileID: f.id, Path: path, Verdict: string(decision.Verdict), Reason: string(decision.Code), Sentence: decision.Sentence, Rule: decision.Rule, State: string(told.Shown)}
	if len(decision.Captures) > 0 {
		row.Captures = make(map[string]string, len(decision.Captures))
		for _, c := range decision.Captures {
			row.Captures[c.Name] = c.Value()
		}
	}
	j.rows = append(j.rows, row)
}

// read notes that a file has to be read.
func (j *judging) read(id int64) {
	if j.unread == nil {
		j.unread = map[int64]bool{}
	}
	j.unread[id] = true
}

func (j *judging) count(d selection.Decision, told changes.Told) {
	if d.Code != selection.Gone {
		j.counts.Files++
	}
	switch d.Verdict {
	case selection.Picked:
		j.counts.Picked++
	case selection.LeftOut:
		j.counts.LeftOut++
	case selection.HeldBack:
		j.counts.HeldBack++
	}
	j.counts.ByReason[string(d.Code)]++
	if told.Shown != changes.None {
		j.counts.ByState[string(told.Shown)]++
	}
}

// saveRoster records the rows that differ from those recorded.
func (w *Watcher) saveRoster(ctx context.Context, in records.Input, j *judging) error {
	before, err := w.Store.Roster(ctx, in.ID)
	if err != nil {
		return err
	}
	var put []records.RosterRow
	for _, row := range j.rows {
		if old, known := before[row.FileID]; !known || !old.Equal(row) {
			put = append(put, row)
		}
		delete(before, row.FileID)
	}
	gone := make([]int64, 0, len(before))
	for id := range before {
		gone = append(gone, id)
	}
	if len(put)+len(gone) == 0 && sameCounts(in.Counts, j.counts) {
		return nil
	}
	slices.SortFunc(put, func(a, b records.RosterRow) int { return cmp.Compare(a.FileID, b.FileID) })
	if err := w.Store.SaveRoster(ctx, in.ID, put, gone, j.counts); err != nil {
		return err
	}
	w.Events.Publish("roster", RosterEvent{in.Name, in.Place})
	return nil
}

func sameCounts(a, b records.Counts) bool {
	if a.Files != b.Files || a.Picked != b.Picked || a.LeftOut != b.LeftOut || a.HeldBack != b.HeldBack || len(a.ByReason) != len(b.ByReason) {
		return false
	}
	for reason, n := range a.ByReason {
		if b.ByReason[reason] != n {
			return false
		}
	}
	return true
}

// Explain tells the whole way to the verdict on a path of an input's place.
func (w *Watcher) Explain(ctx context.Context, in records.Input, path string) (selection.Decision, []selection.Step, error) {
	def, err := definition.Parse(in.Text)
	if err != nil {
		return selection.Decision{}, nil, err
	}
	p, err := w.Store.Place(ctx, in.Place)
	if err != nil {
		return selection.Decision{}, nil, err
	}
	own, err := w.ownPaths(ctx, p.Directory)
	if err != nil {
		return selection.Decision{}, nil, err
	}
	decision, steps := selection.New(def, selection.Surroundings{OwnPaths: own}).Explain(path)
	return decision, steps, nil
}
