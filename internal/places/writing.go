package places

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
)

// Writable is a place in which files can be set aside, moved, copied and removed.
// Nothing in it is ever overwritten: a name that is taken is fs.ErrExist.
type Writable interface {
	Place
	// SetAside gives a file its reserved name, at once. It returns that.
	SetAside(at string, id int64) (aside string, err error)
	// Move gives a file another path, whose folder is made if it is not there. It
	// may be called again after it was cut off.
	Move(from, to string) error
	// Write writes a new file, whole or not at all.
	Write(path string, content io.Reader) error
	Remove(path string) error
}

// Reserved is the name, in the same folder, under which a file is set aside. Files
// with such names are never looked at.
func Reserved(at string, id int64) string {
	return path.Join(path.Dir(at), fmt.Sprintf("%s%d-%s", reservedPrefix, id, path.Base(at)))
}

const reservedPrefix = ".jorvex-aside-"

// IsReserved reports whether a name is one that Jorvex set a file aside under.
func IsReserved(name string) bool { return strings.HasPrefix(name, reservedPrefix) }

// SetAside implements Writable.
func (l *Local) SetAside(at string, id int64) (string, error) {
	root, err := l.root()
	if err != nil {
		return "", err
	}
	defer root.Close()
	aside := Reserved(at, id)
	return aside, root.Rename(at, aside)
}

// Move implements Writable. A hard link takes a name only if it is free, which a
// renaming does not; where there are no links, the content is copied.
func (l *Local) Move(from, to string) error {
	root, err := l.root()
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.MkdirAll(path.Dir(to), 0o755); err != nil {
		return err
	}
	err = root.Link(from, to)
	if err == nil {
		return errors.Join(root.Remove(from), syncFolder(root, path.Dir(to)))
	}
	if errors.Is(err, fs.ErrExist) && sameFile(root, from, to) {
		return root.Remove(from) // it was cut off between the two
	}
	if errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) {
		return err
	}
	content, err := root.Open(from)
	if err != nil {
		return err
	}
	defer content.Close()
	info, err := content.Stat()
	if err != nil {
		return err
	}
	if err := l.write(root, to, content); err != nil {
		return err
	}
	return errors.Join(root.Chtimes(to, info.ModTime(), info.ModTime()), root.Remove(from))
}

// sameFile reports whether two names are of one file.
func sameFile(root *os.Root, a, b string) bool {
	one, err := root.Lstat(a)
	other, err2 := root.Lstat(b)
	return err == nil && err2 == nil && os.SameFile(one, other)
}

// Write implements Writable.
func (l *Local) Write(to string, content io.Reader) error {
	root, err := l.root()
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.MkdirAll(path.Dir(to), 0o755); err != nil {
		return err
	}
	return l.write(root, to, content)
}

func (l *Local) write(root *os.Root, to string, content io.Reader) error {
	if _, err := root.Lstat(to); err == nil {
		return &fs.PathError{Op: "write", Path: to, Err: fs.ErrExist}
	}
	aside := path.Join(path.Dir(to), reservedPrefix+"new-"+path.Base(to))
	f, err := root.OpenFile(aside, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, content)
	if err == nil {
		err = f.Sync()
	}
	err = errors.Join(err, f.Close())
	if err == nil {
		if err = root.Link(aside, to); err != nil && !errors.Is(err, fs.ErrExist) {
			err = root.Rename(aside, to)
		}
	}
	_ = root.Remove(aside)
	if err == nil {
		err = syncFolder(root, path.Dir(to))
	}
	return err
}

// Remove implements Writable.
func (l *Local) Remove(at string) error {
	root, err := l.root()
	if err != nil {
		return err
	}
	defer root.Close()
	return root.Remove(at)
}

func syncFolder(root *os.Root, folder string) error {
	d, err := root.Open(folder)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
