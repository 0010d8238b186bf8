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

	"jorvex/internal/core/shaping"
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

// Stage writes the table as delimited text (RFC 4180: commas, CRLF, a header
// row; UTF-8) under a name of its own beside the delivery's, and flushes it.
func (f *Folder) Stage(staged string, table Combined) (Staged, error) {
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
	both := io.MultiWriter(hash, file)
	head := []byte{}
	for i, c := range table.Columns {
		if i > 0 {
			head = append(head, ',')
		}
		head = shaping.AppendText(head, []byte(c.Name))
	}
	if _, err := both.Write(append(head, '\r', '\n')); err != nil {
		return Staged{}, fmt.Errorf("write a delivery: %w", err)
	}
	rows, err := table.WriteTo(both)
	if err == nil {
		err = file.Sync()
	}
	if err != nil {
		return Staged{}, fmt.Errorf("write a delivery: %w", err)
	}
	return Staged{Bytes: int64(len(head)+2) + rows, Digest: hex.EncodeToString(hash.Sum(nil))}, nil
}

// Put gives a staged file its final name, in the place of the one before. It
// may be called again after it was done.
func (f *Folder) Put(staged, final string) error {
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
		if err != nil || d.IsDir() || !strings.HasPrefix(d.Name(), workingPrefix) || keep[name] {
			return nil
		}
		return f.root.Remove(name)
	})
}

// Remove takes away a staged file of a refresh that was not delivered.
func (f *Folder) Remove(staged string) {
	_ = f.root.Remove(staged)
}
