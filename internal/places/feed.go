package places

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/fsnotify/fsnotify"
	"golang.org/x/sys/unix"
)

// Events implements Eventful.
func (l *Local) Events() (Feed, error) {
	watcher, err := fsnotify.NewBufferedWatcher(4096)
	if err != nil {
		return nil, fmt.Errorf("file events are not to be had: %w", err)
	}
	f := &localFeed{base: filepath.Join(l.base, l.rel), watcher: watcher, changed: make(chan Change, 256), done: make(chan struct{})}
	go f.run()
	return f, nil
}

type localFeed struct {
	base    string
	watcher *fsnotify.Watcher
	changed chan Change
	done    chan struct{}
}

// ErrWatchLimit is in the error of a feed that can take no more folders.
var ErrWatchLimit = errors.New("the system's limit of watched folders is reached (fs.inotify.max_user_watches)")

// Add implements Feed.
func (f *localFeed) Add(folder string) error {
	err := f.watcher.Add(filepath.Join(f.base, folder))
	if errors.Is(err, unix.ENOSPC) {
		return ErrWatchLimit
	}
	return err
}

// Changed implements Feed.
func (f *localFeed) Changed() <-chan Change { return f.changed }

// Close implements Feed.
func (f *localFeed) Close() error {
	err := f.watcher.Close()
	<-f.done
	return err
}

func (f *localFeed) run() {
	defer close(f.done)
	defer close(f.changed)
	for {
		select {
		case e, open := <-f.watcher.Events:
			if !open {
				return
			}
			if folder, ok := f.folderOf(e.Name); ok {
				f.tell(Change{Folder: folder})
			}
		case _, open := <-f.watcher.Errors:
			if !open {
				return
			}
			f.tell(Change{Lost: true}) // an overflow, or worse
		}
	}
}

// tell hands a change on; where nobody takes it, that it is lost.
func (f *localFeed) tell(c Change) {
	select {
	case f.changed <- c:
	default:
		select {
		case <-f.changed: // make room
		default:
		}
		select {
		case f.changed <- Change{Lost: true}:
		default:
		}
	}
}

// folderOf returns the folder, below the place, of what changed.
func (f *localFeed) folderOf(name string) (string, bool) {
	rel, err := filepath.Rel(f.base, filepath.Dir(name))
	if err != nil || strings.HasPrefix(rel, "..") {
		return "", name == f.base
	}
	if rel == "." {
		rel = ""
	}
	return rel, true
}
