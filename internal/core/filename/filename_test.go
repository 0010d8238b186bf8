package filename_test

import (
	"bytes"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/filename"
)

func TestShow(t *testing.T) {
	for raw, shown := range map[string]string{
		"loadings/Eskvik.csv":  "loadings/Eskvik.csv",
		"Brannhöld.csv":        "Brannhöld.csv",
		"berth\xff\xfe.csv":    `berth\xFF\xFE.csv`,
		"two\nlines.csv":       `two\u{A}lines.csv`,
		"fdp.\u202egnp":        `fdp.\u{202E}gnp`,
		`back\slash`:           `back\\slash`,
		"\\xFF is not a byte":  `\\xFF is not a byte`,
		"tab\tand\x7fdelete":   `tab\u{9}and\u{7F}delete`,
		"caf\u0301e\u0301.csv": "caf\u0301e\u0301.csv",
	} {
		assert.Equal(t, shown, filename.Show(raw))
		back, err := filename.Parse(shown)
		require.NoError(t, err)
		assert.Equal(t, raw, back)
	}
	for _, bad := range []string{`\q`, `\xZZ`, `\x1`, `\u{12`, `\u{zz}`, `ends\`} {
		_, err := filename.Parse(bad)
		assert.Error(t, err, bad)
	}
}

func FuzzShow(f *testing.F) {
	f.Add("berth\xff\n\\")
	f.Fuzz(func(t *testing.T, raw string) {
		back, err := filename.Parse(filename.Show(raw))
		require.NoError(t, err)
		assert.Equal(t, raw, back)
	})
}

func TestNaturalOrder(t *testing.T) {
	want := []string{
		"a/berth 2.csv", "a/berth 10.csv", "a/berth 010.csv", "a/Berth 11.csv", "a b.csv",
		"berth", "berth/1", "berth 1", "Éskvik.csv", "éskvik2.csv", "\xff.csv",
	}
	got := slices.Clone(want)
	slices.Reverse(got)
	slices.SortFunc(got, func(a, b string) int { return bytes.Compare(filename.SortKey(a), filename.SortKey(b)) })
	// Equal numbers tie, so the raw bytes decide between 10 and 010.
	want[1], want[2] = want[2], want[1]
	assert.Equal(t, want, got)
}

func TestBelow(t *testing.T) {
	below, ok := filename.Below("loadings", "loadings/Eskvik/a.csv")
	assert.True(t, ok)
	assert.Equal(t, "Eskvik/a.csv", below)
	for _, outside := range []string{"loadings", "loadings-old/a.csv", "fuel/a.csv"} {
		_, ok := filename.Below("loadings", outside)
		assert.False(t, ok, outside)
	}
	below, ok = filename.Below("", "a.csv")
	assert.True(t, ok)
	assert.Equal(t, "a.csv", below)
}
