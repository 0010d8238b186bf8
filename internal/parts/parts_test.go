package parts_test

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

	"jorvex/internal/core/finding"
	"jorvex/internal/core/shaping"
	"jorvex/internal/core/totals"
	"jorvex/internal/parts"
)

func made(t *testing.T, s *parts.Store, name, rows string, found ...finding.Finding) *parts.Part {
	t.Helper()
	p, err := s.Make(name, true, func(w io.Writer) (parts.Known, error) {
		_, err := io.WriteString(w, rows)
		var sum totals.Sum
		sum.Add([]byte("12.50"))
		return parts.Known{Kind: "text", Result: shaping.Result{Read: 3, Kept: 2, Sums: []totals.Sum{sum}, Findings: found, Headers: []string{"a"}, Rows: shaping.Runs{{2, 3}}}}, err
	})
	require.NoError(t, err)
	return p
}

func read(p *parts.Part) (string, error) {
	r, err := p.Open()
	if err != nil {
		return "", err
	}
	defer r.Close()
	b, err := io.ReadAll(r)
	return string(b), err
}

// files lists what the store holds on the disk.
func files(t *testing.T, dir string) (list []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			list = append(list, path)
		}
		return err
	}))
	return list
}

func TestParts(t *testing.T) {
	dir := t.TempDir()
	s, err := parts.Open(dir, 1<<20)
	require.NoError(t, err)
	name := parts.Name("c", "l", shaping.Origin{Path: "x"})
	for _, other := range []string{parts.Name("d", "l", shaping.Origin{Path: "x"}), parts.Name("c", "m", shaping.Origin{Path: "x"}), parts.Name("c", "l", shaping.Origin{Path: "y"}), parts.Name("c", "l", shaping.Origin{Path: "x", Captures: map[string]string{"day": "1"}})} {
		assert.NotEqual(t, name, other)
	}
	_, found := s.Find(name)
	assert.False(t, found)
	rows := strings.Repeat("Eskvik,12.50\r\n", 10_000)
	first := made(t, s, name, rows, finding.New(finding.UnevenRows, "one"))

	again, err := parts.Open(dir, 1<<20)
	require.NoError(t, err)
	p, found := again.Find(name)
	require.True(t, found)
	assert.Equal(t, first.Digest, p.Digest)
	assert.EqualValues(t, len(rows), p.Size)
	assert.Equal(t, "12.50", p.Result.Sums[0].String())
	assert.Equal(t, first.Result.Findings, p.Result.Findings)
	assert.EqualValues(t, 3, p.Result.Rows.At(1))
	for range 2 { // a decoder is used again
		got, err := read(p)
		require.NoError(t, err)
		assert.Equal(t, rows, got)
	}

	// What is damaged is told, and taken away.
	for _, path := range files(t, dir) {
		if !strings.HasSuffix(path, ".json") {
			b, err := os.ReadFile(path)
			require.NoError(t, err)
			b[len(b)/2] ^= 0x40
			require.NoError(t, os.WriteFile(path, b, 0o600))
		}
	}
	_, err = read(p)
	require.ErrorIs(t, err, parts.ErrDamaged)
	assert.True(t, first.Digest == p.Digest && !p.Sound())
	p.Remove()
	_, found = again.Find(name)
	assert.False(t, found)
	assert.Empty(t, files(t, dir))
}

func TestWhatIsNotKept(t *testing.T) {
	dir := t.TempDir()
	s, err := parts.Open(dir, 1<<20)
	require.NoError(t, err)
	p := made(t, s, parts.Name("a", "", shaping.Origin{}), "x\r\n", finding.New(finding.Empty, ""))
	_, broken := p.Result.Broken()
	assert.True(t, broken)
	full := errors.New("the disk is full")
	_, err = s.Make(parts.Name("b", "", shaping.Origin{}), false, func(io.Writer) (parts.Known, error) { return parts.Known{}, full })
	assert.ErrorIs(t, err, full)
	assert.Empty(t, files(t, dir))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "incoming", "left"), nil, 0o600))
	_, err = parts.Open(dir, 1)
	require.NoError(t, err)
	assert.Empty(t, files(t, dir))
}

func TestPrune(t *testing.T) {
	dir := t.TempDir()
	s, err := parts.Open(dir, 900)
	require.NoError(t, err)
	names := make([]string, 4)
	for i := range names {
		names[i] = parts.Name(string(rune('a'+i)), "", shaping.Origin{})
		made(t, s, names[i], "x\r\n")
		time.Sleep(5 * time.Millisecond)
	}
	gone, err := s.Prune(time.Now())
	require.NoError(t, err)
	assert.Zero(t, gone, "what was used lately stays")
	_, found := s.Find(names[0])
	assert.True(t, found)
	s, err = parts.Open(dir, 600) // for two of four
	require.NoError(t, err)
	gone, err = s.Prune(time.Now().Add(2 * time.Hour))
	require.NoError(t, err)
	assert.Positive(t, gone)
	_, found = s.Find(names[0])
	assert.True(t, found, "it was used last")
	_, found = s.Find(names[1])
	assert.False(t, found)
}
