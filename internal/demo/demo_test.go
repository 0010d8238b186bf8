package demo_test

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
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

func TestDailyLoadingsPicksTheGoodFiles(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Generate(dir, demo.Options{Seed: 1, End: friday}))
	def, err := definition.Parse(demo.Input)
	require.NoError(t, err)
	judge := selection.New(def, selection.Surroundings{})
	counts := map[selection.Code]int{}
	for path := range tree(t, dir+"/"+demo.Share) {
		counts[judge.Decide(path).Code]++
	}
	// Six terminals on forty working days, two of them late.
	assert.Equal(t, map[selection.Code]int{selection.PatternMatches: 238, selection.NoPattern: 7, selection.ScratchFile: 2, selection.OutsideFolder: 1}, counts)
}
