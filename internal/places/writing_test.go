package places_test

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jorvex/internal/places"
)

// Files are set aside, moved, copied and removed; nothing is ever overwritten, and
// nothing happens outside the place.
func TestWriting(t *testing.T) {
	base := t.TempDir()
	dir := filepath.Join(base, "share")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in"), 0o755))
	var place places.Writable
	place, err := places.Allowed{base}.Local(dir)
	require.NoError(t, err)
	write := func(path, content string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, path), []byte(content), 0o644))
	}
	read := func(path string) string {
		content, err := os.ReadFile(filepath.Join(dir, path))
		if errors.Is(err, fs.ErrNotExist) {
			return "(none)"
		}
		require.NoError(t, err)
		return string(content)
	}
	write("in/a.csv", "first")
	aside, err := place.SetAside("in/a.csv", 7)
	require.NoError(t, err)
	assert.Equal(t, "in/.jorvex-aside-7-a.csv", aside)
	assert.True(t, places.IsReserved(filepath.Base(aside)))
	assert.False(t, places.IsReserved("a.csv"))
	assert.Equal(t, "(none)", read("in/a.csv"))
	_, err = place.SetAside("in/a.csv", 7)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.Equal(t, "first", read(aside), "what was set aside stays")

	require.NoError(t, place.Move(aside, "done/2026/a.csv"))
	assert.Equal(t, []string{"(none)", "first"}, []string{read(aside), read("done/2026/a.csv")})
	write("in/a.csv", "second")
	assert.ErrorIs(t, place.Move("in/a.csv", "done/2026/a.csv"), fs.ErrExist)
	assert.Equal(t, []string{"second", "first"}, []string{read("in/a.csv"), read("done/2026/a.csv")}, "both are as they were")
	assert.ErrorIs(t, place.Move("in/nothing", "done/x"), fs.ErrNotExist)

	// Cut off between the two halves of a move, it is finished, not made twice.
	require.NoError(t, os.Link(filepath.Join(dir, "in/a.csv"), filepath.Join(dir, "done/b.csv")))
	require.NoError(t, place.Move("in/a.csv", "done/b.csv"))
	assert.Equal(t, []string{"(none)", "second"}, []string{read("in/a.csv"), read("done/b.csv")})

	require.NoError(t, place.Write("copies/deep/a.csv", strings.NewReader("copied")))
	assert.Equal(t, "copied", read("copies/deep/a.csv"))
	assert.ErrorIs(t, place.Write("copies/deep/a.csv", strings.NewReader("again")), fs.ErrExist)
	assert.Equal(t, "copied", read("copies/deep/a.csv"))
	broken := errors.New("the vault is gone")
	assert.ErrorIs(t, place.Write("copies/half.csv", io.MultiReader(strings.NewReader("half"), failing{broken})), broken)
	list, err := os.ReadDir(filepath.Join(dir, "copies"))
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing half is left")

	require.NoError(t, place.Remove("done/b.csv"))
	assert.ErrorIs(t, place.Remove("done/b.csv"), fs.ErrNotExist)

	// Neither dots nor links lead out.
	require.NoError(t, os.WriteFile(filepath.Join(base, "outside.csv"), []byte("theirs"), 0o644))
	require.NoError(t, os.Symlink(base, filepath.Join(dir, "out")))
	for _, to := range []string{"../x.csv", "out/x.csv", "/tmp/x.csv"} {
		assert.Error(t, place.Move("done/2026/a.csv", to), to)
		assert.Error(t, place.Write(to, strings.NewReader("x")), to)
	}
	assert.Error(t, place.Remove("out/outside.csv"))
	assert.Error(t, place.Remove("../outside.csv"))
	assert.FileExists(t, filepath.Join(base, "outside.csv"))
	assert.NoFileExists(t, filepath.Join(base, "x.csv"))
	assert.Equal(t, "first", read("done/2026/a.csv"))
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

// Into a folder on another disk there are no links: the file is copied, whole, with
// its time, and nothing is overwritten either.
func TestMoveToAnotherDisk(t *testing.T) {
	dir := t.TempDir()
	place, err := places.Allowed{dir}.Local(dir)
	require.NoError(t, err)
	archive := filepath.Join(dir, "archive")
	require.NoError(t, os.Mkdir(archive, 0o755))
	if err := unix.Mount("tmpfs", archive, "tmpfs", 0, "size=1m"); err != nil {
		t.Skip("mounting is not allowed here")
	}
	t.Cleanup(func() { _ = unix.Unmount(archive, unix.MNT_DETACH) })
	from, then := filepath.Join(dir, "a.csv"), time.Date(2026, 10, 1, 8, 0, 0, 0, time.UTC)
	write := func(content string) {
		require.NoError(t, os.WriteFile(from, []byte(content), 0o644))
		require.NoError(t, os.Chtimes(from, then, then))
	}
	write("n\n1\n")
	require.NoError(t, place.Move("a.csv", "archive/2026/a.csv"))
	content, err := os.ReadFile(filepath.Join(archive, "2026/a.csv"))
	require.NoError(t, err)
	assert.Equal(t, "n\n1\n", string(content))
	info, err := os.Stat(filepath.Join(archive, "2026/a.csv"))
	require.NoError(t, err)
	assert.True(t, then.Equal(info.ModTime()))
	assert.NoFileExists(t, from)
	assert.ErrorIs(t, place.Move("a.csv", "archive/2026/b.csv"), fs.ErrNotExist)

	write("another")
	assert.ErrorIs(t, place.Move("a.csv", "archive/2026/a.csv"), fs.ErrExist)
	write(strings.Repeat("too much for that disk\n", 100_000))
	assert.ErrorIs(t, place.Move("a.csv", "archive/2026/c.csv"), unix.ENOSPC)
	assert.FileExists(t, from, "it stays where it is")
	list, err := os.ReadDir(filepath.Join(archive, "2026"))
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing half is left")
}
