// Package places is the outside world that files are dropped in. A Place lists
// its folders and opens its files; what more a kind can do is an interface of
// its own, found by type assertion.
//
// Names are raw bytes with / between them. A place never shows a file outside
// its root, whatever links lie in it.
package places

import (
	"context"
	"errors"
	"io"
)

// Place is one base location. Its methods may be used by many goroutines.
type Place interface {
	// List calls visit once for every folder, the root as "", one call at a
	// time and in no order. A folder that cannot be listed comes with its error
	// and no files. List itself fails only if the root cannot be listed, with an
	// *Unreachable, if visit fails, or if ctx ends.
	List(ctx context.Context, visit func(Folder) error) error

	// Open opens the file at path for reading. Errors are those of io/fs:
	// fs.ErrNotExist and fs.ErrPermission can be told with errors.Is.
	Open(path string) (File, error)
}

// Folder is one listed folder with the files that lie directly in it.
type Folder struct {
	Path    string
	Files   []Entry   // in no order
	Err     error     // the folder could not be listed; its files are unknown
	Skipped []Skipped // entries that are no files, with the reason
}

// Entry is a file as its folder lists it.
type Entry struct {
	Name string
	Mark
}

// Mark is what tells one version of a file from another without reading it.
type Mark struct {
	Size     int64 // bytes
	Modified int64 // nanoseconds since 1970-01-01 UTC
	Changed  int64 // the same for its metadata, 0 where the place has none
	Inode    uint64
}

// Skipped is an entry that was not listed.
type Skipped struct {
	Path string
	Why  string
}

// File is an open file.
type File interface {
	io.ReadCloser
	// Mark returns the file's mark as it is now.
	Mark() (Mark, error)
}

// Unreachable says that a place cannot be looked at. Its files are unknown,
// not gone.
type Unreachable struct {
	Place string
	Err   error
}

func (e *Unreachable) Error() string { return e.Place + " cannot be reached: " + reason(e.Err) }

func (e *Unreachable) Unwrap() error { return e.Err }

// ErrOutside is in the error for a path or link that leads out of a place.
var ErrOutside = errors.New("it leads outside the place")

// ErrNotAFile is in the error for an entry that is no regular file.
var ErrNotAFile = errors.New("it is no regular file")

// Lister is a place that lists one folder at a time, so that a look at what an
// event told of need not be one at everything.
type Lister interface {
	// ListFolder returns a folder and the paths of the folders in it. An error
	// is an *Unreachable; what is wrong with the folder itself is in Folder.Err.
	ListFolder(path string) (Folder, []string, error)
}

// Mountable is a place that may be a mounted file system, which may go away and
// leave an empty directory behind.
type Mountable interface {
	// Mounted reports whether the root is that of a mounted file system.
	Mounted() (bool, error)
}

// ErrUnmounted is why a place is unreachable whose file system is not mounted.
var ErrUnmounted = errors.New("it was a mounted share and is none now")

// Eventful is a place that tells of changes as they happen. Events may be lost;
// timed looks stand behind them.
type Eventful interface {
	// Events returns a feed of changed folders, which has none until they are
	// added to it.
	Events() (Feed, error)
}

// Feed tells of changes in folders. It is closed by its only user.
type Feed interface {
	// Add has the feed tell of changes in a folder, its subfolders excluded.
	Add(folder string) error
	// Changed returns the channel of folders in which something changed.
	Changed() <-chan Change
	Close() error
}

// Change is a folder in which something changed. Lost says that others may
// have too.
type Change struct {
	Folder string
	Lost   bool
}
