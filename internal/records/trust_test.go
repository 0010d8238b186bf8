package records_test

import (
	"context"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/receipt"
	"jorvex/internal/records"
)

// of is an input as the subject of a refresh.
func of(in records.Input) records.Subject {
	return records.Subject{Input: in.ID, Inputs: []int64{in.ID}}
}

// deliver commits one refresh of an input that some files fed.
func deliver(t *testing.T, s *records.Store, in records.Input, c records.Commit, fed ...string) receipt.Stored {
	t.Helper()
	id, err := s.AskRefresh(t.Context(), of(in), records.Request{}, "local", now, noJob)
	require.NoError(t, err)
	fence, err := s.ClaimRefresh(t.Context(), id, now)
	require.NoError(t, err)
	c.Refresh, c.Fence, c.Ended, c.Job = id, fence, now, noJob
	if len(c.Inputs) == 0 {
		c.Inputs = make([]records.InputCommit, 1)
	}
	one := &c.Inputs[0]
	if one.InputID = in.ID; one.Parameters == "" {
		one.Parameters = "{}"
	}
	for i := 0; i+1 < len(fed); i += 2 {
		one.Fed = append(one.Fed, records.FedFile{Path: fed[i], Digest: fed[i+1]})
	}
	stored, err := s.CommitRefresh(t.Context(), c)
	require.NoError(t, err)
	return stored
}

func TestRequestsThatAskTheSameJoin(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	ask := func(r records.Request) int64 {
		id, err := s.AskRefresh(t.Context(), of(in), r, "local", now, noJob)
		require.NoError(t, err)
		return id
	}
	past := now.Add(-time.Hour)
	usual := ask(records.Request{})
	period := ask(records.Request{Set: definition.Values{"period": "2026-10", "a": "b"}})
	asOf := ask(records.Request{AsOf: &past})
	only := ask(records.Request{Only: []string{"x.csv"}})
	assert.Len(t, map[int64]bool{usual: true, period: true, asOf: true, only: true}, 4)
	assert.Equal(t, usual, ask(records.Request{}))
	assert.Equal(t, period, ask(records.Request{Set: definition.Values{"a": "b", "period": "2026-10"}}))
	assert.Equal(t, asOf, ask(records.Request{AsOf: &past}))
	assert.NotEqual(t, only, ask(records.Request{Only: []string{"y.csv"}}))

	_, err := s.ClaimRefresh(t.Context(), asOf, now)
	require.NoError(t, err)
	r, err := s.Refresh(t.Context(), asOf)
	require.NoError(t, err)
	assert.True(t, past.Equal(r.AsOf))
	_, err = s.ClaimRefresh(t.Context(), usual, now)
	assert.ErrorIs(t, err, records.ErrConflict, "one refresh of an input runs at a time, whatever it asks")
	// The oldest that waits is next.
	var next []int64
	require.NoError(t, s.EndRefresh(t.Context(), asOf, 1, now, records.Ending{Outcome: records.Failed}, func(_ pgx.Tx, id int64) error { next = append(next, id); return nil }))
	assert.Equal(t, []int64{usual}, next)
}

func TestBaselinesGoByParameters(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	deliver(t, s, in, records.Commit{Header: receipt.Header{Section: receipt.Section{Input: "a"}}})
	deliver(t, s, in, records.Commit{Header: receipt.Header{Section: receipt.Section{Input: "a"}}, Inputs: []records.InputCommit{{Parameters: `{"period":"2026-10"}`}}})
	deliver(t, s, in, records.Commit{Header: receipt.Header{Section: receipt.Section{Input: "a"}, Only: []string{"x"}}})
	for parameters, want := range map[string]int64{"{}": 1, `{"period":"2026-10"}`: 2} {
		last, err := s.LastReceipt(t.Context(), in.ID, parameters, 0)
		require.NoError(t, err)
		assert.Equal(t, want, last.Number)
	}
	_, err := s.LastReceipt(t.Context(), in.ID, `{"period":"2026-09"}`, 0)
	assert.ErrorIs(t, err, records.ErrNotFound)
	numbers, err := s.LastReceiptNumbers(t.Context(), []int64{in.ID, 999})
	require.NoError(t, err)
	assert.Equal(t, map[int64]int64{in.ID: 3}, numbers)
}

// Which versions of a file fed which receipts is kept as runs without a break.
func TestFedRuns(t *testing.T) {
	s := open(t)
	_, a := input(t, s, "a")
	_, b := input(t, s, "b")
	deliver(t, s, a, records.Commit{}, "x", "1", "y", "1")
	deliver(t, s, b, records.Commit{}, "x", "1")
	deliver(t, s, a, records.Commit{}, "x", "1", "y", "2")
	deliver(t, s, a, records.Commit{}, "x", "1", "y", "2", "z\xff", "9")
	deliver(t, s, a, records.Commit{Inputs: []records.InputCommit{{Gone: []string{"x"}}}}, "y", "1")
	runs := func(path string) string {
		fed, err := s.FedBy(t.Context(), a.ID, []byte(path))
		require.NoError(t, err)
		text := ""
		for _, f := range fed {
			text += fmt.Sprintf("%s:%d-%d ", f.Digest, f.First, f.Last)
		}
		return text
	}
	assert.Equal(t, "1:1-4 ", runs("x"))
	assert.Equal(t, "1:5-5 2:3-4 1:1-1 ", runs("y"))
	assert.Equal(t, "9:4-4 ", runs("z\xff"))
	departed, err := s.Departed(t.Context(), a.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"x": true}, departed)
	deliver(t, s, a, records.Commit{}, "x", "1")
	departed, err = s.Departed(t.Context(), a.ID)
	require.NoError(t, err)
	assert.Empty(t, departed, "it fed again")
}

func TestHoldsAreKept(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	until := now.Add(time.Hour)
	h, err := s.CreateHold(t.Context(), in.ID, records.Hold{Path: []byte("x\xff"), In: true, Note: "n", By: "local", At: now, Until: &until, Digest: "d"})
	require.NoError(t, err)
	_, err = s.CreateHold(t.Context(), in.ID, records.Hold{Path: []byte("x\xff"), By: "local", At: now})
	assert.ErrorIs(t, err, records.ErrExists)
	list, err := s.Holds(t.Context(), in.ID)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, h.ID, list[0].ID)
	assert.Equal(t, "x\xff d n", fmt.Sprintf("%s %s %s", list[0].Path, list[0].Digest, list[0].Note))
	require.NoError(t, s.EndHold(t.Context(), in.ID, h.ID, now, "released"))
	assert.ErrorIs(t, s.EndHold(t.Context(), in.ID, h.ID, now, "again"), records.ErrNotFound)
	_, err = s.CreateHold(t.Context(), in.ID, records.Hold{Path: []byte("x\xff"), By: "local", At: now})
	require.NoError(t, err, "a file may be held again")
	ended, err := s.EndedHolds(t.Context(), in.ID, 10)
	require.NoError(t, err)
	require.Len(t, ended, 1)
	assert.Equal(t, "released", ended[0].EndedWhy)
}

func TestVersionsAndNames(t *testing.T) {
	s := open(t)
	place, in := input(t, s, "a")
	input(t, s, "b")
	save := func(edited int64, name, text string) error {
		return s.SaveInput(t.Context(), in.ID, edited, records.NewDefinition{Name: name, Text: text, Layout: "l", PlaceID: place.ID, At: now, By: "ingrid"})
	}
	require.NoError(t, save(1, "a", "v2"))
	assert.ErrorIs(t, save(1, "a", "other"), records.ErrConflict)
	assert.ErrorIs(t, save(2, "b", "v3"), records.ErrExists)
	require.NoError(t, save(2, "c", "v3"))
	renamed, err := s.Input(t.Context(), "c")
	require.NoError(t, err)
	assert.Equal(t, in.ID, renamed.ID)
	_, err = s.Input(t.Context(), "a")
	assert.ErrorIs(t, err, records.ErrNotFound)
	list, err := s.Versions(t.Context(), in.ID, 0, 2)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "3 v3 2 v2", fmt.Sprintf("%d %s %d %s", list[0].Version, list[0].Text, list[1].Version, list[1].Text))
	list, err = s.Versions(t.Context(), in.ID, 2, 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	v, err := s.Version(t.Context(), in.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, "v1", v.Text)
	_, err = s.Version(t.Context(), in.ID, 9)
	assert.ErrorIs(t, err, records.ErrNotFound)
}

func TestChangeLogPages(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	var log []records.Change
	for i := range 25 {
		log = append(log, records.Change{Path: []byte(fmt.Sprint("f", i%2)), At: now, State: "new", Size: int64(i)})
	}
	require.NoError(t, s.SaveRoster(t.Context(), in.ID, nil, nil, log, records.Counts{}))
	page, err := s.Changes(t.Context(), in.ID, 0, nil, 10)
	require.NoError(t, err)
	assert.Equal(t, int64(24), page[0].Size)
	next, err := s.Changes(t.Context(), in.ID, page[9].ID, nil, 100)
	require.NoError(t, err)
	assert.Len(t, next, 15)
	one, err := s.Changes(t.Context(), in.ID, 0, []byte("f1"), 100)
	require.NoError(t, err)
	assert.Len(t, one, 12)
	recent, err := s.RecentChanges(t.Context(), 5)
	require.NoError(t, err)
	require.Len(t, recent, 1)
	assert.Equal(t, "a new 25 f0", fmt.Sprintf("%s %s %d %s", recent[0].Input, recent[0].State, recent[0].Files, recent[0].Path))
}

func TestDoubtAndExcuses(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	assert.Nil(t, in.Doubt)
	require.NoError(t, s.SaveDoubt(t.Context(), in.ID, &records.Doubt{Since: now, Gone: 3, Had: 4}))
	in, err := s.Input(t.Context(), "a")
	require.NoError(t, err)
	assert.Equal(t, records.Doubt{Since: now, Gone: 3, Had: 4}, *in.Doubt)
	require.NoError(t, s.SaveDoubt(t.Context(), in.ID, nil))
	in, err = s.Input(t.Context(), "a")
	require.NoError(t, err)
	assert.Nil(t, in.Doubt)

	require.NoError(t, s.SaveExcuse(t.Context(), in.ID, records.Excuse{Member: "x", Period: "2026-10", Note: "one", By: "local", At: now}))
	require.NoError(t, s.SaveExcuse(t.Context(), in.ID, records.Excuse{Member: "x", Period: "2026-10", Note: "two", By: "local", At: now}))
	list, err := s.Excuses(t.Context(), in.ID)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "two", list[0].Note)
	require.NoError(t, s.DropExcuse(t.Context(), in.ID, "x", "2026-10"))
	assert.ErrorIs(t, s.DropExcuse(t.Context(), in.ID, "x", "2026-10"), records.ErrNotFound)
}

func TestDeliveredThings(t *testing.T) {
	s := open(t)
	_, a := input(t, s, "a")
	_, b := input(t, s, "b")
	deliver(t, s, a, records.Commit{Inputs: []records.InputCommit{{Deliveries: []receipt.Delivery{{Kind: "file", Name: "x.csv", Bytes: 7, Digest: "d1"}, {Kind: "table", Name: "x"}}}}})
	deliver(t, s, b, records.Commit{Inputs: []records.InputCommit{{Deliveries: []receipt.Delivery{{Kind: "file", Name: "y.csv", Bytes: 8, Digest: "d2"}}}}})
	made, err := s.MadeSince(t.Context(), 0)
	require.NoError(t, err)
	assert.Equal(t, []records.Made{{1, "file", "x.csv", a.ID, 7, "d1"}, {2, "file", "y.csv", b.ID, 8, "d2"}}, made)
	made, err = s.MadeSince(t.Context(), 1)
	require.NoError(t, err)
	assert.Len(t, made, 1)
	name, err := s.MadeBy(t.Context(), b.ID, "file", "x.csv")
	require.NoError(t, err)
	assert.Equal(t, "a", name)
	_, err = s.MadeBy(t.Context(), a.ID, "file", "x.csv")
	assert.ErrorIs(t, err, records.ErrNotFound)
	_, err = s.MadeBy(t.Context(), b.ID, "table", "z")
	assert.ErrorIs(t, err, records.ErrNotFound)
}

// The lease is taken again after the database was away, and given up to a
// service that took it meanwhile.
func TestLeaseIsKept(t *testing.T) {
	s := open(t)
	cut := func() {
		_, err := s.Pool.Exec(t.Context(), "SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND database = (SELECT oid FROM pg_database WHERE datname = current_database())")
		require.NoError(t, err)
	}
	held := func() bool {
		var n int
		require.NoError(t, s.Pool.QueryRow(t.Context(), "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND database = (SELECT oid FROM pg_database WHERE datname = current_database())").Scan(&n))
		return n > 0
	}
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error)
	go func() { ended <- s.KeepLease(ctx, slog.New(slog.DiscardHandler)) }()
	cut()
	require.Eventually(t, held, 20*time.Second, 100*time.Millisecond)
	cut()
	other, err := s.Pool.Acquire(t.Context())
	require.NoError(t, err)
	_, err = other.Exec(t.Context(), "SELECT pg_advisory_lock($1)", int64(0x4a6f72766578))
	require.NoError(t, err)
	assert.ErrorIs(t, <-ended, records.ErrInUse)
	cancel()
	other.Release()
}

// A report takes all its inputs at once; who wants one of them waits, and runs when
// they are free again.
func TestReportsTakeTheirInputs(t *testing.T) {
	s := open(t)
	_, a := input(t, s, "a")
	_, b := input(t, s, "b")
	id, err := s.SaveReport(t.Context(), 0, 0, records.Report{Name: "both", Inputs: []int64{a.ID, b.ID}, Text: "report: both", SavedAt: now, SavedBy: "local"}, records.Runs{})
	require.NoError(t, err)
	_, err = s.SaveReport(t.Context(), 0, 0, records.Report{Name: "both", Inputs: []int64{}}, records.Runs{})
	assert.ErrorIs(t, err, records.ErrExists)
	_, err = s.SaveReport(t.Context(), id, 7, records.Report{Name: "both", Inputs: []int64{}}, records.Runs{})
	assert.ErrorIs(t, err, records.ErrConflict)

	ask := func(of records.Subject) int64 {
		id, err := s.AskRefresh(t.Context(), of, records.Request{}, "local", now, noJob)
		require.NoError(t, err)
		return id
	}
	both := records.Subject{Report: id, Inputs: []int64{b.ID, a.ID}}
	first, second, third := ask(both), ask(of(b)), ask(of(a))
	assert.Equal(t, first, ask(both))
	fence, err := s.ClaimRefresh(t.Context(), first, now)
	require.NoError(t, err)
	for _, id := range []int64{second, third} {
		_, err = s.ClaimRefresh(t.Context(), id, now)
		assert.ErrorIs(t, err, records.ErrConflict)
	}
	r, err := s.Refresh(t.Context(), first)
	require.NoError(t, err)
	assert.Equal(t, []any{"both", id, int64(0), []int64{a.ID, b.ID}}, []any{r.Input, r.ReportID, r.InputID, r.Inputs})

	var jobs []int64
	stored, err := s.CommitRefresh(t.Context(), records.Commit{Refresh: first, Fence: fence, Ended: now, Job: func(_ pgx.Tx, id int64) error { jobs = append(jobs, id); return nil },
		Inputs: []records.InputCommit{{InputID: a.ID, Parameters: "{}"}, {InputID: b.ID, Parameters: "{}"}}})
	require.NoError(t, err)
	assert.Equal(t, []int64{second, third}, jobs)
	for _, in := range []records.Input{a, b} {
		last, err := s.LastReceipt(t.Context(), in.ID, "{}", 0)
		require.NoError(t, err)
		assert.Equal(t, stored.Number, last.Number)
	}
	ran, err := s.LastRefreshes(t.Context(), []int64{a.ID, b.ID})
	require.NoError(t, err)
	assert.Equal(t, []int64{third, second}, []int64{ran[a.ID].ID, ran[b.ID].ID})
	list, err := s.Refreshes(t.Context(), &b.ID, 0, 10)
	require.NoError(t, err)
	assert.Len(t, list, 2)
}

// What is due is taken once, and what arrived or became complete is no news twice.
func TestDue(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	due := now.Add(time.Hour)
	d := records.NewDefinition{Name: "a", PlaceID: in.PlaceID, At: now, By: "local", Runs: records.Runs{NextDue: &due, Arrivals: time.Minute, Complete: true}}
	require.NoError(t, s.SaveInput(t.Context(), in.ID, in.Version, d))
	at := func(when time.Time) []records.Due {
		list, err := s.Due(t.Context(), when)
		require.NoError(t, err)
		return list
	}
	take := func(d records.Due, next *time.Time) int64 {
		id, err := s.TakeDue(t.Context(), d, of(in), "schedule", now, next, noJob)
		require.NoError(t, err)
		return id
	}
	assert.Empty(t, at(now))
	next, err := s.NextRuns(t.Context(), []int64{in.ID})
	require.NoError(t, err)
	assert.WithinDuration(t, due, next[in.ID], 0)

	list := at(due)
	require.Len(t, list, 1)
	later := due.Add(24 * time.Hour)
	id := take(list[0], &later)
	assert.NotZero(t, id)
	assert.Zero(t, take(list[0], &later), "it was taken")
	assert.Empty(t, at(due))

	require.NoError(t, s.NoteArrivals(t.Context(), in.ID, now))
	require.NoError(t, s.NoteArrivals(t.Context(), in.ID, now.Add(30*time.Second)))
	assert.Empty(t, at(now.Add(time.Minute)), "it is not quiet yet")
	list = at(now.Add(90 * time.Second))
	require.Len(t, list, 1)
	assert.WithinDuration(t, now, *list[0].Arrived, 0)
	assert.Nil(t, list[0].NextDue)
	assert.Equal(t, id, take(list[0], nil), "it joins the one that waits")
	assert.Empty(t, at(now.Add(90*time.Second)))
	assert.Len(t, at(later), 1, "the schedule stands")

	require.NoError(t, s.NoteComplete(t.Context(), in.ID, []string{"2026-W46"}))
	assert.Empty(t, at(now), "what was complete before is no news")
	require.NoError(t, s.NoteComplete(t.Context(), in.ID, []string{"2026-W46", "2026-W47"}))
	list = at(now)
	require.Len(t, list, 1)
	assert.Equal(t, []string{"2026-W47"}, list[0].Complete)
	take(list[0], nil)
	assert.Empty(t, at(now))

	d.Runs = records.Runs{}
	require.NoError(t, s.SaveInput(t.Context(), in.ID, in.Version+1, d))
	assert.Empty(t, at(later))
}
