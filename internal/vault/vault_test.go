package vault_test

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/vault"
)

// put stores a text in a batch of its own.
func put(t *testing.T, v *vault.Vault, text string) vault.Object {
	t.Helper()
	b := v.Batch()
	o, err := b.Put(strings.NewReader(text))
	require.NoError(t, err)
	assert.False(t, v.Has(o.Digest), "not before the batch is committed")
	r, err := b.Open(o.Digest)
	require.NoError(t, err)
	back, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	assert.Equal(t, text, string(back))
	require.NoError(t, b.Commit())
	return o
}

func TestPutAndOpen(t *testing.T) {
	dir := t.TempDir()
	v, err := vault.Open(dir)
	require.NoError(t, err)
	text := strings.Repeat("SK00001,Petrel,10\n", 100_000)
	first := put(t, v, text)
	b := v.Batch()
	again, err := b.Put(strings.NewReader(text))
	require.NoError(t, err)
	require.NoError(t, b.Commit())
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
	given := v.Batch()
	_, err = given.Put(strings.NewReader("given up"))
	require.NoError(t, err)
	given.Discard()
	_, err = v.Batch().Put(iotest.ErrReader(errors.New("the share is gone")))
	assert.ErrorContains(t, err, "the share is gone")
	_, err = v.Batch().Put(strings.NewReader("the process is killed here"))
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
	one, two := put(t, v, "one"), put(t, v, "two")
	path := func(o vault.Object) string { return filepath.Join(dir, o.Digest[:2], o.Digest[2:]+".zst") }
	other, err := os.ReadFile(path(two))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path(one), other, 0o600))
	r, err := v.Open(one.Digest)
	require.NoError(t, err)
	_, err = io.ReadAll(r)
	assert.ErrorContains(t, err, "is damaged")
}

// An object that somebody counts on stays, however long ago it was stored.
func TestRemoveSparesWhatIsWanted(t *testing.T) {
	dir := t.TempDir()
	v, err := vault.Open(dir)
	require.NoError(t, err)
	wanted, again, old := put(t, v, "wanted"), put(t, v, "stored again"), put(t, v, "old")
	began := time.Now()
	assert.True(t, v.Want(wanted.Digest))
	b := v.Batch()
	_, err = b.Put(strings.NewReader("stored again"))
	require.NoError(t, err)
	require.NoError(t, b.Commit())
	assert.False(t, v.Want(strings.Repeat("0", 64)))
	assert.False(t, v.Want("../"+old.Digest))

	all := []string{wanted.Digest, again.Digest, old.Digest, strings.Repeat("0", 64)}
	objects, bytes, err := v.Remove(all, began)
	require.NoError(t, err)
	assert.Equal(t, int64(1), objects)
	assert.Positive(t, bytes)
	assert.Equal(t, []bool{true, true, false}, []bool{v.Has(wanted.Digest), v.Has(again.Digest), v.Has(old.Digest)})
	objects, _, err = v.Remove(all, time.Now())
	require.NoError(t, err)
	assert.Equal(t, int64(2), objects)
	_, _, err = v.Remove([]string{"../../x"}, time.Now())
	assert.ErrorContains(t, err, "is no digest")
	left, err := filepath.Glob(filepath.Join(dir, "*", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
