package deliver

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"

	"jorvex/internal/core/definition"
)

// workingPrefix begins the names of files that are not yet delivered.
const workingPrefix = ".jorvex-"

// Folder is the directory that file deliveries go to. Nothing is written
// outside it.
type Folder struct {
	root *os.Root
}

// OpenFolder opens dir, which is made if it is not there.
func OpenFolder(dir string) (*Folder, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("make the delivery folder: %w", err)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("open the delivery folder: %w", err)
	}
	return &Folder{root}, nil
}

// Path returns the full path of a delivery.
func (f *Folder) Path(name string) string { return path.Join(f.root.Name(), name) }

// Close closes the folder.
func (f *Folder) Close() error { return f.root.Close() }

// StagedName is the name under which a refresh stages a delivery.
func StagedName(refresh int64, name string) string {
	return path.Join(path.Dir(name), fmt.Sprintf("%s%d-%s", workingPrefix, refresh, path.Base(name)))
}

// Stage writes the table in the delivery's format under a name of its own beside
// the delivery's, and flushes it.
func (f *Folder) Stage(staged string, d definition.Delivery, table Combined) (Staged, error) {
	return f.write(staged, func(w io.Writer) error { return Write(w, d, table) })
}

func (f *Folder) write(staged string, write func(io.Writer) error) (Staged, error) {
	if dir := path.Dir(staged); dir != "." {
		if err := f.root.MkdirAll(dir, 0o755); err != nil {
			return Staged{}, fmt.Errorf("make the folder %s of a delivery: %w", dir, err)
		}
	}
	file, err := f.root.OpenFile(staged, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return Staged{}, fmt.Errorf("write a delivery: %w", err)
	}
	defer file.Close()
	hash := sha256.New()
	counted := &counter{w: io.MultiWriter(hash, file)}
	err = write(counted)
	if err == nil {
		err = file.Sync()
	}
	if err != nil {
		return Staged{}, fmt.Errorf("write a delivery: %w", err)
	}
	return Staged{Bytes: counted.n, Digest: hex.EncodeToString(hash.Sum(nil))}, nil
}

// counter counts what is written.
type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

// StageFiles copies the files that feed into a folder of its own beside the
// delivery's. below is what they are named from. It returns their names below the
// delivery.
func (f *Folder) StageFiles(staged, below string, table Combined) (s Staged, names []string, err error) {
	hash := sha256.New()
	err = table.Parts(func(source *Source, _ io.Reader) error {
		name := BelowFolder(source.Path, below)
		content, err := source.Open()
		if err != nil {
			return err
		}
		defer content.Close()
		one, err := f.write(path.Join(staged, name), func(w io.Writer) error {
			_, err := io.Copy(w, content)
			return err
		})
		if err != nil {
			return err
		}
		names = append(names, name)
		s.Bytes += one.Bytes
		fmt.Fprintf(hash, "%s %q\n", one.Digest, name)
		return nil
	})
	s.Digest = hex.EncodeToString(hash.Sum(nil))
	return s, names, err
}

// There reports whether something lies where a delivery goes.
func (f *Folder) There(name string) bool {
	_, err := f.root.Lstat(name)
	return err == nil
}

// Writable tells, before the work is done, whether a delivery can be written.
func (f *Folder) Writable(name string) error {
	if info, err := f.root.Stat(name); err == nil && info.IsDir() {
		return fmt.Errorf("the delivery %s cannot be written: a folder has its name", name)
	}
	probe := path.Join(path.Dir(name), workingPrefix+"probe-"+path.Base(name))
	if err := f.root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return fmt.Errorf("the delivery %s cannot be written: %w", name, err)
	}
	file, err := f.root.OpenFile(probe, os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("the delivery %s cannot be written: %w", name, err)
	}
	return errors.Join(file.Close(), f.root.Remove(probe))
}

// Removal is what is staged for a file that is to go when the refresh counts.
func Removal(final string) (staged string) { return "-" + final }

// Put gives a staged file its final name, in the place of the one before, or takes
// it away. It may be called again after it was done.
func (f *Folder) Put(staged, final string) error {
	if staged == Removal(final) {
		if err := f.root.Remove(final); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("take away %s, which is delivered no more: %w", final, err)
		}
		return nil
	}
	if err := f.root.MkdirAll(path.Dir(final), 0o755); err != nil {
		return fmt.Errorf("put the delivery %s in its place: %w", final, err)
	}
	err := f.root.Rename(staged, final)
	if errors.Is(err, fs.ErrNotExist) {
		if _, errFinal := f.root.Stat(final); errFinal == nil {
			return nil
		}
	}
	if err != nil {
		return fmt.Errorf("put the delivery %s in its place: %w", final, err)
	}
	dir, err := f.root.Open(path.Dir(final))
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Sync()
}

// Clear removes staged files that no commit counts, keep being those it does.
func (f *Folder) Clear(keep map[string]bool) error {
	return fs.WalkDir(f.root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasPrefix(d.Name(), workingPrefix) || keep[name] {
			return nil
		}
		if d.IsDir() {
			if err := f.root.RemoveAll(name); err != nil {
				return err
			}
			return fs.SkipDir
		}
		return f.root.Remove(name)
	})
}

// Remove takes away a staged file of a refresh that was not delivered.
func (f *Folder) Remove(staged string) {
	_ = f.root.RemoveAll(staged)
}
