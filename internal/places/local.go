package places

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
)

// Local is a directory of this machine, mounted shares included. It is opened
// through os.Root below a directory that the operator allowed, so that neither
// a link nor a path can lead out of it.
type Local struct {
	base string // the allowed directory
	rel  string // the place below it
}

// Allowed is a list of directories that places may lie in or below.
type Allowed []string

// NotAllowed says that a directory lies in none of the allowed ones.
type NotAllowed struct {
	Directory string
	Allowed   Allowed
}

func (e *NotAllowed) Error() string {
	if len(e.Allowed) == 0 {
		return fmt.Sprintf("%s is not allowed: no directory is", e.Directory)
	}
	return fmt.Sprintf("%s is not allowed: it lies in none of %s", e.Directory, strings.Join(e.Allowed, ", "))
}

// Local returns the place at an absolute directory, which need not exist now.
func (a Allowed) Local(directory string) (*Local, error) {
	if !filepath.IsAbs(directory) {
		return nil, fmt.Errorf("%s is no absolute path", directory)
	}
	clean := filepath.Clean(directory)
	for _, base := range a {
		base = filepath.Clean(base)
		rel, err := filepath.Rel(base, clean)
		if err == nil && filepath.IsLocal(rel) {
			return &Local{base, rel}, nil
		}
	}
	return nil, &NotAllowed{directory, a}
}

func (l *Local) root() (*os.Root, error) {
	base, err := os.OpenRoot(l.base)
	if err != nil {
		return nil, &Unreachable{filepath.Join(l.base, l.rel), err}
	}
	defer base.Close()
	root, err := base.OpenRoot(l.rel)
	if err != nil {
		return nil, &Unreachable{filepath.Join(l.base, l.rel), err}
	}
	return root, nil
}

// Mounted implements Mountable.
func (l *Local) Mounted() (bool, error) {
	root, err := l.root()
	if err != nil {
		return false, err
	}
	defer root.Close()
	dir, err := root.Open(".")
	if err != nil {
		return false, &Unreachable{root.Name(), err}
	}
	defer dir.Close()
	var st unix.Statx_t
	if err := unix.Statx(int(dir.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_BASIC_STATS, &st); err != nil {
		return false, &Unreachable{root.Name(), err}
	}
	return st.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0, nil
}

// identity is a directory's own, by which a loop of links is told.
type identity struct{ dev, inode uint64 }

// walk is a folder waiting to be listed.
type walk struct {
	path   string
	linked bool
	self   identity
	up     *walk
}

// listers is how many folders are listed at a time.
const listers = 4

// List implements Place. Links to files and folders inside the place are
// followed; a linked folder's own links to folders are not, and no link to a
// folder it lies in.
func (l *Local) List(ctx context.Context, visit func(Folder) error) error {
	root, err := l.root()
	if err != nil {
		return err
	}
	defer root.Close()
	first, err := root.Stat(".")
	if err != nil {
		return &Unreachable{root.Name(), err}
	}
	start := &walk{self: identify(first)}

	var (
		mu      sync.Mutex
		waiting = []*walk{start}
		open    = 1
		turn    = sync.NewCond(&mu)
		seen    sync.Mutex
	)
	group, ctx := errgroup.WithContext(ctx)
	stop := context.AfterFunc(ctx, func() { mu.Lock(); turn.Broadcast(); mu.Unlock() })
	defer stop()
	for range listers {
		group.Go(func() error {
			for {
				mu.Lock()
				for len(waiting) == 0 && open > 0 && ctx.Err() == nil {
					turn.Wait()
				}
				if open == 0 || ctx.Err() != nil {
					mu.Unlock()
					return ctx.Err()
				}
				next := waiting[len(waiting)-1]
				waiting = waiting[:len(waiting)-1]
				mu.Unlock()

				folder, below := list(root, next)
				if folder.Err != nil && next.up == nil {
					return &Unreachable{root.Name(), folder.Err}
				}
				seen.Lock()
				err := visit(folder)
				seen.Unlock()
				if err != nil {
					return err
				}
				mu.Lock()
				waiting = append(waiting, below...)
				open += len(below) - 1
				turn.Broadcast()
				mu.Unlock()
			}
		})
	}
	return group.Wait()
}

func identify(info fs.FileInfo) identity {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return identity{uint64(st.Dev), st.Ino}
	}
	return identity{}
}

// list lists one folder, and returns the folders in it.
func list(root *os.Root, w *walk) (Folder, []*walk) {
	folder := Folder{Path: w.path}
	name := w.path
	if name == "" {
		name = "."
	}
	dir, err := root.OpenFile(name, os.O_RDONLY|unix.O_DIRECTORY|unix.O_NONBLOCK, 0)
	if err != nil {
		folder.Err = err
		return folder, nil
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	if err != nil {
		folder.Err = err
		return folder, nil
	}
	folder.Files = make([]Entry, 0, len(names))
	var below []*walk
	fd := int(dir.Fd())
	for _, name := range names {
		path := name
		if w.path != "" {
			path = w.path + "/" + name
		}
		skip := func(why string) { folder.Skipped = append(folder.Skipped, Skipped{path, why}) }
		var st unix.Stat_t
		if err := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			if err != unix.ENOENT { // gone meanwhile
				folder.Err = fmt.Errorf("%s: %w", name, err)
			}
			continue
		}
		linked := w.linked
		if st.Mode&unix.S_IFMT == unix.S_IFLNK {
			info, err := root.Stat(path)
			if err != nil {
				skip("a link that leads nowhere in the place")
				continue
			}
			sys, ok := info.Sys().(*syscall.Stat_t)
			if !ok {
				continue
			}
			if info.IsDir() {
				if w.linked {
					skip("a link to a folder, inside a linked folder")
					continue
				}
				if w.within(identify(info)) {
					skip("a link to a folder it lies in")
					continue
				}
				linked = true
			}
			st = unix.Stat_t{Dev: uint64(sys.Dev), Ino: sys.Ino, Mode: sys.Mode, Size: sys.Size, Mtim: unix.Timespec(sys.Mtim), Ctim: unix.Timespec(sys.Ctim)}
		}
		switch st.Mode & unix.S_IFMT {
		case unix.S_IFREG:
			folder.Files = append(folder.Files, Entry{name, mark(&st)})
		case unix.S_IFDIR:
			below = append(below, &walk{path: path, linked: linked, self: identity{st.Dev, st.Ino}, up: w})
		default:
			skip("neither a file nor a folder")
		}
	}
	return folder, below
}

// ListFolder implements Lister.
func (l *Local) ListFolder(path string) (Folder, []string, error) {
	root, err := l.root()
	if err != nil {
		return Folder{}, nil, err
	}
	defer root.Close()
	at, err := chain(root, path)
	if err != nil {
		return Folder{Path: path, Err: err}, nil, nil
	}
	folder, below := list(root, at)
	paths := make([]string, len(below))
	for i, w := range below {
		paths[i] = w.path
	}
	return folder, paths, nil
}

// chain returns the walk to a folder from the root, so that a listing of it
// alone knows the loops of links that one of everything would.
func chain(root *os.Root, path string) (*walk, error) {
	info, err := root.Stat(".")
	if err != nil {
		return nil, err
	}
	at := &walk{self: identify(info)}
	if path == "" {
		return at, nil
	}
	parts := strings.Split(path, "/")
	for i := range parts {
		here := strings.Join(parts[:i+1], "/")
		link, err := root.Lstat(here)
		if err != nil {
			return nil, err
		}
		if info, err = root.Stat(here); err != nil {
			return nil, err
		}
		at = &walk{path: here, linked: at.linked || link.Mode()&fs.ModeSymlink != 0, self: identify(info), up: at}
	}
	return at, nil
}

// within reports whether id is the folder w or one it lies in.
func (w *walk) within(id identity) bool {
	for ; w != nil; w = w.up {
		if w.self == id {
			return true
		}
	}
	return false
}

func mark(st *unix.Stat_t) Mark {
	return Mark{Size: st.Size, Modified: st.Mtim.Nano(), Changed: st.Ctim.Nano(), Inode: st.Ino}
}

// Open implements Place.
func (l *Local) Open(path string) (File, error) {
	root, err := l.root()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	// A pipe must not make the opening wait.
	f, err := root.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: path, Err: ErrNotAFile}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return localFile{f}, nil
}

type localFile struct{ *os.File }

func (f localFile) Mark() (Mark, error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return Mark{}, err
	}
	return mark(&st), nil
}

// reason says in words why something could not be opened.
func reason(err error) string {
	var path *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "it is not there"
	case errors.Is(err, fs.ErrPermission):
		return "the service may not read it"
	case errors.As(err, &path):
		return path.Err.Error()
	}
	return err.Error()
}

// Reason says in words why a place, folder or file could not be opened.
func Reason(err error) string {
	var unreachable *Unreachable
	if errors.As(err, &unreachable) {
		return reason(unreachable.Err)
	}
	return reason(err)
}

// Locked reports whether a file could not be opened or read because another
// program has it open and locked.
func Locked(err error) bool {
	for _, locked := range []error{unix.EBUSY, unix.ETXTBSY, unix.EAGAIN, unix.EDEADLK} {
		if errors.Is(err, locked) {
			return true
		}
	}
	return false
}
