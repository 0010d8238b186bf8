package refresh

import (
	"context"
	"time"

	"jorvex/internal/core/receipt"
	"jorvex/internal/records"
)

// Freed is what a retention frees.
type Freed struct {
	Objects int64
	Bytes   int64 // on the disk
	Lost    []records.Unreplayable
}

// strayFor is how long an object that no receipt names is kept: rehearsals and
// refreshes that stopped read files into the vault, and the next refresh needs them.
const strayFor = 7 * 24 * time.Hour

// Retain tells what a retention frees now, and frees it if it is to.
func (r *Runner) Retain(ctx context.Context, keep records.Retention, do bool) (f Freed, err error) {
	since := r.runningSince()
	var droppable []records.Droppable
	if !keep.None() {
		if droppable, f.Lost, err = r.Store.Freed(ctx, keep, r.Clock()); err != nil {
			return f, err
		}
	}
	drop := map[string]records.Droppable{}
	for _, d := range droppable {
		drop[d.Digest] = d
	}
	strays, err := r.strays(ctx)
	if err != nil {
		return f, err
	}
	var gone []string
	var noted []records.Droppable
	err = r.Vault.Each(func(digest string, bytes int64, wanted time.Time) error {
		d, dropped := drop[digest]
		if dropped {
			noted = append(noted, d)
		}
		if dropped || strays(digest) && r.Clock().Sub(wanted) > strayFor {
			gone = append(gone, digest)
			f.Objects++
			f.Bytes += bytes
		}
		return ctx.Err()
	})
	if err != nil || !do {
		return f, err
	}
	if err := r.Store.NoteFreed(ctx, noted); err != nil {
		return f, err
	}
	f.Objects, f.Bytes, err = r.Vault.Remove(gone, since)
	return f, err
}

// runningSince is when the first of the refreshes that run now began: what they
// count on is named by no receipt yet.
func (r *Runner) runningSince() time.Time {
	since := time.Now()
	r.inHand.Range(func(_, running any) bool {
		if began := running.(*hand).began; began.Before(since) {
			since = began
		}
		return true
	})
	return since
}

// strays tells which objects no receipt, handover or rehearsal names.
func (r *Runner) strays(ctx context.Context) (func(digest string) bool, error) {
	named := map[string]bool{}
	name := func(header []byte) error {
		h, err := receipt.ParseHeader(header)
		if err != nil {
			return err
		}
		for _, s := range h.Sections() {
			named[s.FilesDigest], named[s.FiguresDigest] = true, true
			for _, d := range s.Deliveries {
				named[d.Template] = true
			}
		}
		return nil
	}
	if err := r.Store.EachReceipt(ctx, func(stored receipt.Stored) error { return name(stored.Header) }); err != nil {
		return nil, err
	}
	if err := r.Store.EachRehearsal(ctx, name); err != nil {
		return nil, err
	}
	err := r.Store.EachFed(ctx, func(_ []byte, digest string, _, _ int64) error {
		named[digest] = true
		return nil
	})
	return func(digest string) bool { return !named[digest] }, err
}

// retainEvery is how often what is not to be kept is freed.
const retainEvery = 6 * time.Hour

// keepHouse frees what the retention does not keep, at once and then now and again,
// until ctx ends.
func (r *Runner) keepHouse(ctx context.Context) {
	for {
		var f Freed
		keep, err := r.Store.Retention(ctx)
		if err == nil {
			f, err = r.Retain(ctx, keep, true)
		}
		if err != nil && ctx.Err() == nil {
			r.Log.Error("cannot free what the vault need not keep; trying again", "error", err)
		} else if f.Objects > 0 {
			r.Log.Info("freed what the vault need not keep", "objects", f.Objects, "bytes", f.Bytes)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(retainEvery):
		}
	}
}
