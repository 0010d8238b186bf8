package watch

import (
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/changes"
	"jorvex/internal/places"
)

// listed makes the folders of a place from lines "PATH SIZE"; a path that ends
// with / is a folder that cannot be listed.
func listed(lines ...string) []places.Folder {
	byPath := map[string]*places.Folder{"": {}}
	order := []string{""}
	at := func(path string) *places.Folder {
		if byPath[path] == nil {
			byPath[path] = &places.Folder{Path: path}
			order = append(order, path)
		}
		return byPath[path]
	}
	for _, line := range lines {
		path, number, _ := strings.Cut(line, " ")
		size, _ := strconv.ParseInt(number, 10, 64)
		if folder, closed := strings.CutSuffix(path, "/"); closed {
			at(folder).Err = fs.ErrPermission
			continue
		}
		folder, name := split(path)
		f := at(folder)
		f.Files = append(f.Files, places.Entry{Name: name, Mark: places.Mark{Size: size, Modified: size}})
	}
	folders := []places.Folder{}
	for _, path := range order {
		folders = append(folders, *byPath[path])
	}
	return folders
}

// compare holds a listing against a snapshot, and applies it.
func compare(t *testing.T, old *snapshot, folders []places.Folder) (*comparison, *snapshot) {
	t.Helper()
	c := &comparison{old: old, seen: map[string][]file{}}
	for _, f := range folders {
		require.NoError(t, c.visit(f))
	}
	c.conclude()
	c.number(int64(1000 * (len(old.folders) + 1)))
	return c, &snapshot{c.seen}
}

var evidence = map[changes.Evidence]string{changes.Unseen: "unseen", changes.Present: "present", changes.Gone: "gone"}

// tell lists every file of a snapshot with its evidence.
func tell(s *snapshot) []string {
	lines := []string{}
	for folder, files := range s.folders {
		for _, f := range files {
			lines = append(lines, join(folder, f.name)+" "+evidence[f.evidence])
		}
	}
	slices.Sort(lines)
	return lines
}

func TestComparison(t *testing.T) {
	before := listed("a.csv 1", "b.csv 1", "deep/c.csv 1", "deep/er/d.csv 1", "deeper/e.csv 1")
	for name, c := range map[string]struct {
		now                []places.Folder
		new, changed, gone int64
		altered            int
		want               []string
	}{
		"nothing new": {before, 0, 0, 0, 0,
			[]string{"a.csv present", "b.csv present", "deep/c.csv present", "deep/er/d.csv present", "deeper/e.csv present"}},
		"one comes, one changes, one goes": {listed("a.csv 2", "aa.csv 1", "deep/c.csv 1", "deep/er/d.csv 1", "deeper/e.csv 1"), 1, 1, 1, 2,
			[]string{"a.csv present", "aa.csv present", "b.csv gone", "deep/c.csv present", "deep/er/d.csv present", "deeper/e.csv present"}},
		"a folder goes": {listed("a.csv 1", "b.csv 1", "deeper/e.csv 1"), 0, 0, 2, 2,
			[]string{"a.csv present", "b.csv present", "deep/c.csv gone", "deep/er/d.csv gone", "deeper/e.csv present"}},
		"a folder cannot be listed: what it and its folders hold is unseen": {listed("a.csv 1", "b.csv 1", "deep/", "deeper/e.csv 1"), 0, 0, 0, 2,
			[]string{"a.csv present", "b.csv present", "deep/c.csv unseen", "deep/er/d.csv unseen", "deeper/e.csv present"}},
		"everything goes": {listed(), 0, 0, 5, 5,
			[]string{"a.csv gone", "b.csv gone", "deep/c.csv gone", "deep/er/d.csv gone", "deeper/e.csv gone"}},
	} {
		t.Run(name, func(t *testing.T) {
			_, old := compare(t, &snapshot{}, before)
			result, now := compare(t, old, c.now)
			assert.Equal(t, c.want, tell(now))
			assert.Equal(t, []int64{c.new, c.changed, c.gone}, []int64{result.new, result.changed, result.gone})
			assert.Len(t, result.added, int(c.new))
			assert.Len(t, result.altered, c.altered)
			seen := map[int64]bool{}
			for _, files := range now.folders {
				for _, f := range files {
					assert.NotZero(t, f.id)
					assert.False(t, seen[f.id], "an id is given twice")
					seen[f.id] = true
				}
			}
		})
	}
}

// What comes back is present again with the id it had, and what was read of it
// still stands if its mark does.
func TestReturning(t *testing.T) {
	_, first := compare(t, &snapshot{}, listed("deep/a.csv 1", "deep/b.csv 1"))
	for _, path := range []string{"deep/a.csv", "deep/b.csv"} {
		first.find(path).read = &read{digest: "of " + path}
	}
	id := first.find("deep/a.csv").id
	_, gone := compare(t, first, listed())
	result, back := compare(t, gone, listed("deep/a.csv 1", "deep/b.csv 2"))
	assert.Equal(t, int64(2), result.new)
	assert.Empty(t, result.added)
	a, b := back.find("deep/a.csv"), back.find("deep/b.csv")
	assert.Equal(t, id, a.id)
	assert.Equal(t, changes.Present, a.evidence)
	require.NotNil(t, a.read)
	assert.Equal(t, "of deep/a.csv", a.read.digest)
	assert.Nil(t, b.read, "its bytes may be others now")

	_, unseen := compare(t, back, listed("deep/"))
	assert.Equal(t, []string{"deep/a.csv unseen", "deep/b.csv unseen"}, tell(unseen))
	_, again := compare(t, unseen, listed("deep/b.csv 2"))
	assert.Equal(t, []string{"deep/a.csv gone", "deep/b.csv present"}, tell(again))
}

func TestFind(t *testing.T) {
	_, s := compare(t, &snapshot{}, listed("a.csv 1", "deep/b.csv 1", "deep/\xff.csv 1"))
	for _, path := range []string{"a.csv", "deep/b.csv", "deep/\xff.csv"} {
		require.NotNil(t, s.find(path), path)
	}
	for _, path := range []string{"b.csv", "deep", "deep/a.csv", ""} {
		assert.Nil(t, s.find(path), path)
	}
}
