package places_test

import (
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/places"
	"jorvex/internal/testkit"
)

func local(t *testing.T, dir string) *places.Local {
	t.Helper()
	place, err := places.Allowed{filepath.Dir(dir)}.Local(dir)
	require.NoError(t, err)
	return place
}

func TestLocalIsAPlace(t *testing.T) {
	testkit.Place(t, func(t *testing.T, files map[string]string) places.Place {
		dir := filepath.Join(t.TempDir(), "share")
		require.NoError(t, os.Mkdir(dir, 0o755))
		for path, content := range files {
			testkit.WriteFile(t, filepath.Join(dir, path), content)
		}
		return local(t, dir)
	})
}

// look returns the paths of a place, and what was skipped.
func look(t *testing.T, place places.Place) (paths []string, skipped map[string]string) {
	t.Helper()
	skipped = map[string]string{}
	require.NoError(t, place.List(t.Context(), func(f places.Folder) error {
		if f.Err != nil {
			skipped[f.Path] = places.Reason(f.Err)
		}
		for _, e := range f.Files {
			paths = append(paths, filepath.Join(f.Path, e.Name))
		}
		for _, s := range f.Skipped {
			skipped[s.Path] = s.Why
		}
		return nil
	}))
	slices.Sort(paths)
	return paths, skipped
}

func TestLinksNeverLeaveThePlace(t *testing.T) {
	base := t.TempDir()
	dir := filepath.Join(base, "share")
	testkit.WriteFile(t, filepath.Join(base, "secret.csv"), "secret")
	testkit.WriteFile(t, filepath.Join(dir, "real/a.csv"), "a")
	for link, target := range map[string]string{
		"out.csv": "../secret.csv", "absolute.csv": filepath.Join(base, "secret.csv"), "up": "..",
		"in.csv": "real/a.csv", "linked": "real", "real/loop": "..", "real/other": "../real", "dangling": "nowhere",
	} {
		require.NoError(t, os.Symlink(target, filepath.Join(dir, link)))
	}
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644))
	place := local(t, dir)
	paths, skipped := look(t, place)
	assert.Equal(t, []string{"in.csv", "linked/a.csv", "real/a.csv"}, paths)
	assert.Equal(t, map[string]string{
		"out.csv": "a link that leads nowhere in the place", "absolute.csv": "a link that leads nowhere in the place",
		"up": "a link that leads nowhere in the place", "dangling": "a link that leads nowhere in the place",
		"real/loop": "a link to a folder it lies in", "real/other": "a link to a folder it lies in",
		"linked/loop": "a link to a folder, inside a linked folder", "linked/other": "a link to a folder, inside a linked folder",
		"pipe": "neither a file nor a folder",
	}, skipped)
	for _, path := range []string{"out.csv", "absolute.csv", "up/secret.csv", "pipe"} {
		_, err := place.Open(path)
		assert.Error(t, err, path)
	}
}

func TestUnreachable(t *testing.T) {
	base := t.TempDir()
	err := local(t, filepath.Join(base, "gone")).List(t.Context(), func(places.Folder) error { return nil })
	var unreachable *places.Unreachable
	require.ErrorAs(t, err, &unreachable)
	assert.Equal(t, "it is not there", places.Reason(err))
}

func TestOnlyAllowedDirectories(t *testing.T) {
	base := t.TempDir()
	allowed := places.Allowed{filepath.Join(base, "one"), filepath.Join(base, "two")}
	for _, dir := range []string{"one", "one/deep/er", "two/"} {
		_, err := allowed.Local(filepath.Join(base, dir))
		assert.NoError(t, err, dir)
	}
	for _, dir := range []string{base, base + "/one/../three", base + "/oneandmore", "/", "one"} {
		_, err := allowed.Local(dir)
		assert.Error(t, err, dir)
	}
	// A place that became a link out of the allowed directory is not entered.
	require.NoError(t, os.MkdirAll(filepath.Join(base, "one"), 0o755))
	require.NoError(t, os.Symlink(base, filepath.Join(base, "one", "way-out")))
	place, err := allowed.Local(filepath.Join(base, "one", "way-out"))
	require.NoError(t, err)
	assert.Error(t, place.List(t.Context(), func(places.Folder) error { return nil }))
}
