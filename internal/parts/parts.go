// Package parts keeps the shaped parts of files: the typed rows that some bytes
// came to under some layout, so that what did not change is never read again. A
// part is named by all that decides what it holds; it can be made again at any
// time, and parts that were not used for longest go first when space is short.
//
// A part is a file in a private form: the rows compressed (S2, an extension of Snappy that is quicker than it is small), and
// beside them what is known of them as JSON.
package parts

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/s2"

	"jorvex/internal/core/shaping"
)

// form is the version of the form that parts are kept in.
const form = "1"

// Store is a directory of parts. It may be used by many goroutines.
type Store struct {
	dir      string
	most     int64
	encoders sync.Pool
	decoders sync.Pool
}

// Known is what is known of a part.
type Known struct {
	Digest string // SHA-256 of the rows, in hexadecimal; empty if nobody asked for it
	Size   int64  // of the rows, in bytes
	Kind   string // of the file's content
	Result shaping.Result
}

// Part is the rows of one file.
type Part struct {
	Known
	path  string
	store *Store
}

// ErrDamaged is in the error for a part that is not as it was written.
var ErrDamaged = errors.New("a kept part is damaged")

// Open opens the store in dir, which is made if it is not there, for at most so
// many bytes. What an interrupted writing left is cleared.
func Open(dir string, most int64) (*Store, error) {
	incoming := filepath.Join(dir, "incoming")
	if err := os.RemoveAll(incoming); err != nil {
		return nil, fmt.Errorf("clear the parts: %w", err)
	}
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return nil, fmt.Errorf("open the parts: %w", err)
	}
	return &Store{dir: dir, most: most}, nil
}

// Name names the part of some bytes under a layout, for a file of which the rows
// tell what origin has.
func Name(content, layout string, origin shaping.Origin) string {
	b, err := json.Marshal([]any{form, content, layout, origin})
	if err != nil {
		panic(err) // texts alone
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func (s *Store) path(name string) string { return filepath.Join(s.dir, name[:2], name[2:]) }

// Find returns the part of that name, if it is there and whole.
func (s *Store) Find(name string) (*Part, bool) {
	p := &Part{path: s.path(name), store: s}
	known, err := os.ReadFile(p.path + ".json")
	if err != nil || json.Unmarshal(known, &p.Known) != nil {
		return nil, false
	}
	if _, err := os.Stat(p.path); err != nil {
		return nil, false
	}
	now := time.Now()
	_ = os.Chtimes(p.path+".json", now, now) // it was used
	return p, true
}

// Make makes a part: write writes its rows, and tells what is known of them, their
// digest only if it is asked for. Rows of a file that is broken are not kept.
func (s *Store) Make(name string, digest bool, write func(io.Writer) (Known, error)) (p *Part, err error) {
	f, err := os.CreateTemp(filepath.Join(s.dir, "incoming"), "*")
	if err != nil {
		return nil, fmt.Errorf("write a part: %w", err)
	}
	defer func() {
		_ = f.Close()
		if err != nil {
			_ = os.Remove(f.Name())
		}
	}()
	encoder, _ := s.encoders.Get().(*s2.Writer)
	if encoder == nil {
		encoder = s2.NewWriter(nil, s2.WriterConcurrency(1))
	}
	defer s.encoders.Put(encoder)
	encoder.Reset(f)
	w := &counting{w: encoder}
	if digest {
		w.hash = sha256.New()
	}
	known, err := write(w)
	if err == nil {
		err = encoder.Close()
	}
	if err != nil {
		return nil, err
	}
	known.Size = w.size
	if digest {
		known.Digest = hex.EncodeToString(w.hash.Sum(nil))
	}
	p = &Part{Known: known, path: s.path(name), store: s}
	if _, broken := known.Result.Broken(); broken {
		return p, os.Remove(f.Name())
	}
	if err := os.MkdirAll(filepath.Dir(p.path), 0o700); err != nil {
		return nil, fmt.Errorf("write a part: %w", err)
	}
	if err := os.Rename(f.Name(), p.path); err != nil {
		return nil, fmt.Errorf("write a part: %w", err)
	}
	b, err := json.Marshal(known)
	if err == nil {
		err = os.WriteFile(p.path+".json", b, 0o600)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("write a part: %w", err), os.Remove(p.path))
	}
	return p, nil
}

type counting struct {
	w    io.Writer
	hash hash.Hash
	size int64
}

func (c *counting) Write(b []byte) (int, error) {
	if c.hash != nil {
		c.hash.Write(b)
	}
	n, err := c.w.Write(b)
	c.size += int64(n)
	return n, err
}

// Open opens the rows for reading. Reading them to the end checks how many bytes
// they are, and the checksum that the compressed form has.
func (p *Part) Open() (io.ReadCloser, error) {
	f, err := os.Open(p.path)
	if err != nil {
		return nil, fmt.Errorf("read a part: %w", err)
	}
	decoder, _ := p.store.decoders.Get().(*s2.Reader)
	if decoder == nil {
		decoder = s2.NewReader(nil)
	}
	decoder.Reset(f)
	return &opened{part: p, file: f, s2: decoder}, nil
}

type opened struct {
	part *Part
	file *os.File
	s2   *s2.Reader
	read int64
}

func (o *opened) Read(b []byte) (int, error) {
	n, err := o.s2.Read(b)
	o.read += int64(n)
	switch {
	case err == io.EOF && o.read != o.part.Size:
		err = fmt.Errorf("%w: it has %d bytes and should have %d", ErrDamaged, o.read, o.part.Size)
	case err != nil && err != io.EOF:
		err = fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return n, err
}

func (o *opened) Close() error {
	o.s2.Reset(bytes.NewReader(nil))
	o.part.store.decoders.Put(o.s2)
	return o.file.Close()
}

// Sound reads the rows through, and reports whether they are as they were written.
func (p *Part) Sound() bool {
	r, err := p.Open()
	if err != nil {
		return false
	}
	defer r.Close()
	_, err = io.Copy(io.Discard, r)
	return err == nil
}

// Beside reads what was kept beside a part under a key. It reports whether there
// was something that could be read.
func (p *Part) Beside(key string, into any) bool {
	b, err := os.ReadFile(p.path + "." + key)
	return err == nil && json.Unmarshal(b, into) == nil
}

// Keep keeps something that was made of a part's rows beside it.
func (p *Part) Keep(key string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Join(p.store.dir, "incoming"), "*")
	if err == nil {
		_, err = f.Write(b)
		err = errors.Join(err, f.Close())
	}
	if err == nil {
		err = os.Rename(f.Name(), p.path+"."+key)
	}
	if err != nil {
		return fmt.Errorf("write beside a part: %w", err)
	}
	return nil
}

// Remove takes a part away, which is found to be damaged or not needed.
func (p *Part) Remove() {
	beside, _ := filepath.Glob(p.path + ".*")
	for _, path := range beside {
		_ = os.Remove(path)
	}
	_ = os.Remove(p.path + ".json")
	_ = os.Remove(p.path)
}

// restful is how long a part is left alone after it was used.
const restful = time.Hour

// Prune takes parts away that were not used for longest, until what is left has
// no more bytes than the store may have. It returns how many went.
func (s *Store) Prune(now time.Time) (gone int, err error) {
	type entry struct {
		path string
		size int64
		used time.Time
	}
	var list []entry
	var sum int64
	err = filepath.WalkDir(s.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".json") {
			return ignoreGone(err)
		}
		known, err := d.Info()
		if err != nil {
			return ignoreGone(err)
		}
		rows, err := os.Stat(strings.TrimSuffix(path, ".json"))
		if err != nil {
			return ignoreGone(err)
		}
		size := known.Size() + rows.Size()
		sum += size
		list = append(list, entry{strings.TrimSuffix(path, ".json"), size, known.ModTime()})
		return nil
	})
	slices.SortFunc(list, func(a, b entry) int { return a.used.Compare(b.used) })
	for _, e := range list {
		if err != nil || sum <= s.most || now.Sub(e.used) < restful {
			break
		}
		(&Part{path: e.path}).Remove()
		sum -= e.size
		gone++
	}
	return gone, err
}

func ignoreGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
