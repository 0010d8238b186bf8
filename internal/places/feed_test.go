package places_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/places"
	"jorvex/internal/testkit"
)

// told waits for a change in a folder.
func told(t *testing.T, feed places.Feed, folder string) {
	t.Helper()
	for end := time.After(20 * time.Second); ; {
		select {
		case c, open := <-feed.Changed():
			require.True(t, open)
			if c.Folder == folder && !c.Lost {
				return
			}
		case <-end:
			t.Fatalf("nothing was told of %q", folder)
		}
	}
}

func TestFeed(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "share")
	testkit.WriteFile(t, filepath.Join(dir, "a/b/x.csv"), "x")
	feed, err := local(t, dir).Events()
	require.NoError(t, err)
	for _, folder := range []string{"", "a", "a/b"} {
		require.NoError(t, feed.Add(folder))
	}
	assert.Error(t, feed.Add("nowhere"))
	for _, c := range []struct {
		folder string
		do     func() error
	}{
		{"", func() error { return os.WriteFile(filepath.Join(dir, "new.csv"), nil, 0o644) }},
		{"a/b", func() error { return os.WriteFile(filepath.Join(dir, "a/b/x.csv"), []byte("y"), 0o644) }},
		{"a/b", func() error { return os.Rename(filepath.Join(dir, "a/b/x.csv"), filepath.Join(dir, "a/b/z.csv")) }},
		{"a", func() error { return os.Mkdir(filepath.Join(dir, "a/c"), 0o755) }},
		{"a/b", func() error { return os.Remove(filepath.Join(dir, "a/b/z.csv")) }},
		{"a", func() error { return os.Remove(filepath.Join(dir, "a/b")) }},
	} {
		require.NoError(t, c.do())
		told(t, feed, c.folder)
	}
	require.NoError(t, feed.Close())
	for range feed.Changed() { // what was still waiting
	}
}

// More changes than anyone takes are told as lost, and nothing waits for them.
func TestFeedThatNobodyReads(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "share")
	require.NoError(t, os.Mkdir(dir, 0o755))
	feed, err := local(t, dir).Events()
	require.NoError(t, err)
	require.NoError(t, feed.Add(""))
	for i := range 2000 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, string(rune('a'+i%20))), []byte{byte(i)}, 0o644))
	}
	lost := false
	for end := time.After(20 * time.Second); !lost; {
		select {
		case c := <-feed.Changed():
			lost = lost || c.Lost
		case <-end:
			t.Fatal("nothing was told as lost")
		}
	}
	require.NoError(t, feed.Close())
}

func TestListFolder(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "share")
	for _, path := range []string{"top.csv", "a/x.csv", "a/y\xff.csv", "a/b/c/deep.csv", "outside/z.csv"} {
		testkit.WriteFile(t, filepath.Join(dir, path), path)
	}
	require.NoError(t, os.Symlink("..", filepath.Join(dir, "a/up")))
	require.NoError(t, os.Symlink("../outside", filepath.Join(dir, "a/linked")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(dir, "a/out")))
	place := local(t, dir)

	folder, inside, err := place.ListFolder("")
	require.NoError(t, err)
	assert.Equal(t, "", folder.Path)
	require.Len(t, folder.Files, 1)
	assert.Equal(t, "top.csv", folder.Files[0].Name)
	assert.ElementsMatch(t, []string{"a", "outside"}, inside)

	folder, inside, err = place.ListFolder("a")
	require.NoError(t, err)
	assert.Len(t, folder.Files, 2)
	assert.ElementsMatch(t, []string{"a/b", "a/linked"}, inside)
	assert.Len(t, folder.Skipped, 2, "the loop, and the way out")

	// Both ways of listing agree.
	whole := map[string]places.Folder{}
	require.NoError(t, place.List(t.Context(), func(f places.Folder) error { whole[f.Path] = f; return nil }))
	for path, f := range whole {
		one, _, err := place.ListFolder(path)
		require.NoError(t, err)
		assert.ElementsMatch(t, f.Files, one.Files, path)
	}
	folder, _, err = place.ListFolder("nowhere")
	require.NoError(t, err)
	assert.ErrorIs(t, folder.Err, os.ErrNotExist)
	folder, _, err = place.ListFolder("../share")
	require.NoError(t, err)
	assert.Error(t, folder.Err, "a path that climbs is refused")

	require.NoError(t, os.RemoveAll(dir))
	_, _, err = place.ListFolder("a")
	var unreachable *places.Unreachable
	assert.ErrorAs(t, err, &unreachable)
}
