// Package watch decides when to look at a place, and brings the records in
// step with what a look saw: the files, and the roster of every input.
package watch

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"jorvex/internal/core/filename"
	"jorvex/internal/events"
	"jorvex/internal/places"
	"jorvex/internal/records"
	"jorvex/internal/vault"
)

// Watcher looks at places. It may be used by many goroutines; one place is
// looked at by one of them at a time.
type Watcher struct {
	Store      *records.Store
	Vault      *vault.Vault
	Allowed    places.Allowed
	Deliveries string // full path of the delivery folder
	Events     *events.Broker
	Clock      func() time.Time
	Log        *slog.Logger

	mu     sync.Mutex
	places map[int64]*watched
	base   baselines
}

// watched is one place with what is known of it.
type watched struct {
	mu        sync.Mutex
	place     places.Place
	directory string
	reachable bool
	snapshot  *snapshot
	checks    map[string]map[string]bool // layout -> digest -> broken
	settled   map[int64]int64            // input -> version whose roster is up to date
}

// LookEvent tells that a look at a place has ended.
type LookEvent struct {
	Place string
	Look  records.Look
}

// RosterEvent tells that the roster of an input changed.
type RosterEvent struct {
	Input, Place string
}

// Run looks at every place once in an interval until ctx ends.
func (w *Watcher) Run(ctx context.Context, interval time.Duration) error {
	for {
		list, err := w.Store.Places(ctx)
		if err != nil && ctx.Err() == nil {
			w.Log.Error("cannot read the places; looking again later", "error", err)
		}
		group, groupCtx := errgroup.WithContext(ctx)
		group.SetLimit(2)
		for _, p := range list {
			group.Go(func() error {
				if _, err := w.Look(groupCtx, p); err != nil && groupCtx.Err() == nil {
					w.Log.Error("a look failed; looking again later", "place", p.Name, "error", err)
				}
				return nil
			})
		}
		_ = group.Wait()
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(interval):
		}
	}
}

// enter returns a place with its lock held.
func (w *Watcher) enter(ctx context.Context, p records.Place) (*watched, error) {
	w.mu.Lock()
	if w.places == nil {
		w.places = map[int64]*watched{}
	}
	at := w.places[p.ID]
	if at == nil {
		local, err := w.Allowed.Local(p.Directory)
		if err != nil {
			w.mu.Unlock()
			return nil, err
		}
		at = &watched{place: local, directory: p.Directory, reachable: p.Reachable, checks: map[string]map[string]bool{}, settled: map[int64]int64{}}
		w.places[p.ID] = at
	}
	w.mu.Unlock()
	at.mu.Lock()
	if at.snapshot == nil {
		s, err := loadSnapshot(ctx, w.Store, p.ID)
		if err != nil {
			at.mu.Unlock()
			return nil, fmt.Errorf("read the files recorded of %s: %w", p.Name, err)
		}
		at.snapshot = s
	}
	return at, nil
}

// Look looks at a place, records what it saw, judges the inputs of the place,
// and reads the picked files that were not read before. A place that cannot be
// reached is an outcome of the look, not an error.
func (w *Watcher) Look(ctx context.Context, p records.Place) (records.Look, error) {
	at, err := w.enter(ctx, p)
	if err != nil {
		return records.Look{}, err
	}
	defer at.mu.Unlock()
	look, err := w.look(ctx, p, at)
	if err != nil {
		return look, err
	}
	inputs, err := w.Store.InputsOf(ctx, p.ID)
	if err != nil {
		return look, err
	}
	for _, in := range inputs {
		if at.settled[in.ID] == in.Version {
			continue
		}
		if err := w.settle(ctx, at, in); err != nil {
			return look, fmt.Errorf("judge the files of %s: %w", in.Name, err)
		}
	}
	w.Events.Publish("look", LookEvent{p.Name, look})
	return look, nil
}

// look lists the place and records the difference.
func (w *Watcher) look(ctx context.Context, p records.Place, at *watched) (records.Look, error) {
	look := records.Look{Started: w.Clock()}
	c := &comparison{old: at.snapshot, seen: make(map[string][]file, len(at.snapshot.folders))}
	err := at.place.List(ctx, c.visit)
	var unreachable *places.Unreachable
	switch {
	case errors.As(err, &unreachable):
		look.Why = places.Reason(err)
	case err != nil:
		return look, err
	default:
		c.conclude()
		if err := w.save(ctx, p.ID, c); err != nil {
			return look, err
		}
		at.snapshot = &snapshot{c.seen}
		if len(c.added)+len(c.altered) > 0 {
			clear(at.settled)
		}
		look.Reachable = true
		look.Files, look.Folders, look.New, look.Changed, look.Gone = c.files, c.folders, c.new, c.changed, c.gone
		for _, s := range c.skipped {
			look.Skipped = append(look.Skipped, records.Skipped{Path: filename.Show(s.Path), Why: s.Why})
		}
	}
	if look.Reachable != at.reachable {
		clear(at.settled)
		w.Log.Info("a place changed", "place", p.Name, "reachable", look.Reachable, "why", look.Why)
	}
	at.reachable = look.Reachable
	look.Ended = w.Clock()
	return look, w.Store.SaveLook(ctx, p.ID, look)
}

func (w *Watcher) save(ctx context.Context, place int64, c *comparison) error {
	if len(c.added) > 0 {
		first, err := w.Store.ReserveFileIDs(ctx, len(c.added))
		if err != nil {
			return err
		}
		c.number(first)
	}
	if len(c.added)+len(c.altered) == 0 {
		return nil
	}
	return w.Store.SaveFiles(ctx, place, c.added, c.altered)
}

// Judge judges one input anew, after its definition or its baseline changed,
// and reads the picked files that were not read under its layout.
func (w *Watcher) Judge(ctx context.Context, in records.Input) error {
	p, err := w.Store.Place(ctx, in.Place)
	if err != nil {
		return err
	}
	at, err := w.enter(ctx, p)
	if err != nil {
		return err
	}
	defer at.mu.Unlock()
	clear(at.settled) // what one input delivers is left out of the others
	return w.settle(ctx, at, in)
}

// settle judges an input, then reads what has to be read and judges again.
func (w *Watcher) settle(ctx context.Context, at *watched, in records.Input) error {
	view, err := w.judge(ctx, at, in)
	if err == nil && len(view.unread) > 0 {
		if err := w.check(ctx, at, view); err != nil {
			return err
		}
		// The roster may have been recorded, so read what it counts now.
		if in, err = w.Store.InputByID(ctx, in.ID); err != nil {
			return err
		}
		view, err = w.judge(ctx, at, in)
	}
	if err == nil && len(view.unread) == 0 {
		at.settled[in.ID] = in.Version
	}
	return err
}

// Prepare looks at the place of an input and returns what a refresh works on.
func (w *Watcher) Prepare(ctx context.Context, in records.Input) (View, error) {
	p, err := w.Store.Place(ctx, in.Place)
	if err != nil {
		return View{}, err
	}
	at, err := w.enter(ctx, p)
	if err != nil {
		return View{}, err
	}
	defer at.mu.Unlock()
	look, err := w.look(ctx, p, at)
	if err != nil {
		return View{}, err
	}
	w.Events.Publish("look", LookEvent{p.Name, look})
	view, err := w.judge(ctx, at, in)
	view.Unreachable = look.Why
	return view, err
}

// ownPaths returns the paths in a place that deliveries are written to.
func (w *Watcher) ownPaths(ctx context.Context, directory string) ([]string, error) {
	root, err := filepath.EvalSymlinks(directory)
	if err != nil {
		return nil, nil // a place that is not there holds no delivery
	}
	deliveries, err := filepath.EvalSymlinks(w.Deliveries)
	if err != nil {
		return nil, nil
	}
	rel, err := filepath.Rel(root, deliveries)
	if err != nil || !filepath.IsLocal(rel) {
		return nil, nil
	}
	names, err := w.Store.DeliveredFiles(ctx)
	for i, name := range names {
		names[i] = filepath.Join(rel, name)
	}
	return names, err
}
