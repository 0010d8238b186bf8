package records_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/receipt"
	"jorvex/internal/records"
)

// The journal of handovers is written with the receipt, worked off once, and told in
// a chain of its own.
func TestHandoverJournal(t *testing.T) {
	s := open(t)
	place, in := input(t, s, "a")
	list := []records.NewHandover{
		{PlaceID: place.ID, FileID: 5, Path: "in/x\xff.csv", Size: 3, Modified: 7, Digest: "d1", Action: "move", Folder: "done", Keep: true},
		{PlaceID: place.ID, FileID: 6, Path: "in/y.csv", Digest: "d2", Action: "copy", Folder: "kept"},
		{PlaceID: place.ID, FileID: 7, Path: "in/z.csv", Digest: "d3", Action: "delete"},
	}
	stored := deliver(t, s, in, records.Commit{Inputs: []records.InputCommit{{Handover: list}}}, "in/x\xff.csv", "d1")
	due, err := s.DueHandovers(t.Context())
	require.NoError(t, err)
	require.Len(t, due, 3)
	assert.Equal(t, []any{"in/x\xff.csv", "move", "done", true, stored.Number}, []any{string(due[0].Path), due[0].Action, string(due[0].Folder), due[0].Keep, due[0].Receipt})
	copied, err := s.Copied(t.Context(), in.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]map[string]bool{"in/y.csv": {"d2": true}}, copied)

	records2 := 0
	tell := func() {
		require.NoError(t, s.RecordHandovers(t.Context(), func(number int64, previous string, list []records.Handover) ([]byte, error) {
			records2++
			r := receipt.HandoverRecord{Form: receipt.Version, Number: number, Previous: previous, Receipt: list[0].Receipt}
			for _, h := range list {
				r.Files = append(r.Files, receipt.HandedOver{Path: string(h.Path), Problem: h.Problem})
			}
			return receipt.Canonical(r)
		}))
	}
	require.NoError(t, s.AimHandover(t.Context(), due[0].ID, "done/x\xff.csv"))
	require.NoError(t, s.EndHandover(t.Context(), due[0], now, ""))
	tell()
	assert.Zero(t, records2, "some are still due")
	require.NoError(t, s.EndHandover(t.Context(), due[1], now, ""))
	require.NoError(t, s.EndHandover(t.Context(), due[2], now, "it was changed"))
	require.NoError(t, s.EndHandover(t.Context(), due[2], now, ""), "once more, as after a crash")
	tell()
	tell()
	assert.Equal(t, 1, records2)
	checked, err := s.VerifyHandovers(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(1), checked)
	left, err := s.DueHandovers(t.Context())
	require.NoError(t, err)
	assert.Empty(t, left)

	handed, err := s.HandedOver(t.Context(), in.ID)
	require.NoError(t, err)
	assert.Len(t, handed, 1, "what was copied, or left where it was, was not taken")
	assert.Equal(t, records.HandedOver{Path: []byte("in/x\xff.csv"), FileID: 5, Size: 3, Modified: 7, Digest: "d1", Receipt: stored.Number, Feeds: true}, handed["in/x\xff.csv"])
	targets, err := s.HandoverTargets(t.Context(), place.Directory)
	require.NoError(t, err)
	assert.Equal(t, []string{"done/x\xff.csv"}, targets)

	_, err = s.Pool.Exec(t.Context(), "UPDATE handover_records SET record = record || ' '")
	require.NoError(t, err)
	var altered *receipt.AlteredHandover
	_, err = s.VerifyHandovers(t.Context())
	assert.ErrorAs(t, err, &altered)
}

// A bounded vault keeps what the newest receipts need, what each set of parameters
// was delivered from last, and what was handed over and still feeds.
func TestRetention(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	_, other := input(t, s, "b")
	day := func(n int) { // the refreshes so far were so many days ago
		_, err := s.Pool.Exec(t.Context(), "UPDATE refreshes SET ended = ended - $1 * interval '1 day'", n)
		require.NoError(t, err)
	}
	deliver(t, s, in, records.Commit{}, "x", "x1", "y", "y1")
	deliver(t, s, in, records.Commit{Inputs: []records.InputCommit{{Parameters: `{"period":"2026-09"}`}}}, "x", "x1", "z", "z1")
	deliver(t, s, other, records.Commit{}, "y", "y1")
	day(10)
	deliver(t, s, in, records.Commit{}, "x", "x2", "y", "y1")
	day(10)
	deliver(t, s, in, records.Commit{}, "x", "x3", "y", "y2")
	freed := func(days, count int) ([]string, []records.Unreplayable) {
		list, lost, err := s.Freed(t.Context(), records.Retention{Days: days, Count: count}, now)
		require.NoError(t, err)
		var digests []string
		for _, d := range list {
			digests = append(digests, d.Digest)
		}
		return digests, lost
	}
	// The second receipt is the last of its parameters, so all before it that it
	// does not share goes at most.
	digests, lost := freed(0, 1)
	assert.Empty(t, digests, "the receipts from the second on are kept, and the first shares its bytes")
	assert.Empty(t, lost)
	_, err := s.Pool.Exec(t.Context(), `UPDATE receipt_inputs SET parameters = '{}'`)
	require.NoError(t, err)
	digests, lost = freed(0, 1)
	assert.ElementsMatch(t, []string{"x1", "x2", "z1"}, digests, "y1 feeds the other input")
	assert.Equal(t, []records.Unreplayable{{Input: "a", Receipts: 3, Last: 4}}, lost)
	digests, _ = freed(15, 0)
	assert.ElementsMatch(t, []string{"x1", "z1"}, digests)
	digests, _ = freed(15, 3)
	assert.ElementsMatch(t, []string{}, digests, "the newest three are kept though they are older")
	_, err = s.Pool.Exec(t.Context(), "INSERT INTO handed_over (input_id, path, file_id, size, modified, digest, receipt, feeds) VALUES ($1, 'z', 1, 0, 0, 'z1', 2, true)", in.ID)
	require.NoError(t, err)
	digests, _ = freed(0, 1)
	assert.ElementsMatch(t, []string{"x1", "x2"}, digests, "z was handed over and feeds on")

	// What went is not missed, until a newer receipt names it.
	list, _, err := s.Freed(t.Context(), records.Retention{Count: 1}, now)
	require.NoError(t, err)
	assert.Contains(t, list, records.Droppable{Digest: "x2", Through: 4})
	for range 2 {
		require.NoError(t, s.NoteFreed(t.Context(), list))
	}
	require.NoError(t, s.NoteFreed(t.Context(), nil))
	was := func(digest string) bool {
		freed, err := s.WasFreed(t.Context(), digest)
		require.NoError(t, err)
		return freed
	}
	assert.Equal(t, []bool{true, true, false, false}, []bool{was("x1"), was("x2"), was("y1"), was("none")})
	deliver(t, s, in, records.Commit{}, "x", "x2", "y", "y2")
	assert.Equal(t, []bool{true, false}, []bool{was("x1"), was("x2")})

	needs, err := s.NeededBy(t.Context(), "y1")
	require.NoError(t, err)
	assert.Equal(t, records.Needs{Receipts: 3, First: 1, Last: 4}, needs)
	keep, err := s.Retention(t.Context())
	require.NoError(t, err)
	assert.True(t, keep.None())
	require.NoError(t, s.SetRetention(t.Context(), records.Retention{Days: 400, Count: 12}))
	keep, err = s.Retention(t.Context())
	require.NoError(t, err)
	assert.Equal(t, records.Retention{Days: 400, Count: 12}, keep)
}

func TestConnections(t *testing.T) {
	s := open(t)
	require.NoError(t, s.SetConnection(t.Context(), records.Connection{Name: "b", URL: "postgres://one"}))
	require.NoError(t, s.SetConnection(t.Context(), records.Connection{Name: "a", URL: "postgres://two"}))
	require.NoError(t, s.SetConnection(t.Context(), records.Connection{Name: "b", URL: "postgres://three"}))
	list, err := s.Connections(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []records.Connection{{"a", "postgres://two"}, {"b", "postgres://three"}}, list)
	require.NoError(t, s.DropConnection(t.Context(), "a"))
	assert.ErrorIs(t, s.DropConnection(t.Context(), "a"), records.ErrNotFound)
	_, err = s.Connection(t.Context(), "a")
	assert.ErrorIs(t, err, records.ErrNotFound)
}

// A refresh that waits or asks can be cancelled by its row; one that runs not, and
// one that ended not again.
func TestCancelRefresh(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	ask := func() int64 {
		id, err := s.AskRefresh(t.Context(), of(in), records.Request{}, "local", now, noJob)
		require.NoError(t, err)
		return id
	}
	waiting := ask()
	require.NoError(t, s.CancelRefresh(t.Context(), waiting, "Ylva", now))
	r, err := s.Refresh(t.Context(), waiting)
	require.NoError(t, err)
	assert.Equal(t, []any{records.Cancelled, "cancelled by Ylva"}, []any{r.Outcome, r.Problem})
	assert.ErrorIs(t, s.CancelRefresh(t.Context(), waiting, "Ylva", now), records.ErrConflict)

	running := ask()
	fence, err := s.ClaimRefresh(t.Context(), running, now)
	require.NoError(t, err)
	assert.ErrorIs(t, s.CancelRefresh(t.Context(), running, "Ylva", now), records.ErrConflict)
	require.NoError(t, s.EndRefresh(t.Context(), running, fence, now, records.Ending{Outcome: records.Asking, Asks: []string{"missing"}}, noJob))
	require.NoError(t, s.CancelRefresh(t.Context(), running, "Ylva", now))

	// A rehearsal leaves a question open; a refresh overtakes it.
	asking := ask()
	fence, err = s.ClaimRefresh(t.Context(), asking, now)
	require.NoError(t, err)
	require.NoError(t, s.EndRefresh(t.Context(), asking, fence, now, records.Ending{Outcome: records.Asking, Asks: []string{"missing"}}, noJob))
	for _, rehearse := range []bool{true, false} {
		id, err := s.AskRefresh(t.Context(), of(in), records.Request{Rehearse: rehearse}, "local", now, noJob)
		require.NoError(t, err)
		fence, err = s.ClaimRefresh(t.Context(), id, now)
		require.NoError(t, err)
		require.NoError(t, s.EndRefresh(t.Context(), id, fence, now.Add(time.Second), records.Ending{Outcome: records.Rehearsed, Rehearsal: []byte("{}")}, noJob))
		r, err = s.Refresh(t.Context(), asking)
		require.NoError(t, err)
		assert.Equal(t, map[bool]records.Outcome{true: records.Asking, false: records.Stopped}[rehearse], r.Outcome)
	}
	last, err := s.LastRefreshes(t.Context(), []int64{in.ID})
	require.NoError(t, err)
	assert.False(t, last[in.ID].Request.Rehearse, "rehearsals are not told as refreshes of the input")
	n := 0
	require.NoError(t, s.EachRehearsal(t.Context(), func([]byte) error { n++; return nil }))
	assert.Equal(t, 2, n)
}
