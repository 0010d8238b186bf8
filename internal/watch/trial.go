package watch

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/pathpattern"
	"jorvex/internal/core/selection"
	"jorvex/internal/core/shaping"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// Trial is a definition tried on the files of the last look. Nothing is
// recorded of it.
type Trial struct {
	Definition *definition.Definition
	Counts     records.Counts
	Gained     Beyond // picked now, and not by the definition that is saved
	Lost       Beyond // the other way round

	set    *set
	judge  *selection.Judge
	result *selection.Result
}

// Beyond is what one definition picks beyond another.
type Beyond struct {
	Files int64
	First []Tried // at most mostBeyond of them, in roster order
}

const mostBeyond = 100

// Tried is one file of a trial.
type Tried struct {
	ID       int64
	Path     string // raw bytes
	Size     int64
	Modified int64
	Row      records.RosterRow
}

// peek returns a place for reading what is known of it, also while a look goes
// on.
func (w *Watcher) peek(ctx context.Context, place string) (*watched, error) {
	p, err := w.Store.Place(ctx, place)
	if err != nil {
		return nil, err
	}
	w.mu.Lock()
	at := w.places[p.ID]
	w.mu.Unlock()
	if at != nil {
		at.state.RLock()
		loaded := at.snapshot != nil
		at.state.RUnlock()
		if loaded {
			return at, nil
		}
	}
	if at, err = w.enter(ctx, p); err != nil {
		return nil, err
	}
	at.mu.Unlock()
	return at, nil
}

// Try judges the files of the last look by a definition that need not be saved.
// saved, unless it is nil, is the input it is compared with; its holds bind.
func (w *Watcher) Try(ctx context.Context, text string, request records.Request, saved *records.Input) (*Trial, error) {
	asOf := w.Clock()
	if request.AsOf != nil {
		asOf = *request.AsOf
	}
	def, err := definition.ParseWith(text, asOf, request.Set)
	if err != nil {
		return nil, err
	}
	in := records.Input{Layout: def.LayoutDigest()}
	if saved != nil {
		in.ID = saved.ID
	}
	if saved == nil {
		return w.try(ctx, def, in, request, asOf, nil)
	}
	before, err := definition.ParseWith(saved.Text, asOf, nil)
	if err != nil {
		return nil, err
	}
	var t, old *Trial
	group, groupCtx := errgroup.WithContext(ctx)
	group.Go(func() (err error) { t, err = w.try(groupCtx, def, in, request, asOf, nil); return err })
	group.Go(func() (err error) {
		old, err = w.try(groupCtx, before, *saved, records.Request{}, asOf, nil)
		return err
	})
	if err := group.Wait(); err != nil {
		return nil, err
	}
	t.Gained, t.Lost = t.beyond(old), old.beyond(t)
	for i, f := range t.Lost.First {
		t.Lost.First[i] = t.instead(f)
	}
	return t, nil
}

// beyond lists the files that t picks and other does not, by path below the
// folder: a folder that moved whole loses nothing.
func (t *Trial) beyond(other *Trial) Beyond {
	has := make(map[string]bool, len(other.result.Picked))
	for _, i := range other.result.Picked {
		below, _ := filename.Below(other.Definition.Folder, other.set.files[i].Path)
		has[below] = true
	}
	var b Beyond
	for _, i := range t.result.Picked {
		if below, _ := filename.Below(t.Definition.Folder, t.set.files[i].Path); has[below] {
			continue
		}
		if b.Files++; b.Files <= mostBeyond {
			b.First = append(b.First, t.File(i))
		}
	}
	return b
}

// instead is a file that another definition picked, with the verdict of this
// trial.
func (t *Trial) instead(f Tried) Tried {
	if at := t.find(f.Path); at >= 0 {
		return t.File(at)
	}
	where := t.Definition.Place
	if t.Definition.Folder != "" {
		where += ", " + filename.Show(t.Definition.Folder)
	}
	f.Row = records.RosterRow{Verdict: string(selection.LeftOut), Reason: string(selection.OutsideFolder), Sentence: "not below " + where}
	return f
}

func (t *Trial) find(path string) int {
	return slices.IndexFunc(t.set.files, func(f selection.File) bool { return f.Path == path })
}

// try judges by def the files of its place, with one more if it is given.
func (w *Watcher) try(ctx context.Context, def *definition.Definition, in records.Input, request records.Request, asOf time.Time, more *selection.File) (*Trial, error) {
	at, err := w.peek(ctx, def.Place)
	if err != nil {
		return nil, err
	}
	checked, err := w.checked(ctx, at, in.Layout)
	if err != nil {
		return nil, err
	}
	handed, err := w.Store.HandedOver(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	at.state.RLock()
	s := at.gather(def, checked, handed, asOf)
	at.state.RUnlock()
	if more != nil {
		s.put(*more)
	}
	around, err := w.surroundings(ctx, at, in.ID, nil, def, asOf)
	if err != nil {
		return nil, err
	}
	if len(request.Only) > 0 {
		around.Only, _ = named(def.Folder, request.Only, s.files)
	}
	around.NearMisses = true
	t := &Trial{Definition: def, set: s, judge: selection.New(def, around.Surroundings)}
	t.result = t.judge.Judge(s.files)
	t.Counts = counts(t.result, append(around.findings, findings(def, t.result)...))
	for i := range s.files {
		_, held := around.Holds[s.files[i].Path]
		count(&t.Counts, &t.result.Decisions[i], held)
	}
	return t, nil
}

// put adds a file to a set, or replaces the one at its path.
func (s *set) put(f selection.File) int {
	i := slices.IndexFunc(s.files, func(o selection.File) bool { return o.Path == f.Path })
	if i < 0 {
		s.files = append(s.files, f)
		s.ids, s.marks, s.came, s.known = append(s.ids, 0), append(s.marks, places.Mark{}), append(s.came, f.Modified), append(s.known, known{})
		return len(s.files) - 1
	}
	s.files[i] = f
	return i
}

// File returns a file of the trial by its index.
func (t *Trial) File(i int) Tried {
	f, d := &t.set.files[i], &t.result.Decisions[i]
	row := records.RosterRow{Verdict: string(d.Verdict), Reason: string(d.Code), Sentence: t.judge.Words(t.result, i), Entries: t.judge.Entries(f.Path)}
	if rule := t.judge.RuleOf(d); rule != nil {
		row.Rule, row.Line = rule.Text, rule.Line
	}
	if near := d.Near(); near != nil {
		row.Near = &records.Near{Kind: string(near.Kind), Says: near.Says, Pattern: near.Pattern}
	}
	if len(d.Captures) > 0 {
		row.Captures = map[string]string{}
		for _, c := range d.Captures {
			row.Captures[c.Name] = c.Value()
		}
	}
	return Tried{ID: t.set.ids[i], Path: f.Path, Size: f.Size, Modified: f.Modified, Row: row}
}

// Files returns a page of the trial's files after a sort key, in natural order.
// Verdict and text narrow them down.
func (t *Trial) Files(verdict, text string, after []byte, limit int) (page []Tried, more bool) {
	type entry struct {
		key   []byte
		index int
	}
	var list []entry
	text = strings.ToLower(text)
	for i := range t.set.files {
		d := &t.result.Decisions[i]
		if verdict == "near" && d.Near() == nil || verdict != "" && verdict != "near" && string(d.Verdict) != verdict {
			continue
		}
		if text != "" && !strings.Contains(strings.ToLower(filename.Show(t.set.files[i].Path)), text) {
			continue
		}
		if key := filename.SortKey(t.set.files[i].Path); bytes.Compare(key, after) > 0 {
			list = append(list, entry{key, i})
		}
	}
	slices.SortFunc(list, func(a, b entry) int { return bytes.Compare(a.key, b.key) })
	if len(list) > limit {
		list, more = list[:limit], true
	}
	for _, e := range list {
		page = append(page, t.File(e.index))
	}
	return page, more
}

// Explanation is the whole way to a file's verdict.
type Explanation struct {
	Tried
	Steps []selection.Step
}

// Explain tells the whole way to the verdict on a path of an input's place. The
// file need not be there.
func (w *Watcher) Explain(ctx context.Context, in records.Input, path string) (Explanation, error) {
	asOf := w.Clock()
	def, err := definition.Parse(in.Text, asOf)
	if err != nil {
		return Explanation{}, err
	}
	t, err := w.try(ctx, def, in, records.Request{}, asOf, nil)
	if err != nil {
		return Explanation{}, err
	}
	i := t.find(path)
	if i < 0 {
		if t, err = w.try(ctx, def, in, records.Request{}, asOf, &selection.File{Path: path, Modified: asOf.UnixNano()}); err != nil {
			return Explanation{}, err
		}
		i = t.find(path)
	}
	return Explanation{t.File(i), t.judge.Explain(t.result, i)}, nil
}

// FileTrial is what would become of a file that is not there yet.
type FileTrial struct {
	Explanation
	Shaped    shaping.Result
	Displaced []Tried // files that would no longer be picked
}

// TryFile tells what would become of a file, were it dropped at a path.
func (w *Watcher) TryFile(ctx context.Context, in records.Input, path string, content io.Reader) (FileTrial, error) {
	asOf := w.Clock()
	def, err := definition.Parse(in.Text, asOf)
	if err != nil {
		return FileTrial{}, err
	}
	hash := sha256.New()
	counted := &counting{r: io.TeeReader(content, hash)}
	var trial FileTrial
	checked, err := Check(def, shaping.Origin{}, counted, shaping.NewWriter(io.Discard))
	if trial.Shaped = checked.Result; err == nil {
		_, err = io.Copy(io.Discard, counted)
	}
	if err != nil {
		return trial, fmt.Errorf("read the file: %w", err)
	}
	if found, is := claim(path, checked.Kind); is {
		trial.Shaped.Findings = append(trial.Shaped.Findings, found)
	}
	_, broken := finding.AnyBroken(trial.Shaped.Findings)
	file := selection.File{Path: path, Size: counted.n, Modified: asOf.UnixNano(), Digest: hex.EncodeToString(hash.Sum(nil)), Broken: broken,
		NoRows: len(def.Columns) > 0 && trial.Shaped.Kept == 0}
	before, err := w.try(ctx, def, in, records.Request{}, asOf, nil)
	if err != nil {
		return trial, err
	}
	after, err := w.try(ctx, def, in, records.Request{}, asOf, &file)
	if err != nil {
		return trial, err
	}
	i := after.find(path)
	trial.Explanation = Explanation{after.File(i), after.judge.Explain(after.result, i)}
	for _, lost := range before.beyond(after).First {
		if at := after.find(lost.Path); at >= 0 && lost.Path != path {
			trial.Displaced = append(trial.Displaced, after.File(at))
		}
	}
	return trial, nil
}

type counting struct {
	r io.Reader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// OriginOf is what a file's rows say of the file.
func OriginOf(def *definition.Definition, path string, modified int64, captures []pathpattern.Capture) shaping.Origin {
	folder, name := split(path)
	if folder == "" {
		folder = "."
	}
	origin := shaping.Origin{Name: filename.Show(name), Folder: filename.Show(folder), Path: filename.Show(path),
		Modified: time.Unix(0, modified).In(def.Zone).Format(time.DateTime), Captures: map[string]string{}}
	for _, c := range captures {
		origin.Captures[c.Name] = c.Value()
	}
	return origin
}

// DigestOf reads a file of an input's place and returns the SHA-256 of its
// bytes.
func (w *Watcher) DigestOf(ctx context.Context, in records.Input, path string) (string, error) {
	at, err := w.peek(ctx, in.Place)
	if err != nil {
		return "", err
	}
	reading, err := Read(ctx, at.place, Picked{Path: path}, w.Clock, func(r io.Reader) (*records.Check, string, error) {
		hash := sha256.New()
		_, err := io.Copy(hash, r)
		return nil, hex.EncodeToString(hash.Sum(nil)), err
	})
	if err == nil && len(reading.Trouble) > 0 {
		err = errors.New(reading.Trouble[0].Sentence)
	}
	return reading.Digest, err
}
