package records_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/records"
)

// A notice goes its way: told once, due, failed, due again, sent or given up.
func TestNoticesOnTheirWay(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	send := func(channel, address string, due time.Time) records.Send {
		return records.Send{Rule: "desk", Channel: channel, Address: address, Due: due}
	}
	tell := func(sentence string, sends ...records.Send) {
		t.Helper()
		require.NoError(t, s.Tell(t.Context(), in.PlaceID, in.ID, []records.Telling{{Kind: "broken", Fresh: []string{sentence}}}, nil,
			[]records.NewNotice{{At: now, Kind: "broken", PlaceID: in.PlaceID, InputID: in.ID, Sentence: sentence, Count: 1, Named: []string{sentence}, Sends: sends}}))
	}
	tell("one", send("mail", "x@skerry.example", now.Add(time.Minute)), send("hook", "http://x/", now))
	tell("two", send("mail", "x@skerry.example", now.Add(2*time.Minute)), send("mail", "y@skerry.example", now.Add(time.Hour)), send("hook", "http://x/", now.Add(time.Hour)))
	told, err := s.Told(t.Context(), in.PlaceID, in.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]map[string]bool{"broken": {"": true, "one": true, "two": true}}, told)
	require.NoError(t, s.Tell(t.Context(), in.PlaceID, in.ID, []records.Telling{{Kind: "broken", Over: []string{"one"}}}, nil, nil))
	told, err = s.Told(t.Context(), in.PlaceID, in.ID)
	require.NoError(t, err)
	assert.NotContains(t, told["broken"], "one")

	due := func(at time.Time) (list []string, ids []int64) {
		t.Helper()
		sends, err := s.DueSends(t.Context(), at)
		require.NoError(t, err)
		list = []string{}
		for _, d := range sends {
			list = append(list, d.Channel+" "+d.Address+" "+d.Sentence)
			ids = append(ids, d.SendID)
		}
		return list, ids
	}
	first, ids := due(now)
	assert.Equal(t, []string{"hook http://x/ one"}, first)
	require.NoError(t, s.NotSent(t.Context(), ids, "refused", now.Add(5*time.Minute)))
	second, mails := due(now.Add(time.Minute))
	assert.Equal(t, []string{"mail x@skerry.example one", "mail x@skerry.example two"}, second, "what waits for an address goes along")
	require.NoError(t, s.Sent(t.Context(), mails, now))
	again, ids := due(now.Add(5 * time.Minute))
	assert.Equal(t, []string{"hook http://x/ one"}, again)
	require.NoError(t, s.NotSent(t.Context(), ids, "refused again", time.Time{}))
	none, _ := due(now.Add(10 * time.Minute))
	assert.Empty(t, none)

	list, err := s.Notices(t.Context(), 0, true, 10)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "two", list[0].Sentence)
	states := map[string]int{}
	for _, n := range list {
		for _, x := range n.Sends {
			states[x.Channel+" "+x.State+" "+x.Problem]++
		}
	}
	assert.Equal(t, map[string]int{"mail sent ": 2, "mail due ": 1, "hook due ": 1, "hook given_up refused again": 1}, states)
	require.NoError(t, s.SeeNotices(t.Context(), list[1].ID))
	unseen, err := s.UnseenNotices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(1), unseen)
	page, err := s.Notices(t.Context(), list[0].ID, false, 10)
	require.NoError(t, err)
	require.Len(t, page, 1)
	assert.True(t, page[0].Seen)
}

// Refreshes that nobody works on are found, and one that asks is answered once.
func TestUnattendedAndAsking(t *testing.T) {
	s := open(t)
	_, in := input(t, s, "a")
	id, err := s.AskRefresh(t.Context(), of(in), records.Request{}, "local", now, noJob)
	require.NoError(t, err)
	waiting, lost, err := s.Unattended(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []int64{id}, waiting)
	assert.Empty(t, lost)

	fence, err := s.ClaimRefresh(t.Context(), id, now)
	require.NoError(t, err)
	next, err := s.AskRefresh(t.Context(), of(in), records.Request{Only: []string{"x"}}, "local", now, noJob)
	require.NoError(t, err)
	waiting, lost, err = s.Unattended(t.Context())
	require.NoError(t, err)
	assert.Empty(t, waiting, "it waits for the one that runs")
	assert.Empty(t, lost)
	_, err = s.Pool.Exec(t.Context(), "UPDATE refreshes SET lease_until = now() - interval '1 second' WHERE id = $1", id)
	require.NoError(t, err)
	_, lost, err = s.Unattended(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []records.Claimed{{ID: id, Fence: fence}}, lost)

	require.NoError(t, s.EndRefresh(t.Context(), id, fence, now, records.Ending{Outcome: records.Asking, Problem: "x is empty", Asks: []string{"broken"}}, noJob))
	on, err := s.AnswerRefresh(t.Context(), id, true, "local", now, noJob)
	require.NoError(t, err)
	r, err := s.Refresh(t.Context(), on)
	require.NoError(t, err)
	assert.Equal(t, []string{"broken"}, r.Request.Accept)
	assert.Equal(t, records.Waiting, r.Outcome)
	_, err = s.AnswerRefresh(t.Context(), id, false, "local", now, noJob)
	assert.ErrorIs(t, err, records.ErrConflict, "it was answered")
	_, err = s.ClaimRefresh(t.Context(), next, now)
	require.NoError(t, err)
	untold, err := s.UntoldRefreshes(t.Context(), 10)
	require.NoError(t, err)
	require.Len(t, untold, 1)
	assert.Equal(t, id, untold[0].ID)
}

// Rules keep their secret while they have a hook, and get another with another.
func TestRuleSecrets(t *testing.T) {
	s := open(t)
	save := func(hook, secret string) string {
		t.Helper()
		r, err := s.SaveNoticeRule(t.Context(), records.NoticeRule{Name: "desk", Kinds: []string{"broken"}, Hook: hook, Secret: secret})
		require.NoError(t, err)
		return r.Secret
	}
	assert.Equal(t, "one", save("http://x/", "one"))
	assert.Equal(t, "one", save("http://y/", "two"))
	assert.Empty(t, save("", ""))
	assert.Equal(t, "three", save("http://x/", "three"))
	require.NoError(t, s.DropNoticeRule(t.Context(), "desk"))
	assert.ErrorIs(t, s.DropNoticeRule(t.Context(), "desk"), records.ErrNotFound)
	_, err := s.NoticeRule(t.Context(), "desk")
	assert.ErrorIs(t, err, records.ErrNotFound)
}
