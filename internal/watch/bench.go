package watch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/learning"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/shaping"
	"jorvex/internal/records"
)

// Bench is a definition, saved or not, and the files that it picks, to be read
// one by one.
type Bench struct {
	w     *Watcher
	trial *Trial
	at    *watched
}

// Bench judges the files of an input by its definition, or by one that is not
// saved. Nothing is recorded.
func (w *Watcher) Bench(ctx context.Context, in records.Input, text string) (*Bench, error) {
	if text == "" {
		text = in.Text
	}
	def, err := definition.Parse(text, w.Clock())
	if err != nil {
		return nil, err
	}
	b := &Bench{w: w}
	if b.trial, err = w.try(ctx, def, records.Input{ID: in.ID, Layout: def.LayoutDigest()}, records.Request{}, w.Clock(), nil); err == nil {
		b.at, err = w.peek(ctx, def.Place)
	}
	return b, err
}

// Definition is the one that the files are read by.
func (b *Bench) Definition() *definition.Definition { return b.trial.Definition }

// First returns the first file that is picked, or "".
func (b *Bench) First() string {
	for _, i := range b.trial.result.Picked {
		if !b.trial.set.files[i].Broken {
			return b.trial.set.files[i].Path
		}
	}
	for _, i := range b.trial.result.Picked {
		return b.trial.set.files[i].Path
	}
	return ""
}

// open calls it with a file of the place.
func (b *Bench) open(ctx context.Context, path string, it func(*reading.File) error) error {
	return b.Content(ctx, path, func(r io.Reader) error {
		f, err := reading.Open(r, spool)
		if err != nil {
			return err
		}
		defer f.Close()
		return it(f)
	})
}

// Content calls it with the bytes of a file of the place. What is wrong with the
// file itself comes back as a finding.Finding.
func (b *Bench) Content(ctx context.Context, path string, it func(io.Reader) error) error {
	var wrong error
	read, err := Read(ctx, b.at.place, Picked{Path: path}, b.w.Clock, func(r io.Reader) (*records.Check, string, error) {
		err := it(r)
		var found finding.Finding
		if errors.As(err, &found) {
			wrong, err = found, nil
		}
		return nil, "", err
	})
	if len(read.Trouble) > 0 {
		return read.Trouble[0]
	}
	if err == nil {
		err = wrong
	}
	return err
}

// Origin is what the rows of a file say of it.
func (b *Bench) Origin(path string) shaping.Origin {
	if i := b.trial.find(path); i >= 0 {
		return OriginOf(b.Definition(), path, b.trial.File(i).Modified, b.trial.result.Decisions[i].Captures)
	}
	return OriginOf(b.Definition(), path, 0, nil)
}

// Digest returns the digest of the bytes that a file had when it was read last;
// empty if it is not there.
func (b *Bench) Digest(path string) string {
	if i := b.trial.find(path); i >= 0 {
		return b.trial.set.files[i].Digest
	}
	return ""
}

// Rows returns the first rows of a file beside what became of them; none if the
// definition has no columns.
func (b *Bench) Rows(ctx context.Context, path string, most int) (trace shaping.Trace, err error) {
	def := b.Definition()
	if len(def.Columns) == 0 {
		return trace, nil
	}
	origin := b.Origin(path)
	err = b.open(ctx, path, func(f *reading.File) (err error) {
		trace, err = shaping.ShapeTraced(def, origin, f, most)
		trace.Findings = append(trace.Findings, shaping.OfName(def, origin)...)
		return err
	})
	var found finding.Finding
	if errors.As(err, &found) {
		trace.Findings, err = append(trace.Findings, found), nil
	}
	return trace, err
}

// Variant is what some files have alike: headers that fit alike, in whatever
// order, or the same reason why they have none.
type Variant struct {
	Files   []string // paths, in roster order
	Headers []string
	Broken  string
}

// mostMapped is how many files' headers are read for a map.
const mostMapped = 200

// Variants reads the headers of the picked files, if there are many of some that
// are evenly spread, and groups them by what they have; the largest group first.
func (b *Bench) Variants(ctx context.Context) (variants []Variant, read, of int, err error) {
	picked := b.trial.result.Picked
	var chosen []string
	for k := range min(len(picked), mostMapped) {
		chosen = append(chosen, b.trial.set.files[picked[k*len(picked)/min(len(picked), mostMapped)]].Path)
	}
	headers := make([][]string, len(chosen))
	broken := make([]string, len(chosen))
	group, groupCtx := errgroup.WithContext(ctx)
	group.SetLimit(readers)
	for i, path := range chosen {
		group.Go(func() error {
			err := b.open(groupCtx, path, func(f *reading.File) (err error) {
				headers[i], err = shaping.HeadersIn(b.Definition(), f)
				return err
			})
			var found finding.Finding
			if errors.As(err, &found) {
				broken[i] = found.Sentence
				return nil
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, 0, 0, err
	}
	byKey := map[string]*Variant{}
	for i, path := range chosen {
		key := broken[i] + "\x00" + strings.Join(slices.Sorted(slices.Values(headers[i])), "\x00")
		if byKey[key] == nil {
			byKey[key] = &Variant{Headers: headers[i], Broken: broken[i]}
		}
		byKey[key].Files = append(byKey[key].Files, path)
	}
	for _, key := range slices.Sorted(maps.Keys(byKey)) {
		variants = append(variants, *byKey[key])
	}
	slices.SortStableFunc(variants, func(a, b Variant) int { return len(b.Files) - len(a.Files) })
	return variants, len(chosen), len(picked), nil
}

// Learn proposes how a file is read, and returns the definition's text with the
// proposal put in and what it is unsure of. The other picked files are held
// against it.
func (b *Bench) Learn(ctx context.Context, text, path string) (learnt string, unsure []string, err error) {
	def := b.Definition()
	var content reading.Content
	err = b.Content(ctx, path, func(r io.Reader) (err error) {
		content, err = spool(r)
		return err
	})
	if err != nil {
		return "", nil, err
	}
	defer content.Close()
	p, err := learning.Propose(def.ColumnCaptures(), def.Language, func() (*reading.File, error) {
		return reading.Open(io.NewSectionReader(content, 0, content.Size()), spool)
	})
	if err != nil {
		return "", nil, err
	}
	if learnt, err = p.Apply(text); err != nil {
		return "", nil, err
	}
	proposed, err := definition.Parse(learnt, b.w.Clock())
	if err != nil {
		return "", nil, err
	}
	others := *b
	trial := *b.trial
	trial.Definition = proposed
	others.trial = &trial
	variants, _, _, err := others.Variants(ctx)
	if err != nil {
		return "", nil, err
	}
	var headers [][]string
	for _, v := range variants {
		if v.Headers == nil {
			p.Unsure = append(p.Unsure, fmt.Sprintf("%s%s cannot be read so: %s", filename.Show(v.Files[0]), andMore(len(v.Files)-1), v.Broken))
			continue
		}
		for range v.Files {
			headers = append(headers, v.Headers)
		}
	}
	p.Settle(headers)
	found, err := others.weigh(ctx, variants)
	if err != nil {
		return "", nil, err
	}
	p.Weigh(found)
	learnt, err = p.Apply(text)
	return learnt, p.Unsure, err
}

func andMore(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}

// mostWeighed is how many other files are read whole to weigh a proposal, and
// mostWeighedBytes how large each may be.
const (
	mostWeighed      = 30
	mostWeighedBytes = 16 << 20
)

// weigh reads some files by the bench's definition, and returns what was found.
func (b *Bench) weigh(ctx context.Context, variants []Variant) (map[string][]finding.Finding, error) {
	found := map[string][]finding.Finding{}
	for _, v := range variants {
		for k := range min(len(v.Files), mostWeighed) {
			path := v.Files[k*len(v.Files)/min(len(v.Files), mostWeighed)]
			i := b.trial.find(path)
			if v.Headers == nil || len(found) == mostWeighed || i < 0 || b.trial.set.files[i].Size > mostWeighedBytes {
				continue
			}
			err := b.open(ctx, path, func(f *reading.File) error {
				result, err := shaping.Shape(b.Definition(), shaping.Origin{}, f, shaping.NewWriter(io.Discard))
				found[filename.Show(path)] = result.Findings
				return err
			})
			if wrong := (finding.Finding{}); err != nil && !errors.As(err, &wrong) {
				return nil, err
			}
		}
	}
	return found, nil
}
