// Package watch decides when to look at a place, and brings the records in
// step with what a look saw: the files, and the roster of every input.
package watch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"path/filepath"
	"sync"
	"time"

	"jorvex/internal/core/filename"
	worth "jorvex/internal/core/notice"
	"jorvex/internal/events"
	"jorvex/internal/notice"
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
	Desk       *notice.Desk
	Clock      func() time.Time
	Log        *slog.Logger
	// Every is the time between two looks at a place, and Settle how long a file
	// must be left alone for to be read, and missed for to be gone. A place may
	// have its own.
	Every, Settle time.Duration
	// Eventless has changes seen by timed looks alone.
	Eventless bool

	mu     sync.Mutex
	places map[int64]*watched
	base   baselines
	made   made
}

// watched is one place with what is known of it.
type watched struct {
	mu        sync.Mutex
	place     places.Place
	directory string
	settled   map[int64]settled // by input
	lists     map[int64]list    // of hand-made lists, by input

	// state guards what a trial reads while a look goes on; who holds mu may
	// read it without.
	state     sync.RWMutex
	reachable bool
	snapshot  *snapshot
	checks    map[string]map[string]records.Known // layout -> digest
	arriving  map[string]arrival                  // files that are not settled, by path
	missing   map[string]time.Time                // since when files are missed, by path
	events    string                              // why events are not had, or not for all folders
	mounted   bool                                // it was a mounted file system; guarded by mu
	every     time.Duration                       // between two looks
	settle    time.Duration                       // that a file must be left alone for
}

// arrival is a file with a mark that has not stood for long.
type arrival struct {
	mark  places.Mark
	since time.Time
}

// settled says that an input's roster is up to date, for a version of its
// definition, and until when if nothing changes.
type settled struct {
	version int64
	folder  string // of the place that its files lie below, raw bytes
	until   time.Time
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
		at = &watched{place: local, directory: p.Directory, reachable: p.Reachable, mounted: p.Mounted, checks: map[string]map[string]records.Known{}, settled: map[int64]settled{}, lists: map[int64]list{},
			missing: map[string]time.Time{}, arriving: map[string]arrival{}}
		at.every, at.settle = w.pace(p)
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
		at.state.Lock()
		at.snapshot = s
		at.state.Unlock()
		w.resume(at)
	}
	return at, nil
}

// pace returns how a place is to be watched.
func (w *Watcher) pace(p records.Place) (every, settle time.Duration) {
	return cmp.Or(p.Every(), w.Every), cmp.Or(p.Settle(), w.Settle)
}

// Pace takes up how a place is to be watched from now on.
func (w *Watcher) Pace(ctx context.Context, p records.Place) error {
	at, err := w.peek(ctx, p.Name)
	if err != nil {
		return err
	}
	at.state.Lock()
	defer at.state.Unlock()
	at.every, at.settle = w.pace(p)
	return nil
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
	if err := w.judgeAll(ctx, p, at); err != nil {
		return look, err
	}
	w.Events.Publish("look", LookEvent{p.Name, look})
	return look, nil
}

// judgeAll judges the inputs of a place whose rosters are not up to date.
func (w *Watcher) judgeAll(ctx context.Context, p records.Place, at *watched) error {
	inputs, err := w.Store.InputsOf(ctx, p.ID)
	if err != nil {
		return err
	}
	for _, in := range inputs {
		if s := at.settled[in.ID]; s.version == in.Version && w.Clock().Before(s.until) {
			continue
		}
		if err := w.settle(ctx, at, in); err != nil {
			return fmt.Errorf("judge the files of %s: %w", in.Name, err)
		}
	}
	return nil
}

// look lists the place and records the difference.
func (w *Watcher) look(ctx context.Context, p records.Place, at *watched) (records.Look, error) {
	look := records.Look{Started: w.Clock()}
	c := w.comparison(at)
	err := w.mounted(ctx, p.ID, at)
	if err == nil {
		err = at.place.List(ctx, c.visit)
	}
	var unreachable *places.Unreachable
	switch {
	case errors.As(err, &unreachable):
		look.Why = places.Reason(err)
	case err != nil:
		return look, err
	default:
		if err := w.apply(ctx, p.ID, at, c); err != nil {
			return look, err
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
	at.state.Lock()
	at.reachable = look.Reachable
	at.state.Unlock()
	look.Ended = w.Clock()
	if err := w.Store.SaveLook(ctx, p.ID, look); err != nil {
		return look, err
	}
	return look, w.Desk.Place(ctx, p, look.Reachable, look.Why)
}

// mounted sees that a place that was a mounted file system is one still. What
// lies in the directory beneath is not the place.
func (w *Watcher) mounted(ctx context.Context, place int64, at *watched) error {
	m, may := at.place.(places.Mountable)
	if !may {
		return nil
	}
	now, err := m.Mounted()
	switch {
	case err != nil:
		return err
	case at.mounted && !now:
		return &places.Unreachable{Place: at.directory, Err: places.ErrUnmounted}
	case now && !at.mounted:
		at.mounted = true
		return w.Store.MountPlace(ctx, place, true)
	}
	return nil
}

// Unmounted takes note that a place's directory is no mounted file system any
// more, and looks at it as it is.
func (w *Watcher) Unmounted(ctx context.Context, p records.Place) error {
	at, err := w.enter(ctx, p)
	if err != nil {
		return err
	}
	at.mounted = false
	err = w.Store.MountPlace(ctx, p.ID, false)
	at.mu.Unlock()
	if err == nil {
		_, err = w.Look(ctx, p)
	}
	return err
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

// soonRead is how many files are read before the roster is recorded, so that a
// broken file is not told as whole for a moment. More take a while.
const soonRead = 200

// settle judges an input, then reads what has to be read and judges again: a
// file that the bytes of another leave out makes room for a third.
func (w *Watcher) settle(ctx context.Context, at *watched, in records.Input) error {
	for range 3 {
		view, err := w.judge(ctx, at, in, records.Request{})
		if err != nil {
			return err
		}
		if len(view.unread) == 0 || len(view.unread) > soonRead {
			if err := view.save(); err != nil {
				return err
			}
		}
		if len(view.unread) == 0 {
			at.settled[in.ID] = settled{in.Version, view.Definition.Folder, view.until}
			return w.tell(ctx, at, view)
		}
		if err := w.check(ctx, at, view); err != nil {
			return err
		}
		// The roster may have been recorded, so read what it counts now.
		if in, err = w.Store.InputByID(ctx, in.ID); err != nil {
			return err
		}
	}
	view, err := w.judge(ctx, at, in, records.Request{})
	if err != nil {
		return err
	}
	if err := view.save(); err != nil {
		return err
	}
	return w.tell(ctx, at, view)
}

// tell hands on what lasts. Of what is not seen there is no news.
func (w *Watcher) tell(ctx context.Context, at *watched, view View) error {
	if !at.reachable {
		return nil
	}
	if view.Definition.Refresh.Complete {
		periods := []string{}
		for _, period := range view.standing[worth.Complete] {
			periods = append(periods, period.Key)
		}
		if err := w.Store.NoteComplete(ctx, view.Input.ID, periods); err != nil {
			return err
		}
	}
	return w.Desk.Input(ctx, view.Input, view.standing)
}

// Prepare looks at the place of an input and returns what a refresh works on.
func (w *Watcher) Prepare(ctx context.Context, in records.Input, request records.Request) (View, error) {
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
	var view View
	for range 3 {
		if view, err = w.judge(ctx, at, in, request); err != nil || len(view.needed) == 0 {
			break
		}
		// Their bytes decide the verdict, so they are read before the refresh is.
		view.unread = view.needed
		if err = w.check(ctx, at, view); err != nil {
			break
		}
		if in, err = w.Store.InputByID(ctx, in.ID); err != nil {
			break
		}
	}
	view.Unreachable, view.Directory, view.Writable = look.Why, p.Directory, p.Writable
	if err == nil && view.save != nil {
		err = view.save()
	}
	return view, err
}

// made is what was ever delivered as files.
type made struct {
	mu      sync.Mutex
	last    int64                       // receipt
	content map[int64]map[string]string // size, then digest, to the name
	names   map[string]bool
}

// own returns the paths in a place that deliveries are or were written to, and
// what they held.
func (w *Watcher) own(ctx context.Context, directory string) (paths map[string]bool, content map[int64]map[string]string, err error) {
	w.made.mu.Lock()
	defer w.made.mu.Unlock()
	list, err := w.Store.MadeSince(ctx, w.made.last)
	if err != nil {
		return nil, nil, err
	}
	if len(list) > 0 || w.made.content == nil {
		// Judges read the maps they were given while these grow.
		w.made.content, w.made.names = cloneContent(w.made.content), maps.Clone(w.made.names)
		if w.made.names == nil {
			w.made.names = map[string]bool{}
		}
	}
	for _, m := range list {
		if w.made.content[m.Size] == nil {
			w.made.content[m.Size] = map[string]string{}
		}
		if m.Kind == "file" && m.Size > 0 {
			w.made.content[m.Size][m.Digest] = m.Name
		}
		w.made.names[m.Name] = true
		w.made.last = max(w.made.last, m.Receipt)
	}
	paths = map[string]bool{}
	declared, err := w.Store.DeliveredFiles(ctx)
	if err != nil {
		return nil, nil, err
	}
	if below, inside := inside(directory, w.Deliveries); inside {
		for name := range w.made.names {
			paths[filepath.Join(below, name)] = true
		}
		for _, name := range declared {
			paths[filepath.Join(below, name)] = true
		}
	}
	targets, err := w.Store.HandoverTargets(ctx, directory)
	for _, path := range targets {
		paths[path] = true
	}
	return paths, w.made.content, err
}

func cloneContent(content map[int64]map[string]string) map[int64]map[string]string {
	clone := make(map[int64]map[string]string, len(content))
	for size, digests := range content {
		clone[size] = maps.Clone(digests)
	}
	return clone
}

// inside returns the path of the delivery folder below a place, if it is.
func inside(directory, deliveries string) (string, bool) {
	root, err := filepath.EvalSymlinks(directory)
	if err != nil {
		return "", false // a place that is not there holds no delivery
	}
	if deliveries, err = filepath.EvalSymlinks(deliveries); err != nil {
		return "", false
	}
	below, err := filepath.Rel(root, deliveries)
	return below, err == nil && filepath.IsLocal(below)
}
