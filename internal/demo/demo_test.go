package demo_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/listing"
	"jorvex/internal/core/selection"
	"jorvex/internal/demo"
)

var friday = time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)

// tree returns what lies below a directory: path, time and digest.
func tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	files := map[string]string{}
	root := os.DirFS(dir)
	require.NoError(t, fs.WalkDir(root, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := fs.ReadFile(root, path)
		require.NoError(t, err)
		info, err := d.Info()
		files[path] = fmt.Sprintf("%d %x", info.ModTime().Unix(), sha256.Sum256(content))
		return err
	}))
	return files
}

func TestSameOptionsMakeTheSameFiles(t *testing.T) {
	one, two, other := t.TempDir(), t.TempDir(), t.TempDir()
	require.NoError(t, demo.Generate(one, demo.Options{Seed: 1, End: friday}))
	require.NoError(t, demo.Generate(two, demo.Options{Seed: 1, End: friday}))
	require.NoError(t, demo.Generate(other, demo.Options{Seed: 2, End: friday}))
	assert.Equal(t, tree(t, one), tree(t, two))
	assert.NotEqual(t, tree(t, one), tree(t, other))
}

// judged judges the demo's files by one of its definitions.
func judged(t *testing.T, text string) (counts map[selection.Code]int, result *selection.Result) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, demo.Generate(dir, demo.Options{Seed: 1, End: friday}))
	def, err := definition.Parse(text, friday)
	require.NoError(t, err)
	var files []selection.File
	for path, content := range tree(t, dir+"/"+demo.Share) {
		files = append(files, selection.File{Path: path, Size: int64(len(content))})
	}
	around := selection.Surroundings{AsOf: friday, NearMisses: true}
	if def.List != nil {
		content, err := os.ReadFile(filepath.Join(dir, demo.Share, def.Folder, def.List.File))
		require.NoError(t, err)
		around.List, err = listing.Read(def.List, content)
		require.NoError(t, err)
	}
	result = selection.New(def, around).Judge(files)
	counts = map[selection.Code]int{}
	for _, d := range result.Decisions {
		if d.Code != selection.OutsideFolder {
			counts[d.Code]++
		}
	}
	return counts, result
}

func input(t *testing.T, name string) string {
	t.Helper()
	i := slices.IndexFunc(demo.Inputs, func(text string) bool { return strings.HasPrefix(text, "input: "+name+"\n") })
	require.GreaterOrEqual(t, i, 0, name)
	return demo.Inputs[i]
}

// Colleagues do all kinds of things to the files, and can make them good.
func TestColleagues(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Generate(dir, demo.Options{Seed: 1, End: friday}))
	before := tree(t, dir+"/"+demo.Share)
	atOnce, cancel := context.WithCancel(t.Context())
	cancel() // nothing is waited for between the pieces of a file
	c := demo.NewColleagues(dir, 1)
	did := map[string]int{}
	for range 80 {
		what, err := c.Act(atOnce)
		require.NoError(t, err)
		did[strings.Fields(what)[1]]++
	}
	for _, act := range []string{"drops", "adds", "takes", "breaks", "mends", "brings", "makes"} {
		assert.Positive(t, did[act], act)
	}
	require.NoError(t, c.MakeGood(atOnce))
	after := tree(t, dir+"/"+demo.Share)
	for path := range before {
		assert.Contains(t, after, path)
	}
	for path := range after {
		content, err := os.ReadFile(filepath.Join(dir, demo.Share, path))
		require.NoError(t, err)
		assert.NotContains(t, string(content), "\n\"SK...", "%s was left broken", path)
	}
}

func TestLastDay(t *testing.T) {
	assert.Equal(t, 19, demo.LastDay(friday.Add(18*time.Hour)).Day())
	assert.Equal(t, 20, demo.LastDay(friday.Add(19*time.Hour)).Day())
}

func TestDefinitionsPickTheGoodFiles(t *testing.T) {
	// Six terminals on forty working days, two of them late.
	counts, r := judged(t, input(t, "daily-loadings"))
	assert.Equal(t, map[selection.Code]int{selection.PatternMatches: 238, selection.NoPattern: 7, selection.ScratchFile: 2}, counts)
	assert.Len(t, r.Cures, 2, "a copy, a misspelt name")
	counts, _ = judged(t, input(t, "fuel-uplift"))
	assert.Equal(t, map[selection.Code]int{selection.PatternMatches: 23, selection.NoPattern: 1}, counts)
	counts, _ = judged(t, input(t, "crew-hours"))
	assert.Equal(t, map[selection.Code]int{selection.PatternMatches: 48, selection.NoPattern: 1}, counts)
	counts, r = judged(t, input(t, "tariff-card"))
	assert.Equal(t, map[selection.Code]int{selection.PatternMatches: 1, selection.NotLatest: 3, selection.NotYet: 1, selection.NoPattern: 3, selection.ScratchFile: 1}, counts)
	assert.Len(t, r.Cures, 2, "an underscore, a day 31 that there is not")
	counts, _ = judged(t, input(t, "berth-incidents"))
	assert.Equal(t, map[selection.Code]int{selection.PatternMatches: 19, selection.LeaveOutRule: 1, selection.NoPattern: 1}, counts)
	counts, r = judged(t, input(t, "quay-inspections"))
	assert.Equal(t, map[selection.Code]int{selection.Listed: 4, selection.NotListed: 3}, counts)
	require.Len(t, r.Missing, 1)
	assert.Equal(t, "2026/Dunvara quays.xlsx", r.Missing[0].Path)
}
