package refresh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/totals"
	"jorvex/internal/deliver"
	"jorvex/internal/parts"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// targets sees that every delivery can be made, and that none overwrites what
// another input, the same with other parameters, or somebody else put there.
func (r *piece) targets(ctx context.Context) error {
	def := r.view.Definition
	usual, err := definition.Parse(r.view.Input.Text, r.row.AsOf)
	if err != nil {
		return err
	}
	for i, d := range def.Delivery {
		for _, p := range def.Parameters {
			if def.Values[p.Name] != usual.Values[p.Name] && !d.Takes(p.Name) {
				return &stopped{
					problem: fmt.Sprintf("the delivery %s would be overwritten with what %s=%s gives, since its name lacks $%s", d.Name(), p.Name, def.Values[p.Name], p.Name),
					next:    fmt.Sprintf("put $%s into the delivery's name", p.Name),
				}
			}
		}
		other, err := r.Store.MadeBy(ctx, r.view.Input.ID, d.Kind(), d.Name())
		if err == nil {
			return &stopped{problem: fmt.Sprintf("another input, %s, delivers the %s %s", other, d.Kind(), d.Name()), next: "give the delivery another name"}
		}
		if !errors.Is(err, records.ErrNotFound) {
			return err
		}
		r.deliveries = append(r.deliveries, receipt.Delivery{Kind: d.Kind(), Name: d.Name()})
		if d.Into != "" {
			if err := r.prepareReady(ctx, i, d); err != nil {
				return err
			}
			continue
		}
		if d.Table != "" {
			before, err := r.heldBefore(ctx, d)
			if err != nil {
				return err
			}
			table := deliver.NewTable(d, r.row.ID, int64(i)+100*r.input, before)
			if err := table.Check(ctx, r.Store.Pool); err != nil {
				return err
			}
			r.tables = append(r.tables, table)
			r.before = append(r.before, before)
			continue
		}
		if err := r.writable(ctx, d); err != nil {
			return err
		}
		if d.Workbook != "" {
			if r.deliveries[i].Template, err = r.template(d.Workbook); err != nil {
				return err
			}
		}
	}
	return nil
}

// writable sees that a file or folder can be delivered.
func (r *piece) writable(ctx context.Context, d definition.Delivery) error {
	made, err := r.Store.EverMade(ctx, d.Kind(), d.Name())
	if err != nil {
		return err
	}
	if !made && r.Folder.There(d.Name()) {
		return &stopped{problem: fmt.Sprintf("%s is there already and was not delivered by Jorvex; it is left alone", r.Folder.Path(d.Name())), next: "move it away, or give the delivery another name"}
	}
	if d.Folder != "" {
		return nil
	}
	return r.Folder.Writable(d.Name())
}

// template puts the analyst's own workbook into the vault, so that a replay has it.
func (r *piece) template(path string) (digest string, err error) {
	f, err := r.view.Place.Open(path)
	if err != nil {
		return "", &stopped{problem: fmt.Sprintf("the template %s cannot be read: %s", filename.Show(path), err), next: "bring it back, or name another in the definition"}
	}
	defer f.Close()
	object, err := r.batch.Put(f)
	return object.Digest, err
}

// heldBefore is what a table held after the last delivery of it, if it is loaded by
// changed files.
func (r *piece) heldBefore(ctx context.Context, d definition.Delivery) (before deliver.Before, err error) {
	if d.Load != definition.LoadChanged {
		return before, nil
	}
	stored, err := r.Store.LastMade(ctx, r.input, "table", d.Table)
	if errors.Is(err, records.ErrNotFound) {
		return before, nil
	}
	if err != nil {
		return before, err
	}
	header, err := receipt.ParseHeader(stored.Header)
	if err != nil {
		return before, err
	}
	before.Refresh, before.Files = header.Refresh, map[string]deliver.BeforeFile{}
	err = watch.ReceiptFiles(r.Watcher, stored, r.input, func(f receipt.File) error {
		path, err := filename.Parse(f.Path)
		if err == nil && f.Use != receipt.NotUsed {
			before.Files[path] = deliver.BeforeFile{Part: f.Part, Rows: f.Kept}
		}
		return err
	})
	return before, err
}

// hasTable reports whether a table is delivered, whose digest is made of its parts'.
func (r *piece) hasTable() bool { return len(r.tables)+len(r.ready) > 0 }

// reads reports whether some delivery will read the rows of a file: all do but
// tables that have them already.
func (r *piece) reads(f *fed) bool {
	if r.row.Request.Rehearse {
		return false
	}
	if len(r.tables) < len(r.deliveries) {
		return true
	}
	return slices.ContainsFunc(r.before, func(b deliver.Before) bool {
		held, there := b.Files[f.picked.Path]
		return !there || held.Part == "" || held.Part != f.part.Digest
	})
}

// work reads the files and stages the deliveries, at the same time: a delivery
// takes each part as soon as it is there.
func (r *piece) work(ctx context.Context) error {
	group, groupCtx := errgroup.WithContext(ctx)
	if !r.row.Request.Rehearse {
		r.stageAll(groupCtx, group)
	}
	group.Go(func() error {
		err := r.read(groupCtx)
		if r == r.pieces[len(r.pieces)-1] {
			r.stage.Store("delivering")
		}
		return err
	})
	return group.Wait()
}

// errGated ends the staging of a delivery that the gate will not let through.
var errGated = errors.New("the gate stops the refresh")

// parts calls each with the parts of the files that are used, in roster order.
func (r *piece) parts(ctx context.Context) func(each func(s *deliver.Source, part io.Reader) error) error {
	return func(each func(s *deliver.Source, part io.Reader) error) error {
		for _, f := range r.files {
			select {
			case <-f.done:
			case <-ctx.Done():
				return ctx.Err()
			}
			if f.gated {
				return errGated
			}
			if f.leftOut != "" {
				continue
			}
			if err := f.open(func(part io.Reader) error { return each(r.sourceOf(f), part) }); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
}

// open calls it with the rows of the file.
func (f *fed) open(it func(part io.Reader) error) error {
	if f.part == nil {
		return it(strings.NewReader("")) // an input without columns
	}
	part := &lazy{part: f.part}
	defer part.Close()
	return it(part)
}

// lazy opens a part when it is read.
type lazy struct {
	part *parts.Part
	rows io.ReadCloser
}

func (l *lazy) Read(b []byte) (n int, err error) {
	if l.rows == nil {
		if l.rows, err = l.part.Open(); err != nil {
			return 0, err
		}
	}
	return l.rows.Read(b)
}

func (l *lazy) Close() {
	if l.rows != nil {
		_ = l.rows.Close()
	}
}

// sourceOf is a file as deliveries see it, always the same.
func (r *piece) sourceOf(f *fed) *deliver.Source {
	f.sourced.Do(func() {
		f.source = &deliver.Source{
			Path: f.picked.Path, Size: f.reading.Mark.Size, Modified: time.Unix(0, f.reading.Mark.Modified).UTC(), Digest: f.reading.Digest,
			Part: f.partDigest(), Rows: f.shaped.Kept, Entries: f.picked.Entries,
			Open: func() (io.ReadCloser, error) { return r.batch.Open(f.reading.Digest) },
		}
	})
	return f.source
}

// stageAll begins to stage every delivery.
func (r *piece) stageAll(ctx context.Context, group *errgroup.Group) {
	tables := r.tables
	for i, d := range r.view.Definition.Delivery {
		combined := deliver.Combined{Columns: r.view.Definition.Columns, Parts: r.parts(ctx), AsOf: r.row.AsOf, Root: r.view.Directory, Figures: func() totals.Figures { return r.tally().Figures() }}
		if template := r.deliveries[i].Template; template != "" {
			combined.Template = func() (io.ReadCloser, error) { return r.batch.Open(template) }
		}
		stage := func() (deliver.Staged, error) { return deliver.Staged{}, nil }
		name := deliver.StagedName(r.row.ID, d.Name())
		switch {
		case d.Table != "":
			table := tables[0]
			tables = tables[1:]
			stage = func() (deliver.Staged, error) { return table.Stage(ctx, r.Store.Pool, combined) }
		case d.Into != "":
			one := r.ready[i]
			stage = func() (deliver.Staged, error) {
				s, err := one.Stage(ctx, one.pool, combined)
				if err == nil && one.own {
					r.toPublish(records.Publication{RefreshID: r.row.ID, Staged: one.Publication(s.Rows).String(), Final: d.Name()})
				}
				return s, err
			}
		case d.Folder != "":
			r.scraps = append(r.scraps, name)
			stage = func() (deliver.Staged, error) { return r.stageFolder(ctx, name, d, combined) }
		default:
			r.scraps = append(r.scraps, name)
			r.toPublish(records.Publication{RefreshID: r.row.ID, Staged: name, Final: d.File})
			stage = func() (deliver.Staged, error) { return r.Folder.Stage(name, d, combined) }
		}
		group.Go(func() error {
			staged, err := stage()
			mine := &r.deliveries[i]
			mine.Rows, mine.Bytes, mine.Digest = staged.Rows+staged.Kept, staged.Bytes, staged.Digest
			var overlap *deliver.Overlap
			var unfit *deliver.Unfit
			switch {
			case errors.Is(err, errGated):
				return nil
			case errors.As(err, &unfit):
				return &stopped{problem: unfit.Error(), next: unfit.Next}
			case errors.As(err, &overlap):
				return &stopped{problem: overlap.Error(), next: "mend the rows in the list that the files are picked by"}
			}
			return err
		})
	}
}

// toPublish notes what is to be put in its place once the refresh counts.
func (r *piece) toPublish(p records.Publication) {
	r.gating.Lock()
	defer r.gating.Unlock()
	r.staged = append(r.staged, p)
}

// stageFolder stages the files themselves. Those of the delivery before that feed
// no more are taken away.
func (r *piece) stageFolder(ctx context.Context, staged string, d definition.Delivery, combined deliver.Combined) (deliver.Staged, error) {
	s, names, err := r.Folder.StageFiles(staged, r.view.Definition.Folder, combined)
	if err != nil {
		return s, err
	}
	now := map[string]bool{}
	for _, name := range names {
		final := d.Folder + "/" + name
		now[final] = true
		r.toPublish(records.Publication{RefreshID: r.row.ID, Staged: staged + "/" + name, Final: final})
		r.gating.Lock()
		r.copies = append(r.copies, final)
		r.gating.Unlock()
	}
	old, err := r.Store.LastCopies(ctx, r.input, d.Folder)
	if err != nil {
		return s, err
	}
	for _, final := range old {
		if !now[final] {
			r.toPublish(records.Publication{RefreshID: r.row.ID, Staged: deliver.Removal(final), Final: final})
		}
	}
	return s, nil
}
