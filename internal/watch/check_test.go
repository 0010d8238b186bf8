package watch

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/finding"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// moody is a place with one file that does as the test says.
type moody struct {
	open  error
	text  string
	fails error         // while it is read
	marks []places.Mark // one for each time it is asked for; the last stays
	mark  error
	asked int
	opens int
}

func (m *moody) List(context.Context, func(places.Folder) error) error { return nil }

func (m *moody) Open(string) (places.File, error) {
	if m.opens++; m.open != nil {
		return nil, m.open
	}
	var r io.Reader = strings.NewReader(m.text)
	if m.fails != nil {
		r = io.MultiReader(r, failing{m.fails})
	}
	return &moodyFile{m, r}, nil
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

type moodyFile struct {
	place *moody
	io.Reader
}

func (f *moodyFile) Close() error { return nil }

func (f *moodyFile) Mark() (places.Mark, error) {
	if f.place.mark != nil {
		return places.Mark{}, f.place.mark
	}
	mark := f.place.marks[min(f.place.asked, len(f.place.marks)-1)]
	f.place.asked++
	return mark, nil
}

func TestRead(t *testing.T) {
	one, two, three := places.Mark{Size: 1}, places.Mark{Size: 2}, places.Mark{Size: 3}
	full := errors.New("no space left on device")
	for name, c := range map[string]struct {
		place   moody
		consume error
		trouble finding.Code
		says    string
		err     error
		opens   int
		mark    places.Mark
	}{
		"a file that holds still is read once":    {place: moody{text: "x", marks: []places.Mark{one}}, opens: 1, mark: one},
		"one that moves once is read again":       {place: moody{text: "x", marks: []places.Mark{one, two, two, two}}, opens: 2, mark: two},
		"one that never holds still is told":      {place: moody{text: "x", marks: []places.Mark{one, two, one, two, one, three}}, trouble: finding.Moving, says: "3 times", opens: 3, mark: three},
		"one that is gone":                        {place: moody{open: &fs.PathError{Op: "open", Path: "x", Err: fs.ErrNotExist}}, trouble: finding.Vanished, opens: 1},
		"one that may not be read":                {place: moody{open: &fs.PathError{Op: "open", Path: "x", Err: fs.ErrPermission}}, trouble: finding.NoPermission, opens: 1},
		"one that is locked":                      {place: moody{open: &fs.PathError{Op: "open", Path: "x", Err: syscall.EBUSY}}, trouble: finding.OpenElsewhere, opens: 1},
		"one that is locked halfway":              {place: moody{text: "x", fails: &fs.PathError{Op: "read", Path: "x", Err: syscall.EDEADLK}, marks: []places.Mark{one}}, trouble: finding.OpenElsewhere, opens: 1},
		"one whose place is gone":                 {place: moody{open: &places.Unreachable{Place: "share", Err: fs.ErrNotExist}}, trouble: finding.Vanished, says: "its place cannot be reached", opens: 1},
		"one that is no file":                     {place: moody{open: &fs.PathError{Op: "open", Path: "x", Err: places.ErrNotAFile}}, trouble: finding.Unreadable, says: "no regular file", opens: 1},
		"one that fails halfway":                  {place: moody{text: "x", fails: errors.New("stale file handle"), marks: []places.Mark{one}}, trouble: finding.Unreadable, says: "stale file handle", opens: 1},
		"one whose mark cannot be told":           {place: moody{mark: errors.New("input/output error")}, trouble: finding.Unreadable, says: "input/output error", opens: 1},
		"what fails in the service is no trouble": {place: moody{text: "x", marks: []places.Mark{one}}, consume: full, err: full, opens: 1},
	} {
		t.Run(name, func(t *testing.T) {
			place := c.place
			r, err := Read(t.Context(), &place, Picked{FileID: 7, Path: "x"}, time.Now, func(r io.Reader) (*records.Check, string, error) {
				if _, err := io.Copy(io.Discard, r); err != nil {
					return nil, "", err
				}
				return &records.Check{}, "digest", c.consume
			})
			assert.Equal(t, c.opens, place.opens)
			if c.err != nil {
				assert.ErrorIs(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, int64(7), r.FileID)
			if c.trouble == "" {
				assert.Empty(t, r.Trouble)
				assert.Equal(t, "digest", r.Digest)
				assert.Equal(t, "digest", r.Check.Digest)
				assert.Equal(t, c.mark, r.Mark)
				return
			}
			require.Len(t, r.Trouble, 1)
			assert.Equal(t, c.trouble, r.Trouble[0].Code)
			assert.Equal(t, finding.Broken, r.Trouble[0].Grade)
			assert.Contains(t, r.Trouble[0].Sentence, c.says)
			assert.Empty(t, r.Digest, "what could not be read whole has no digest")
		})
	}
}

func TestReadStopsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	place := moody{text: "x", marks: []places.Mark{{}}}
	_, err := Read(ctx, &place, Picked{}, time.Now, func(r io.Reader) (*records.Check, string, error) {
		cancel()
		_, err := io.Copy(io.Discard, r)
		return nil, "", err
	})
	assert.ErrorIs(t, err, context.Canceled)
}

// What is too large for memory is read from a file without a name, and is the same.
func TestSpool(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TMPDIR", dir)
	for _, size := range []int{0, 5, spoolInMemory, spoolInMemory + 1, spoolInMemory + 5<<20} {
		want := bytes.Repeat([]byte("0123456789abcdef"), size/16+1)[:size]
		got, err := spool(bytes.NewReader(want))
		require.NoError(t, err)
		assert.Equal(t, int64(size), got.Size())
		back := make([]byte, size)
		n, err := got.ReadAt(back, 0)
		assert.True(t, err == nil || err == io.EOF && size == 0, err)
		assert.Equal(t, size, n)
		assert.True(t, bytes.Equal(want, back), size)
		if size > 20 {
			end := make([]byte, 30)
			n, err := got.ReadAt(end, int64(size)-20)
			assert.Equal(t, io.EOF, err)
			assert.Equal(t, string(want[size-20:]), string(end[:n]))
		}
		require.NoError(t, got.Close())
	}
	broken := errors.New("the share is gone")
	for _, before := range []int{3, spoolInMemory + 3} {
		_, err := spool(io.MultiReader(bytes.NewReader(make([]byte, before)), failing{broken}))
		assert.ErrorIs(t, err, broken)
	}
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, list)
	t.Setenv("TMPDIR", filepath.Join(dir, "none"))
	_, err = spool(bytes.NewReader(make([]byte, spoolInMemory+1)))
	assert.ErrorIs(t, err, fs.ErrNotExist)
}
