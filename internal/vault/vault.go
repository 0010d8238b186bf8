// Package vault keeps copies of the bytes that fed refreshes, each once, named
// by its SHA-256 and compressed (zstd, RFC 8878). An object is written beside,
// flushed, and renamed, so that one that is there is whole.
package vault

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"
)

// Vault is a directory of objects. It may be used by many goroutines.
type Vault struct {
	dir      string
	encoders sync.Pool
	removing sync.RWMutex // no object is removed while it is wanted
}

// ErrMissing is in the error for an object that is not in the vault.
var ErrMissing = errors.New("the vault does not hold it")

// Open opens the vault in dir, which is made if it is not there, and clears
// what an interrupted writing left.
func Open(dir string) (*Vault, error) {
	incoming := filepath.Join(dir, "incoming")
	if err := os.RemoveAll(incoming); err != nil {
		return nil, fmt.Errorf("clear the vault: %w", err)
	}
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return nil, fmt.Errorf("open the vault: %w", err)
	}
	return &Vault{dir: dir}, nil
}

// Dir returns the directory of the vault.
func (v *Vault) Dir() string { return v.dir }

var digestForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

func (v *Vault) path(digest string) string {
	return filepath.Join(v.dir, digest[:2], digest[2:]+".zst")
}

// Has reports whether the vault holds the object.
func (v *Vault) Has(digest string) bool {
	if !digestForm.MatchString(digest) {
		return false
	}
	_, err := os.Stat(v.path(digest))
	return err == nil
}

// Want reports whether the vault holds the object, and if so notes the moment, so
// that it is not removed from under who is about to count on it.
func (v *Vault) Want(digest string) bool {
	if !digestForm.MatchString(digest) {
		return false
	}
	v.removing.RLock()
	defer v.removing.RUnlock()
	now := time.Now()
	return os.Chtimes(v.path(digest), now, now) == nil
}

// Object names bytes in the vault.
type Object struct {
	Digest string // SHA-256 in hexadecimal
	Size   int64  // bytes, not compressed
}

// A Batch is objects that are stored together: flushed to the disk at once when
// it is committed, which takes no longer for a thousand than for one.
type Batch struct {
	vault   *Vault
	mu      sync.Mutex
	pending map[string]string // digest -> path of what was written beside
}

// Batch begins a batch. Commit or Discard must be called.
func (v *Vault) Batch() *Batch { return &Batch{vault: v, pending: map[string]string{}} }

// Put takes all of r. The object counts once the batch is committed.
func (b *Batch) Put(r io.Reader) (o Object, err error) {
	f, err := os.CreateTemp(filepath.Join(b.vault.dir, "incoming"), "*")
	if err != nil {
		return o, fmt.Errorf("write to the vault: %w", err)
	}
	defer func() {
		_ = f.Close()
		if err != nil {
			_ = os.Remove(f.Name())
		}
	}()
	encoder, _ := b.vault.encoders.Get().(*zstd.Encoder)
	if encoder == nil {
		encoder, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithEncoderCRC(false))
		if err != nil {
			return o, err
		}
	}
	defer b.vault.encoders.Put(encoder)
	encoder.Reset(f)
	hash := sha256.New()
	buf := make([]byte, 256<<10)
	for {
		n, errRead := r.Read(buf)
		hash.Write(buf[:n])
		o.Size += int64(n)
		if _, err := encoder.Write(buf[:n]); err != nil {
			return o, fmt.Errorf("write to the vault: %w", err)
		}
		if errRead == io.EOF {
			break
		}
		if errRead != nil {
			return o, errRead
		}
	}
	if err := encoder.Close(); err != nil {
		return o, fmt.Errorf("write to the vault: %w", err)
	}
	o.Digest = hex.EncodeToString(hash.Sum(nil))
	b.mu.Lock()
	defer b.mu.Unlock()
	if _, twice := b.pending[o.Digest]; twice || b.vault.Want(o.Digest) {
		return o, os.Remove(f.Name())
	}
	b.pending[o.Digest] = f.Name()
	return o, nil
}

// Open opens an object of the batch or of the vault for reading. Reading one of
// the vault to the end checks its digest.
func (b *Batch) Open(digest string) (io.ReadCloser, error) {
	b.mu.Lock()
	path, mine := b.pending[digest]
	b.mu.Unlock()
	if mine {
		return open(digest, path)
	}
	return b.vault.Open(digest)
}

// Commit makes the objects of the batch durable and puts them under their
// names.
func (b *Batch) Commit() error {
	if len(b.pending) == 0 {
		return nil
	}
	dir, err := os.Open(b.vault.dir)
	if err != nil {
		return fmt.Errorf("write to the vault: %w", err)
	}
	defer dir.Close()
	flush := func() error { return unix.Syncfs(int(dir.Fd())) }
	if err := flush(); err != nil {
		return fmt.Errorf("flush the vault: %w", err)
	}
	b.vault.removing.RLock()
	defer b.vault.removing.RUnlock()
	now := time.Now() // a file's own time may be of a coarser clock
	for digest, path := range b.pending {
		if err := os.Chtimes(path, now, now); err != nil {
			return fmt.Errorf("write to the vault: %w", err)
		}
		final := b.vault.path(digest)
		if err := os.MkdirAll(filepath.Dir(final), 0o700); err != nil {
			return fmt.Errorf("write to the vault: %w", err)
		}
		if err := os.Rename(path, final); err != nil {
			return fmt.Errorf("write to the vault: %w", err)
		}
		delete(b.pending, digest)
	}
	if err := flush(); err != nil {
		return fmt.Errorf("flush the vault: %w", err)
	}
	return nil
}

// Discard gives up what was not committed.
func (b *Batch) Discard() {
	for _, path := range b.pending {
		_ = os.Remove(path)
	}
	clear(b.pending)
}

// Remove takes objects away, unless they were stored or wanted since a moment. It
// returns how many went and the bytes that they took on the disk.
func (v *Vault) Remove(digests []string, since time.Time) (objects, bytes int64, err error) {
	for _, digest := range digests {
		size, err := v.remove(digest, since)
		if err != nil {
			return objects, bytes, err
		}
		if size > 0 {
			objects, bytes = objects+1, bytes+size
		}
	}
	return objects, bytes, nil
}

func (v *Vault) remove(digest string, since time.Time) (bytes int64, err error) {
	if !digestForm.MatchString(digest) {
		return 0, fmt.Errorf("%q is no digest", digest)
	}
	v.removing.Lock()
	defer v.removing.Unlock()
	info, err := os.Stat(v.path(digest))
	if err == nil && !info.ModTime().Before(since) {
		return 0, nil
	}
	if err == nil {
		err = os.Remove(v.path(digest))
	}
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// Each calls each with every object: how many bytes it takes on the disk, and when
// it was stored or wanted last.
func (v *Vault) Each(each func(digest string, bytes int64, wanted time.Time) error) error {
	return filepath.WalkDir(v.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			if d != nil && d.IsDir() && d.Name() == "incoming" {
				return fs.SkipDir
			}
			return err
		}
		digest := filepath.Base(filepath.Dir(path)) + strings.TrimSuffix(d.Name(), ".zst")
		if !digestForm.MatchString(digest) {
			return nil
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		return each(digest, info.Size(), info.ModTime())
	})
}

// Open opens an object for reading. Reading to the end checks its digest.
func (v *Vault) Open(digest string) (io.ReadCloser, error) {
	if !digestForm.MatchString(digest) {
		return nil, fmt.Errorf("%q is no digest", digest)
	}
	o, err := open(digest, v.path(digest))
	if err != nil {
		return nil, err
	}
	o.hash = sha256.New()
	return o, nil
}

func open(digest, path string) (*object, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("vault object %s: %w", digest, ErrMissing)
	}
	if err != nil {
		return nil, err
	}
	decoder, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		f.Close()
		return nil, err
	}
	return &object{digest: digest, file: f, zstd: decoder}, nil
}

type object struct {
	digest string
	file   *os.File
	zstd   *zstd.Decoder
	hash   hash.Hash // nil if the digest is not checked
}

func (o *object) Read(p []byte) (int, error) {
	n, err := o.zstd.Read(p)
	if o.hash != nil {
		o.hash.Write(p[:n])
	}
	if err == io.EOF && o.hash != nil {
		if got := hex.EncodeToString(o.hash.Sum(nil)); got != o.digest {
			return n, fmt.Errorf("vault object %s is damaged: its bytes have digest %s", o.digest, got)
		}
	} else if err != nil && err != io.EOF {
		err = fmt.Errorf("vault object %s is damaged: %w", o.digest, err)
	}
	return n, err
}

func (o *object) Close() error {
	o.zstd.Close()
	return o.file.Close()
}
