package testkit

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/places"
)

// Place holds a kind of place against what all of them promise. fill makes a
// fresh place that holds the files given, by path.
func Place(t *testing.T, fill func(t *testing.T, files map[string]string) places.Place) {
	files := map[string]string{
		"a.csv": "one", "deep/er/b.csv": "two", "deep/c.csv": "", "br\xe5nn\xff.csv": "raw bytes",
		"two\nlines.csv": "newline", "Ünïcode/ß.csv": "letters", " leading space": "space",
	}
	t.Run("lists every file once, with its size", func(t *testing.T) {
		got := map[string]int64{}
		folders := map[string]int{}
		err := fill(t, files).List(t.Context(), func(f places.Folder) error {
			require.NoError(t, f.Err)
			folders[f.Path]++
			for _, e := range f.Files {
				path := e.Name
				if f.Path != "" {
					path = f.Path + "/" + e.Name
				}
				_, twice := got[path]
				assert.False(t, twice, path)
				got[path] = e.Size
				assert.NotZero(t, e.Modified)
			}
			return nil
		})
		require.NoError(t, err)
		assert.ElementsMatch(t, slices.Collect(maps.Keys(files)), slices.Collect(maps.Keys(got)))
		for path, content := range files {
			assert.Equal(t, int64(len(content)), got[path], path)
		}
		assert.Equal(t, map[string]int{"": 1, "deep": 1, "deep/er": 1, "Ünïcode": 1}, folders)
	})
	t.Run("opens what it lists, with the same mark", func(t *testing.T) {
		place := fill(t, files)
		require.NoError(t, place.List(t.Context(), func(folder places.Folder) error {
			for _, e := range folder.Files {
				path := e.Name
				if folder.Path != "" {
					path = folder.Path + "/" + e.Name
				}
				f, err := place.Open(path)
				require.NoError(t, err, path)
				mark, err := f.Mark()
				require.NoError(t, err)
				assert.Equal(t, e.Mark, mark)
				content, err := io.ReadAll(f)
				require.NoError(t, err)
				assert.Equal(t, files[path], string(content))
				require.NoError(t, f.Close())
			}
			return nil
		}))
	})
	t.Run("tells what is not there, no file, or outside", func(t *testing.T) {
		place := fill(t, files)
		_, err := place.Open("nothing.csv")
		assert.ErrorIs(t, err, fs.ErrNotExist)
		for _, path := range []string{"deep", "../a.csv", "deep/../../a.csv", "/etc/passwd", ""} {
			_, err := place.Open(path)
			assert.Error(t, err, path)
		}
	})
	t.Run("stops when it is told to", func(t *testing.T) {
		enough := errors.New("enough")
		assert.ErrorIs(t, fill(t, files).List(t.Context(), func(places.Folder) error { return enough }), enough)
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		assert.ErrorIs(t, fill(t, files).List(ctx, func(places.Folder) error { return nil }), context.Canceled)
	})
}
