package receipt_test

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/receipt"
)

func chain(t *testing.T, n int) []receipt.Stored {
	t.Helper()
	var stored []receipt.Stored
	previous := receipt.None
	for i := range n {
		h := receipt.Header{Form: receipt.Version, Number: int64(i + 1), Previous: previous, Section: receipt.Section{Input: "daily-loadings", Rows: 1 << 60}}
		bytes, err := receipt.Canonical(h)
		require.NoError(t, err)
		stored = append(stored, receipt.Stored{Number: h.Number, Header: bytes, Digest: receipt.Digest(bytes), Previous: previous})
		previous = receipt.Digest(bytes)
	}
	return stored
}

func check(stored []receipt.Stored) error {
	var c receipt.Chain
	for _, s := range stored {
		if err := c.Check(s); err != nil {
			return err
		}
	}
	return nil
}

func TestChain(t *testing.T) {
	require.NoError(t, check(chain(t, 4)))
	for name, spoil := range map[string]struct {
		with   func(s []receipt.Stored) []receipt.Stored
		number int64
		says   string
	}{
		"a header altered": {func(s []receipt.Stored) []receipt.Stored {
			s[1].Header = bytes.Replace(s[1].Header, []byte("daily"), []byte("daisy"), 1)
			return s
		}, 2, "its header has digest"},
		"a header and its digest altered": {func(s []receipt.Stored) []receipt.Stored {
			s[1].Header = bytes.Replace(s[1].Header, []byte("daily"), []byte("daisy"), 1)
			s[1].Digest = receipt.Digest(s[1].Header)
			return s
		}, 3, "as the one before"},
		"a receipt taken out": {func(s []receipt.Stored) []receipt.Stored { return append(s[:1], s[2:]...) }, 2, "it is not there"},
		"two exchanged": {func(s []receipt.Stored) []receipt.Stored {
			s[1].Header, s[2].Header = s[2].Header, s[1].Header
			s[1].Digest, s[2].Digest = s[2].Digest, s[1].Digest
			return s
		}, 2, "carries the number 3"},
		"not canonical": {func(s []receipt.Stored) []receipt.Stored {
			s[0].Header = append([]byte(" "), s[0].Header...)
			s[0].Digest = receipt.Digest(s[0].Header)
			return s
		}, 1, "not in canonical form"},
	} {
		var link *receipt.BrokenLink
		require.ErrorAs(t, check(spoil.with(chain(t, 4))), &link, name)
		assert.Equal(t, spoil.number, link.Number, name)
		assert.Contains(t, link.Why, spoil.says, name)
	}
}

func TestCanonicalHeader(t *testing.T) {
	stored := chain(t, 1)
	text := string(stored[0].Header)
	assert.True(t, strings.HasPrefix(text, `{"as_of":"0001-01-01T00:00:00Z","asked_by":"","definition":{"digest":"","version":"0"}`), text)
	assert.Contains(t, text, `"rows":"1152921504606846976"`)
}

func TestListComesBack(t *testing.T) {
	files := []receipt.File{
		{Place: "share", Path: `a\xFF.csv`, Size: 1 << 60, Modified: time.Unix(1, 5).UTC(), Digest: "aa", Use: receipt.Current, Read: 3, Kept: 2, Totals: []receipt.Total{{Column: "x", Sum: "1.5"}}},
		{Place: "share", Path: "b.csv", Modified: time.Unix(2, 0).UTC(), Use: receipt.NotUsed, Why: "broken", Findings: []finding.Finding{finding.New(finding.Empty, "")}},
	}
	var b bytes.Buffer
	require.NoError(t, receipt.WriteList(&b, files))
	var back []receipt.File
	require.NoError(t, receipt.ReadList(&b, func(f receipt.File) error {
		back = append(back, f)
		return nil
	}))
	assert.Equal(t, files, back)
	assert.ErrorContains(t, receipt.ReadList(strings.NewReader("{}\n{"), func(receipt.File) error { return nil }), "line 2")
}
