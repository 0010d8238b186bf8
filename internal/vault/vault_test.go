package vault_test

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/vault"
)

func TestPutAndOpen(t *testing.T) {
	dir := t.TempDir()
	v, err := vault.Open(dir)
	require.NoError(t, err)
	text := strings.Repeat("SK00001,Petrel,10\n", 100_000)
	first, err := v.Put(strings.NewReader(text))
	require.NoError(t, err)
	again, err := v.Put(strings.NewReader(text))
	require.NoError(t, err)
	assert.Equal(t, first, again)
	assert.Equal(t, int64(len(text)), first.Size)
	assert.True(t, v.Has(first.Digest))

	r, err := v.Open(first.Digest)
	require.NoError(t, err)
	back, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	assert.Equal(t, text, string(back))

	_, err = v.Open(strings.Repeat("0", 64))
	assert.ErrorIs(t, err, vault.ErrMissing)
	_, err = v.Open("../../etc/passwd")
	assert.ErrorContains(t, err, "is no digest")
}

func TestGivenUpAndInterruptedObjectsLeaveNothing(t *testing.T) {
	dir := t.TempDir()
	v, err := vault.Open(dir)
	require.NoError(t, err)
	w, err := v.Writer()
	require.NoError(t, err)
	_, err = w.Write([]byte("half"))
	require.NoError(t, err)
	w.Discard()
	_, err = v.Writer() // the process is killed here
	require.NoError(t, err)
	_, err = vault.Open(dir)
	require.NoError(t, err)
	left, err := filepath.Glob(filepath.Join(dir, "*", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestDamageIsTold(t *testing.T) {
	dir := t.TempDir()
	v, err := vault.Open(dir)
	require.NoError(t, err)
	one, err := v.Put(strings.NewReader("one"))
	require.NoError(t, err)
	two, err := v.Put(strings.NewReader("two"))
	require.NoError(t, err)
	path := func(o vault.Object) string { return filepath.Join(dir, o.Digest[:2], o.Digest[2:]+".zst") }
	other, err := os.ReadFile(path(two))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path(one), other, 0o600))
	r, err := v.Open(one.Digest)
	require.NoError(t, err)
	_, err = io.ReadAll(r)
	assert.ErrorContains(t, err, "is damaged")
}
