package receipt_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/receipt"
)

// A report's receipt can be taken for that of each input alone.
func TestSections(t *testing.T) {
	a := receipt.Section{InputID: 1, Input: "a", Files: 2, Rows: 20, NotUsed: 1, FilesDigest: "fa", Totals: []receipt.Total{{Column: "n", Sum: "1.5"}},
		LeftOut: []receipt.ReasonCount{{Reason: "no_pattern", Files: 3}}, Deliveries: []receipt.Delivery{{Kind: "file", Name: "a.csv"}}, Passed: []receipt.Passed{{Cause: "near_miss", Says: "1 file"}}}
	b := receipt.Section{InputID: 2, Input: "b", Files: 1, Rows: 5, FilesDigest: "fb", Totals: []receipt.Total{{Column: "n", Sum: "2"}},
		LeftOut: []receipt.ReasonCount{{Reason: "no_pattern", Files: 1}, {Reason: "scratch_file", Files: 1}}, Deliveries: []receipt.Delivery{{Kind: "table", Name: "b"}}}
	h := receipt.Header{Form: receipt.Version, Number: 4, Section: receipt.Together("both", receipt.DefinitionMark{Version: 7}, []receipt.Section{a, b}), Inputs: []receipt.Section{a, b}}
	assert.True(t, h.Report())
	assert.Equal(t, []any{"both", int64(0), int64(3), int64(25), int64(1)}, []any{h.Input, h.InputID, h.Files, h.Rows, h.NotUsed})
	assert.Equal(t, []receipt.Total{{Column: "a.n", Sum: "1.5"}, {Column: "b.n", Sum: "2"}}, h.Totals)
	assert.Equal(t, []receipt.ReasonCount{{Reason: "no_pattern", Files: 4}, {Reason: "scratch_file", Files: 1}}, h.LeftOut)
	assert.Len(t, h.Deliveries, 2)
	assert.Equal(t, "a: 1 file", h.Passed[0].Says)
	assert.Equal(t, "1 file", a.Passed[0].Says)

	text, err := receipt.Canonical(h)
	require.NoError(t, err)
	again, err := receipt.ParseHeader(text)
	require.NoError(t, err)
	one, of := again.Of(2)
	require.True(t, of)
	assert.Equal(t, []any{"b", int64(5), "fb", int64(4), false}, []any{one.Input, one.Rows, one.FilesDigest, one.Number, one.Report()})
	_, of = again.Of(9)
	assert.False(t, of)

	alone := receipt.Header{Section: a}
	assert.False(t, alone.Report())
	assert.Equal(t, []receipt.Section{a}, alone.Sections())
	same, of := alone.Of(1)
	assert.True(t, of)
	assert.Equal(t, alone, same)
}

// The records of handovers are a chain of their own.
func TestHandoverChain(t *testing.T) {
	var chain []receipt.Stored
	previous := receipt.None
	for n := range int64(3) {
		text, err := receipt.Canonical(receipt.HandoverRecord{Form: receipt.Version, Number: n + 1, Previous: previous, Receipt: 10 + n,
			Files: []receipt.HandedOver{{Path: "in/a.csv", Action: "move", Target: "done/a.csv"}}})
		require.NoError(t, err)
		chain = append(chain, receipt.Stored{Number: n + 1, Header: text, Digest: receipt.Digest(text), Previous: previous})
		previous = receipt.Digest(text)
	}
	check := func(list []receipt.Stored) (receipt.HandoverChain, error) {
		var c receipt.HandoverChain
		for _, s := range list {
			if err := c.Check(s); err != nil {
				return c, err
			}
		}
		return c, nil
	}
	c, err := check(chain)
	require.NoError(t, err)
	assert.Equal(t, int64(3), c.Checked)
	for name, spoil := range map[string]func(list []receipt.Stored){
		"its text":       func(l []receipt.Stored) { l[1].Header = append([]byte{}, append(l[1].Header, ' ')...) },
		"its digest":     func(l []receipt.Stored) { l[1].Digest = receipt.None },
		"its number":     func(l []receipt.Stored) { l[1].Number = 7 },
		"the one before": func(l []receipt.Stored) { l[1].Previous = receipt.None },
		"no JSON": func(l []receipt.Stored) {
			l[1].Header = []byte("{")
			l[1].Digest = receipt.Digest(l[1].Header)
		},
	} {
		list := append([]receipt.Stored{}, chain...)
		spoil(list)
		c, err := check(list)
		var altered *receipt.AlteredHandover
		require.ErrorAs(t, err, &altered, name)
		assert.Equal(t, int64(2), altered.Number, name)
		assert.Equal(t, int64(1), c.Checked, name)
	}
	_, err = check(chain[1:])
	assert.Error(t, err, "the first is not there")
}
