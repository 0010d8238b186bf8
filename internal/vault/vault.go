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
	"sync"

	"github.com/klauspost/compress/zstd"
)

// Vault is a directory of objects. It may be used by many goroutines.
type Vault struct {
	dir      string
	encoders sync.Pool
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

// Object names bytes in the vault.
type Object struct {
	Digest string // SHA-256 in hexadecimal
	Size   int64  // bytes, not compressed
}

// Put stores all of r.
func (v *Vault) Put(r io.Reader) (Object, error) {
	w, err := v.Writer()
	if err != nil {
		return Object{}, err
	}
	defer w.Discard()
	if _, err := io.CopyBuffer(w, onlyReader{r}, make([]byte, 256<<10)); err != nil {
		return Object{}, err
	}
	return w.Commit()
}

type onlyReader struct{ io.Reader }

// Writer takes the bytes of one object.
type Writer struct {
	vault *Vault
	file  *os.File
	zstd  *zstd.Encoder
	hash  hash.Hash
	size  int64
}

// Writer begins an object. Commit or Discard must be called.
func (v *Vault) Writer() (*Writer, error) {
	f, err := os.CreateTemp(filepath.Join(v.dir, "incoming"), "*")
	if err != nil {
		return nil, fmt.Errorf("write to the vault: %w", err)
	}
	encoder, _ := v.encoders.Get().(*zstd.Encoder)
	if encoder == nil {
		encoder, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithEncoderCRC(false))
		if err != nil {
			return nil, err
		}
	}
	encoder.Reset(f)
	return &Writer{vault: v, file: f, zstd: encoder, hash: sha256.New()}, nil
}

// Write takes more bytes.
func (w *Writer) Write(p []byte) (int, error) {
	w.hash.Write(p)
	w.size += int64(len(p))
	n, err := w.zstd.Write(p)
	if err != nil {
		err = fmt.Errorf("write to the vault: %w", err)
	}
	return n, err
}

// Commit flushes the object and puts it under its name.
func (w *Writer) Commit() (Object, error) {
	o := Object{hex.EncodeToString(w.hash.Sum(nil)), w.size}
	if w.vault.Has(o.Digest) {
		w.Discard()
		return o, nil
	}
	fail := func(err error) (Object, error) {
		w.Discard()
		return Object{}, fmt.Errorf("write to the vault: %w", err)
	}
	if err := w.zstd.Close(); err != nil {
		return fail(err)
	}
	if err := w.file.Sync(); err != nil {
		return fail(err)
	}
	final := w.vault.path(o.Digest)
	if err := os.MkdirAll(filepath.Dir(final), 0o700); err != nil {
		return fail(err)
	}
	if err := os.Rename(w.file.Name(), final); err != nil {
		return fail(err)
	}
	err := syncDir(filepath.Dir(final))
	w.release()
	return o, err
}

// Discard gives the object up. After Commit it does nothing.
func (w *Writer) Discard() {
	if w.file != nil {
		_ = os.Remove(w.file.Name())
		w.release()
	}
}

func (w *Writer) release() {
	if w.file == nil {
		return
	}
	_ = w.file.Close()
	w.file = nil
	w.zstd.Reset(nil)
	w.vault.encoders.Put(w.zstd)
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Open opens an object for reading. Reading to the end checks its digest.
func (v *Vault) Open(digest string) (io.ReadCloser, error) {
	if !digestForm.MatchString(digest) {
		return nil, fmt.Errorf("%q is no digest", digest)
	}
	f, err := os.Open(v.path(digest))
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
	return &object{digest: digest, file: f, zstd: decoder, hash: sha256.New()}, nil
}

type object struct {
	digest string
	file   *os.File
	zstd   *zstd.Decoder
	hash   hash.Hash
}

func (o *object) Read(p []byte) (int, error) {
	n, err := o.zstd.Read(p)
	o.hash.Write(p[:n])
	if err == io.EOF {
		if got := hex.EncodeToString(o.hash.Sum(nil)); got != o.digest {
			return n, fmt.Errorf("vault object %s is damaged: its bytes have digest %s", o.digest, got)
		}
	} else if err != nil {
		err = fmt.Errorf("vault object %s is damaged: %w", o.digest, err)
	}
	return n, err
}

func (o *object) Close() error {
	o.zstd.Close()
	return o.file.Close()
}
