package records_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/changes"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/receipt"
	"jorvex/internal/places"
	"jorvex/internal/records"
	"jorvex/internal/testkit"
)

func TestMain(m *testing.M) { os.Exit(testkit.Main(m)) }

var now = time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)

func open(t *testing.T) *records.Store {
	t.Helper()
	store, err := records.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	t.Cleanup(store.Close)
	return store
}

// input records a place and an input of it.
func input(t *testing.T, s *records.Store, name string, deliveries ...records.Delivery) (records.Place, records.Input) {
	t.Helper()
	place, err := s.Place(t.Context(), "share")
	if errors.Is(err, records.ErrNotFound) {
		place, err = s.CreatePlace(t.Context(), records.Place{Name: "share", Kind: "local", Directory: "/srv/share"})
	}
	require.NoError(t, err)
	_, err = s.CreateInput(t.Context(), records.NewDefinition{Name: name, Text: "v1", Layout: "l", PlaceID: place.ID, At: now, By: "local", Deliveries: deliveries})
	require.NoError(t, err)
	in, err := s.Input(t.Context(), name)
	require.NoError(t, err)
	return place, in
}

func noJob(pgx.Tx, int64) error { return nil }

func TestOnlyOneServiceIsActive(t *testing.T) {
	url := testkit.Database(t)
	first, err := records.Open(t.Context(), url)
	require.NoError(t, err)
	_, err = records.Open(t.Context(), url)
	assert.ErrorIs(t, err, records.ErrInUse)
	first.Close()
	second, err := records.Open(t.Context(), url)
	require.NoError(t, err)
	second.Close()
}

func TestFilesComeBack(t *testing.T) {
	s := open(t)
	place, _ := input(t, s, "a")
	first, err := s.ReserveFileIDs(t.Context(), 2)
	require.NoError(t, err)
	next, err := s.ReserveFileIDs(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, first+2, next)
	added := []records.File{
		{ID: first, Path: "br\xe5nn.csv", Mark: places.Mark{Size: 1 << 60, Modified: -5, Changed: 7, Inode: 1 << 63}, Evidence: changes.Present},
		{ID: first + 1, Path: "b.csv", Mark: places.Mark{Size: 2}, Evidence: changes.Present},
	}
	require.NoError(t, s.SaveFiles(t.Context(), place.ID, added, nil))
	altered := added[1]
	altered.Mark.Size, altered.Evidence, altered.Digest, altered.Fresh = 3, changes.Gone, "aa", true
	altered.Trouble = []finding.Finding{finding.New(finding.NoPermission, "")}
	require.NoError(t, s.SaveFiles(t.Context(), place.ID, nil, []records.File{altered}))
	got := map[string]records.File{}
	require.NoError(t, s.EachFile(t.Context(), place.ID, func(f records.File) error {
		got[f.Path] = f
		return nil
	}))
	assert.Equal(t, map[string]records.File{"br\xe5nn.csv": added[0], "b.csv": altered}, got)
	// What was known of the bytes goes with a new mark.
	altered.Digest, altered.Fresh, altered.Trouble = "", false, nil
	require.NoError(t, s.SaveFiles(t.Context(), place.ID, nil, []records.File{altered}))
	require.NoError(t, s.EachFile(t.Context(), place.ID, func(f records.File) error {
		assert.Empty(t, f.Digest)
		assert.Nil(t, f.Trouble)
		return nil
	}))
}

func TestVersionsAndDeliveries(t *testing.T) {
	s := open(t)
	place, a := input(t, s, "a", records.Delivery{Kind: "file", Name: "x.csv"}, records.Delivery{Kind: "table", Name: "x"})
	d := records.NewDefinition{Name: "b", Text: "v1", PlaceID: place.ID, At: now, Deliveries: []records.Delivery{{Kind: "table", Name: "x"}}}
	_, err := s.CreateInput(t.Context(), d)
	var taken *records.DeliveryTaken
	require.ErrorAs(t, err, &taken)
	assert.Equal(t, "the table x is delivered by the input a already", err.Error())
	_, err = s.Input(t.Context(), "b")
	assert.ErrorIs(t, err, records.ErrNotFound, "nothing of it was recorded")

	d.Name, d.Text = "a", "v2"
	require.NoError(t, s.SaveInput(t.Context(), a.ID, 1, d))
	assert.ErrorIs(t, s.SaveInput(t.Context(), a.ID, 1, d), records.ErrConflict)
	names, err := s.DeliveredFiles(t.Context())
	require.NoError(t, err)
	assert.Empty(t, names, "the file is free again")
	in, err := s.Input(t.Context(), "a")
	require.NoError(t, err)
	assert.Equal(t, int64(2), in.Version)
	assert.Equal(t, "v2", in.Text)
	_, err = s.CreateInput(t.Context(), records.NewDefinition{Name: "a", PlaceID: place.ID, At: now})
	assert.ErrorIs(t, err, records.ErrExists)
}

func TestRosterPages(t *testing.T) {
	s := open(t)
	place, in := input(t, s, "a")
	first, err := s.ReserveFileIDs(t.Context(), 6)
	require.NoError(t, err)
	paths := []string{"loadings/berth 2", "loadings/berth 10", "loadings/notes", "Loadings/other", "loadings-old/x", "loadings/gone"}
	files := []records.File{}
	for i, p := range paths {
		files = append(files, records.File{ID: first + int64(i), Path: p, Evidence: changes.Present})
	}
	files[5].Evidence = changes.Gone
	require.NoError(t, s.SaveFiles(t.Context(), place.ID, files, nil))
	rows := []records.RosterRow{
		{FileID: first, Path: paths[0], Verdict: "picked", Reason: "pattern_matches", State: "new", Captures: map[string]string{"n": "2"}},
		{FileID: first + 1, Path: paths[1], Verdict: "picked", Reason: "pattern_matches", State: "same"},
		{FileID: first + 5, Path: paths[5], Verdict: "left_out", Reason: "gone", State: "removed"},
	}
	require.NoError(t, s.SaveRoster(t.Context(), in.ID, rows, nil, nil, records.Counts{Picked: 2}))
	for _, c := range []struct {
		query records.FilesQuery
		want  []string
	}{
		{records.FilesQuery{}, []string{"loadings/berth 2", "loadings/berth 10", "loadings/gone", "loadings/notes", "Loadings/other"}},
		{records.FilesQuery{Verdict: "picked"}, []string{"loadings/berth 2", "loadings/berth 10"}},
		{records.FilesQuery{Verdict: "left_out"}, []string{"loadings/gone", "loadings/notes", "Loadings/other"}},
		{records.FilesQuery{State: "new"}, []string{"loadings/berth 2"}},
		{records.FilesQuery{Changed: true}, []string{"loadings/berth 2", "loadings/gone"}},
		{records.FilesQuery{Reason: "no_pattern"}, []string{"loadings/notes", "Loadings/other"}},
		{records.FilesQuery{Reason: "gone", Verdict: "picked"}, nil},
	} {
		for _, size := range []int{1, 2, 100} {
			q := c.query
			q.Input, q.Folder, q.Limit, q.After = in, "loadings", size, []byte{}
			var got []string
			for {
				page, err := s.ListFiles(t.Context(), q)
				require.NoError(t, err)
				for _, f := range page {
					got = append(got, string(f.Path))
					q.After = f.SortKey
				}
				if len(page) < size {
					break
				}
			}
			assert.Equal(t, c.want, got, "%+v", c.query)
		}
	}
	require.NoError(t, s.SaveRoster(t.Context(), in.ID, rows[1:2], []int64{first}, nil, records.Counts{}))
	left, err := s.Roster(t.Context(), in.ID)
	require.NoError(t, err)
	assert.Len(t, left, 2)
	one, err := s.ListedFile(t.Context(), in, paths[1])
	require.NoError(t, err)
	assert.Equal(t, "picked", one.Verdict)
	_, err = s.ListedFile(t.Context(), in, "nothing")
	assert.ErrorIs(t, err, records.ErrNotFound)
}

// The life of refreshes: joined, claimed once, fenced, committed, interrupted.
func TestRefreshesAreFenced(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	jobs := 0
	job := func(pgx.Tx, int64) error { jobs++; return nil }
	first, err := s.AskRefresh(t.Context(), of(in), records.Request{}, "local", now, job)
	require.NoError(t, err)
	joined, err := s.AskRefresh(t.Context(), of(in), records.Request{}, "local", now, job)
	require.NoError(t, err)
	assert.Equal(t, first, joined)
	assert.Equal(t, 1, jobs)

	fence, err := s.ClaimRefresh(t.Context(), first, now)
	require.NoError(t, err)
	_, err = s.ClaimRefresh(t.Context(), first, now)
	assert.ErrorIs(t, err, records.ErrConflict, "it runs already")
	second, err := s.AskRefresh(t.Context(), of(in), records.Request{}, "local", now, job)
	require.NoError(t, err)
	assert.NotEqual(t, first, second, "one that runs is not joined")
	_, err = s.ClaimRefresh(t.Context(), second, now)
	assert.ErrorIs(t, err, records.ErrConflict, "the first still runs")

	require.NoError(t, s.SaveProgress(t.Context(), first, fence, records.Progress{Stage: "reading", Files: 3}))
	assert.ErrorIs(t, s.SaveProgress(t.Context(), first, fence+1, records.Progress{Stage: "reading"}), records.ErrLostLease)
	commit := records.Commit{Refresh: first, Fence: fence + 1, Inputs: []records.InputCommit{{InputID: in.ID, Parameters: "{}"}}, Ended: now, Job: job, Header: receipt.Header{Section: receipt.Section{Input: "a"}}}
	_, err = s.CommitRefresh(t.Context(), commit)
	assert.ErrorIs(t, err, records.ErrLostLease)
	assert.ErrorIs(t, s.EndRefresh(t.Context(), first, fence+1, now, records.Ending{Outcome: records.Failed}, job), records.ErrLostLease)

	commit.Fence = fence
	commit.Publish = []func(context.Context, pgx.Tx) error{func(context.Context, pgx.Tx) error { return errors.New("the table is in use") }}
	_, err = s.CommitRefresh(t.Context(), commit)
	assert.ErrorContains(t, err, "the table is in use")
	row, err := s.Refresh(t.Context(), first)
	require.NoError(t, err)
	assert.Equal(t, records.Running, row.Outcome, "nothing was committed")
	commit.Publish = nil
	stored, err := s.CommitRefresh(t.Context(), commit)
	require.NoError(t, err)
	assert.Equal(t, int64(1), stored.Number, "numbers have no gaps")
	assert.Equal(t, 3, jobs, "the one that waited is run next")

	_, err = s.ClaimRefresh(t.Context(), second, now)
	require.NoError(t, err)
	third, err := s.AskRefresh(t.Context(), of(in), records.Request{}, "local", now, noJob)
	require.NoError(t, err)
	interrupted, waiting, err := s.InterruptRefreshes(t.Context(), now)
	require.NoError(t, err)
	assert.Equal(t, int64(1), interrupted)
	assert.Equal(t, []int64{third}, waiting)
	list, err := s.Refreshes(t.Context(), &in.ID, 0, 10)
	require.NoError(t, err)
	outcomes := []string{}
	for _, r := range list {
		outcomes = append(outcomes, fmt.Sprint(r.ID, r.Outcome, r.Receipt))
	}
	assert.Equal(t, []string{fmt.Sprint(third, records.Waiting, 0), fmt.Sprint(second, records.Interrupted, 0), fmt.Sprint(first, records.Delivered, 1)}, outcomes)
}

func TestChainIsVerified(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	for range 5 {
		id, err := s.AskRefresh(t.Context(), of(in), records.Request{}, "local", now, noJob)
		require.NoError(t, err)
		fence, err := s.ClaimRefresh(t.Context(), id, now)
		require.NoError(t, err)
		_, err = s.CommitRefresh(t.Context(), records.Commit{Refresh: id, Fence: fence, Inputs: []records.InputCommit{{InputID: in.ID, Parameters: "{}"}}, Ended: now, Job: noJob, Header: receipt.Header{Section: receipt.Section{Input: "a"}}})
		require.NoError(t, err)
	}
	chain, err := s.Verify(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(5), chain.Checked)
	last, err := s.LastReceipt(t.Context(), in.ID, "{}", 0)
	require.NoError(t, err)
	assert.Equal(t, last.Digest, chain.Head())
	before, err := s.LastReceipt(t.Context(), in.ID, "{}", 5)
	require.NoError(t, err)
	assert.Equal(t, int64(4), before.Number)

	// The last receipt taken away leaves a sound chain, and a head that tells.
	_, err = s.Pool.Exec(t.Context(), "DELETE FROM receipt_inputs WHERE number = 5")
	require.NoError(t, err)
	_, err = s.Pool.Exec(t.Context(), "DELETE FROM receipts WHERE number = 5")
	require.NoError(t, err)
	_, err = s.Verify(t.Context())
	var link *receipt.BrokenLink
	require.ErrorAs(t, err, &link)
	assert.Equal(t, int64(5), link.Number)
}

func TestSessionsEnd(t *testing.T) {
	s := open(t)
	require.NoError(t, s.CreateSession(t.Context(), "digest", now.Add(time.Hour)))
	for at, want := range map[time.Time]bool{now: true, now.Add(2 * time.Hour): false} {
		known, err := s.Session(t.Context(), "digest", at)
		require.NoError(t, err)
		assert.Equal(t, want, known)
	}
}

func TestLooks(t *testing.T) {
	s := open(t)
	place, _ := input(t, s, "a")
	save := func(l records.Look) {
		t.Helper()
		l.Started, l.Ended = now, now
		require.NoError(t, s.SaveLook(t.Context(), place.ID, l))
	}
	save(records.Look{Reachable: true, New: 5, Skipped: []records.Skipped{{Path: "x", Why: "a link"}}})
	for range 3 {
		save(records.Look{Reachable: true})
	}
	save(records.Look{Why: "there is no such directory"})
	save(records.Look{Why: "there is no such directory"})
	var count int
	require.NoError(t, s.Pool.QueryRow(t.Context(), "SELECT count(*) FROM looks").Scan(&count))
	assert.Equal(t, 3, count, "of idle looks only the last is kept")
	p, err := s.Place(t.Context(), "share")
	require.NoError(t, err)
	assert.False(t, p.Reachable)
	require.NotNil(t, p.Since)
	save(records.Look{Reachable: true})
	p, err = s.Place(t.Context(), "share")
	require.NoError(t, err)
	assert.True(t, p.Reachable)
	assert.Nil(t, p.Since)
}
