package refresh

import (
	"context"
	"fmt"
	"io"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/shaping"
	"jorvex/internal/core/totals"
	"jorvex/internal/deliver"
	"jorvex/internal/parts"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// fed is one picked file on its way.
type fed struct {
	picked  watch.Picked
	reading watch.Reading
	shaped  shaping.Result
	part    *parts.Part
	tally   *totals.Tally
	source  *deliver.Source
	sourced sync.Once
	leftOut string // why it is not used, empty if it is
	done    chan struct{}

	held     definition.Cause // why it is not fully seen, empty for others
	why      string           // it is not used as it is
	gated    bool             // the gate will not let it pass
	standsIn bool             // an earlier version does
	learnt   *watch.Reading   // what reading it told, where another version stands in
}

// broken returns the finding that makes the file unusable, if there is one.
func (f *fed) broken() (finding.Finding, bool) { return finding.AnyBroken(f.shaped.Findings) }

// workers is how many files are read and shaped at a time.
const workers = 2

// read brings every picked file into the vault and shapes it from there.
func (r *piece) read(ctx context.Context) error {
	group, groupCtx := errgroup.WithContext(ctx)
	group.SetLimit(workers)
	for _, f := range r.files {
		if f.done == closed {
			continue
		}
		group.Go(func() error {
			defer close(f.done)
			if err := r.readOne(groupCtx, f); err != nil {
				return fmt.Errorf("%s: %w", filename.Show(f.picked.Path), err)
			}
			r.filesDone.Add(1)
			r.bytesDone.Add(f.picked.Mark.Size)
			r.rows.Add(f.shaped.Kept)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	var readings []watch.Reading
	for _, f := range r.files {
		switch {
		case f.learnt != nil && f.held == "":
			readings = append(readings, *f.learnt)
		case f.held == "":
			readings = append(readings, f.reading)
		}
	}
	return r.Watcher.Learn(ctx, r.view.Input, readings)
}

func (r *piece) readOne(ctx context.Context, f *fed) error {
	if f.held != "" {
		problem, err := r.standIn(ctx, f, f.why)
		if problem != "" {
			f.gated = true
			r.meet(met{cause: f.held, stop: true, says: fmt.Sprintf("%s: %s, and %s", filename.Show(f.picked.Path), f.why, problem), next: "mend the cause, or have the gate leave such files out"})
		}
		if err == nil && !f.gated {
			err = r.count(ctx, f)
		}
		return err
	}
	if err := r.take(ctx, f); err != nil {
		return err
	}
	if err := r.judge(ctx, f); err != nil || f.gated || f.leftOut != "" {
		return err
	}
	return r.count(ctx, f)
}

// take reads a file as it is now.
func (r *piece) take(ctx context.Context, f *fed) error {
	var err error
	if f.picked.Digest != "" && r.Vault.Want(f.picked.Digest) {
		// The bytes are there already, and the file was not touched since.
		f.reading = watch.Reading{FileID: f.picked.FileID, Path: f.picked.Path, Mark: f.picked.Mark, Digest: f.picked.Digest, At: r.Clock()}
	} else {
		f.reading, err = watch.Read(ctx, r.view.Place, f.picked, r.Clock, func(source io.Reader) (*records.Check, string, error) {
			object, err := r.batch.Put(source)
			return nil, object.Digest, err
		})
		if err != nil {
			return err
		}
	}
	if len(f.reading.Trouble) > 0 {
		f.shaped.Findings = f.reading.Trouble
		return nil
	}
	return r.shape(ctx, f)
}

// shape finds the typed rows of a file, or makes them of its vault object, and
// gathers what is to be told of the file.
func (r *piece) shape(ctx context.Context, f *fed) error {
	def, layout := r.view.Definition.For(f.picked.Entries), r.view.Input.Layout
	if def != r.view.Definition {
		layout = def.LayoutDigest()
	}
	origin := watch.OriginOf(def, f.picked.Path, f.picked.Mark.Modified, f.picked.Captures).Of(def)
	name := parts.Name(f.reading.Digest, layout, origin)
	var found bool
	if f.part, found = r.Parts.Find(name); !found || f.part.Digest == "" && r.hasTable() || r.reads(f) && !f.part.Sound() {
		if err := r.makePart(ctx, f, def, name, origin); err != nil {
			return err
		}
	}
	checked := watch.NewChecked(def, f.part.Result, reading.Kind(f.part.Kind))
	f.shaped = checked.Result
	f.reading.Check = checked.Record(r.view.Input)
	f.reading.Check.Digest = f.reading.Digest
	// What is told beside other files goes on the receipt, and not with the bytes.
	f.shaped.Findings = slices.Concat(f.shaped.Findings, slices.DeleteFunc(slices.Clone(f.picked.Findings), func(found finding.Finding) bool {
		return found.Code == finding.SameContent // told anew, of the bytes that were read
	}))
	return nil
}

func (r *piece) makePart(ctx context.Context, f *fed, def *definition.Definition, name string, origin shaping.Origin) error {
	object, err := r.batch.Open(f.reading.Digest)
	if err != nil {
		return err
	}
	defer object.Close()
	f.part, err = r.Parts.Make(name, r.hasTable(), func(w io.Writer) (parts.Known, error) {
		checked, err := watch.Check(def, origin, readerOf(ctx, object), shaping.NewWriter(w))
		return parts.Known{Kind: string(checked.Kind), Result: checked.Result}, err
	})
	return err
}

type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func readerOf(ctx context.Context, r io.Reader) io.Reader { return contextReader{ctx, r} }

func (c contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}
