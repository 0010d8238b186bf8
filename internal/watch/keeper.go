package watch

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"slices"
	"sync"
	"time"

	"jorvex/internal/core/changes"
	"jorvex/internal/core/filename"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// Run watches every place until ctx ends: by its events where it has them, and
// by looks at its own pace.
func (w *Watcher) Run(ctx context.Context) error {
	var group sync.WaitGroup
	defer group.Wait()
	kept := map[int64]bool{}
	for {
		list, err := w.Store.Places(ctx)
		if err != nil && ctx.Err() == nil {
			w.Log.Error("cannot read the places; trying again", "error", err)
		}
		for _, p := range list {
			if !kept[p.ID] {
				kept[p.ID] = true
				k := &keeper{Watcher: w, place: p, added: map[string]bool{}}
				group.Go(func() { k.run(ctx) })
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(min(w.Every, attentive)):
		}
	}
}

// keeper watches one place.
type keeper struct {
	*Watcher
	place records.Place
	feed  places.Feed
	added map[string]bool // folders that the feed tells of
}

// Bursts of events are gathered until it has been quiet for a while, or for as
// long as someone may have to wait.
const (
	quietFor    = 100 * time.Millisecond
	gatheredFor = 400 * time.Millisecond
)

// attentive is how soon a new place, or another pace, is taken up.
const attentive = 2 * time.Second

func (k *keeper) run(ctx context.Context) {
	defer func() {
		if k.feed != nil {
			_ = k.feed.Close()
		}
	}()
	var last time.Time
	for ctx.Err() == nil {
		next := last.Add(k.every())
		var changed <-chan places.Change
		if k.feed != nil {
			changed = k.feed.Changed()
		}
		wait := min(time.Until(next), attentive)
		due, is := k.due()
		if is {
			wait = min(wait, time.Until(due))
		}
		select {
		case <-ctx.Done():
			return
		case c, open := <-changed:
			if !open {
				k.feed = nil
				continue
			}
			folders, lost := k.gather(ctx, c)
			if lost {
				last = time.Time{} // a look at everything puts it right
				continue
			}
			k.try(ctx, func() error { return k.touch(ctx, folders) })
		case <-time.After(max(0, wait)):
			if now := time.Now(); now.Before(next) {
				if is && !now.Before(due) {
					k.try(ctx, func() error { return k.touch(ctx, k.dueFolders()) })
				}
				continue
			}
			k.listen(ctx)
			k.try(ctx, func() error { _, err := k.Look(ctx, k.place); return err })
			k.listen(ctx)
			last = time.Now()
		}
	}
}

// every is the time between two looks.
func (k *keeper) every() time.Duration {
	k.mu.Lock()
	at := k.places[k.place.ID]
	k.mu.Unlock()
	if at == nil {
		every, _ := k.pace(k.place)
		return every
	}
	at.state.RLock()
	defer at.state.RUnlock()
	return at.every
}

func (k *keeper) try(ctx context.Context, do func() error) {
	if err := do(); err != nil && ctx.Err() == nil {
		k.Log.Error("a look failed; looking again later", "place", k.place.Name, "error", err)
		select { // a database that is away is not asked without end
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// gather takes events until it is quiet.
func (k *keeper) gather(ctx context.Context, first places.Change) (folders []string, lost bool) {
	set := map[string]bool{first.Folder: true}
	lost = first.Lost
	until := time.After(gatheredFor)
	for {
		select {
		case <-ctx.Done():
			return nil, true
		case c, open := <-k.feed.Changed():
			if !open {
				return nil, true
			}
			set[c.Folder] = true
			lost = lost || c.Lost
			continue
		case <-time.After(quietFor):
		case <-until:
		}
		for folder := range set {
			folders = append(folders, folder)
		}
		slices.Sort(folders)
		return folders, lost
	}
}

// listen opens the feed of a place that has one, and adds the folders it does
// not tell of yet.
func (k *keeper) listen(ctx context.Context) {
	at, err := k.peek(ctx, k.place.Name)
	if err != nil {
		return
	}
	eventful, ok := at.place.(places.Eventful)
	if _, lists := at.place.(places.Lister); !ok || !lists || k.Eventless {
		k.noEvents(at, "this place has no events")
		return
	}
	if k.feed == nil {
		if k.feed, err = eventful.Events(); err != nil {
			k.noEvents(at, err.Error())
			return
		}
		clear(k.added)
	}
	why := ""
	for _, folder := range at.folders() {
		if k.added[folder] {
			continue
		}
		if err := k.feed.Add(folder); err != nil {
			if errors.Is(err, places.ErrWatchLimit) {
				why = err.Error()
				break
			}
			continue // gone meanwhile, or not to be listed
		}
		k.added[folder] = true
	}
	k.noEvents(at, why)
}

// noEvents notes why a place has no events, or not of all its folders.
func (k *keeper) noEvents(at *watched, why string) {
	at.state.Lock()
	defer at.state.Unlock()
	if at.events != why && why != "" && !k.Eventless {
		k.Log.Warn("a place has no events, or not of all its folders; timed looks see to it", "place", k.place.Name, "why", why)
	}
	at.events = why
}

// folders lists the folders of a place, the root first.
func (at *watched) folders() []string {
	at.state.RLock()
	defer at.state.RUnlock()
	list := []string{""}
	for folder := range at.snapshot.folders {
		if folder != "" {
			list = append(list, folder)
		}
	}
	slices.Sort(list)
	return list
}

// comparison prepares to hold a listing against what is known.
func (w *Watcher) comparison(at *watched) *comparison {
	at.state.RLock()
	defer at.state.RUnlock()
	return &comparison{old: at.snapshot, seen: make(map[string][]file, len(at.snapshot.folders)), now: time.Now(), span: at.settle, missing: maps.Clone(at.missing)}
}

// apply records what a comparison found, and makes it what is known.
func (w *Watcher) apply(ctx context.Context, place int64, at *watched, c *comparison) error {
	c.conclude()
	if err := w.save(ctx, place, c); err != nil {
		return err
	}
	at.state.Lock()
	at.snapshot, at.missing = &snapshot{c.seen}, c.missing
	settled := w.arrivals(at, c)
	at.state.Unlock()
	at.unsettle(c, settled)
	return nil
}

// unsettle has the inputs judged anew that have a file among those that came,
// changed, went or settled.
func (at *watched) unsettle(c *comparison, settled []string) {
	folders := map[string]bool{}
	for _, list := range [][]records.File{c.added, c.altered} {
		for i := range list {
			folder, _ := split(list[i].Path)
			folders[folder] = true
		}
	}
	for _, path := range settled {
		folder, _ := split(path)
		folders[folder] = true
	}
	for input, s := range at.settled {
		for folder := range folders {
			if _, below := filename.Below(s.folder, join(folder, "x")); below {
				delete(at.settled, input)
				break
			}
		}
	}
}

// old is how long ago a file must have been written and changed for it to count
// as settled on first sight.
const old = 10 * time.Minute

// arrivals notes files that came or changed as arriving, and returns those that
// have settled since.
func (w *Watcher) arrivals(at *watched, c *comparison) (settled []string) {
	for _, list := range [][]records.File{c.added, c.altered} {
		for i := range list {
			f := &list[i]
			delete(at.arriving, f.Path)
			if f.Evidence == changes.Present {
				delete(at.missing, f.Path)
				if at.settle > 0 && w.fresh(f.Mark) {
					at.arriving[f.Path] = arrival{f.Mark, c.now}
				}
			}
			if f.Evidence == changes.Gone {
				delete(at.missing, f.Path)
			}
		}
	}
	for path, a := range at.arriving {
		switch f := at.snapshot.find(path); {
		case f == nil || f.evidence != changes.Present:
			delete(at.arriving, path)
		case f.mark != a.mark:
			at.arriving[path] = arrival{f.mark, c.now}
		case c.now.Sub(a.since) >= at.settle:
			delete(at.arriving, path)
			settled = append(settled, path)
		}
	}
	return settled
}

// fresh reports whether a file was written or changed so lately that it must be
// seen to stand still.
func (w *Watcher) fresh(m places.Mark) bool {
	now := w.Clock().UnixNano()
	return m.Modified > now-int64(old) || m.Changed > now-int64(old)
}

// resume notes the files that were written just before the service started; one
// that was read had settled.
func (w *Watcher) resume(at *watched) {
	at.state.Lock()
	defer at.state.Unlock()
	if at.settle <= 0 {
		return
	}
	for folder, files := range at.snapshot.folders {
		for i := range files {
			f := &files[i]
			if f.evidence == changes.Present && f.read == nil && w.fresh(f.mark) {
				at.arriving[join(folder, f.name)] = arrival{f.mark, time.Now()}
			}
			if f.evidence == changes.Missing {
				at.missing[join(folder, f.name)] = time.Now()
			}
		}
	}
}

// due tells when something that arrives, or is missed, has to be looked at
// again.
func (k *keeper) due() (time.Time, bool) {
	k.mu.Lock()
	at := k.places[k.place.ID]
	k.mu.Unlock()
	if at == nil {
		return time.Time{}, false
	}
	at.state.RLock()
	defer at.state.RUnlock()
	if at.settle <= 0 {
		return time.Time{}, false
	}
	var first time.Time
	for _, a := range at.arriving {
		if first.IsZero() || a.since.Before(first) {
			first = a.since
		}
	}
	for _, since := range at.missing {
		if first.IsZero() || since.Before(first) {
			first = since
		}
	}
	if _, lists := at.place.(places.Lister); first.IsZero() || !lists {
		return time.Time{}, false
	}
	return first.Add(at.settle + 5*time.Millisecond), true
}

// dueFolders lists the folders of what arrives or is missed.
func (k *keeper) dueFolders() []string {
	k.mu.Lock()
	at := k.places[k.place.ID]
	k.mu.Unlock()
	at.state.RLock()
	defer at.state.RUnlock()
	set := map[string]bool{}
	for path := range at.arriving {
		folder, _ := split(path)
		set[folder] = true
	}
	for path := range at.missing {
		folder, _ := split(path)
		set[folder] = true
	}
	folders := make([]string, 0, len(set))
	for folder := range set {
		folders = append(folders, folder)
	}
	slices.Sort(folders)
	return folders
}

// touch looks at some folders of the place, and at those in them that are new.
func (k *keeper) touch(ctx context.Context, folders []string) error {
	at, err := k.enter(ctx, k.place)
	if err != nil {
		return err
	}
	defer at.mu.Unlock()
	c := k.comparison(at)
	c.partial = true
	err = k.mounted(ctx, k.place.ID, at)
	if err == nil {
		err = k.visit(at, c, folders)
	}
	if err != nil {
		return nil // the next look tells what is wrong with the place
	}
	fresh := len(c.seen) > len(at.snapshot.folders)
	if err := k.apply(ctx, k.place.ID, at, c); err != nil {
		return err
	}
	if fresh {
		k.listen(ctx)
	}
	return k.judgeAll(ctx, k.place, at)
}

// visit lists folders one by one.
func (k *keeper) visit(at *watched, c *comparison, folders []string) error {
	lister := at.place.(places.Lister)
	for i := 0; i < len(folders); i++ {
		folder, inside, err := lister.ListFolder(folders[i])
		if err != nil {
			return err
		}
		if errors.Is(folder.Err, fs.ErrNotExist) {
			c.removed = append(c.removed, folder.Path)
			continue
		}
		if err := c.visit(folder); err != nil {
			return err
		}
		for known := range at.snapshot.folders {
			if up, _ := split(known); known != "" && up == folder.Path && !slices.Contains(inside, known) {
				c.removed = append(c.removed, known)
			}
		}
		for _, in := range inside {
			if _, known := at.snapshot.folders[in]; !known && !slices.Contains(folders, in) {
				folders = append(folders, in)
			}
		}
	}
	return nil
}

// Standing is how a place is watched.
type Standing struct {
	Events   string // why there are no events, or not of all folders; empty if there are
	Arriving int    // files that are not settled
	Missing  int    // files that were not there at the last look
	Every    time.Duration
	Settle   time.Duration
}

// Standing returns how a place is watched.
func (w *Watcher) Standing(ctx context.Context, place string) (Standing, error) {
	at, err := w.peek(ctx, place)
	if err != nil {
		return Standing{}, err
	}
	at.state.RLock()
	defer at.state.RUnlock()
	return Standing{at.events, len(at.arriving), len(at.missing), at.every, at.settle}, nil
}
