package notice_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jorvex/internal/core/notice"
)

func subjects(keys string) []notice.Subject {
	var list []notice.Subject
	for key := range strings.FieldsSeq(keys) {
		list = append(list, notice.Subject{Key: key, Says: "file " + key})
	}
	return list
}

func TestFresh(t *testing.T) {
	for _, c := range []struct{ told, now, fresh, over string }{
		{"", "", "", ""},
		{"", "a b", "a b", ""},
		{"a", "a b", "b", ""},
		{"a b", "a b", "", ""},
		{"a b c", "b", "", "a c"},
		{"a", "b b", "b", "a"},
	} {
		told := map[string]bool{}
		for key := range strings.FieldsSeq(c.told) {
			told[key] = true
		}
		fresh, over := notice.Fresh(told, subjects(c.now))
		assert.Equal(t, subjects(c.fresh), fresh, "%+v", c)
		assert.Equal(t, c.over, strings.Join(over, " "), "%+v", c)
	}
}

func TestSentence(t *testing.T) {
	assert.Equal(t, "1 file cannot be used: file a", notice.Broken.Sentence(subjects("a")))
	assert.Equal(t, "2 expected files are missing, the first is file a", notice.Missing.Sentence(subjects("a b")))
	assert.Equal(t, "all expected files of 1 period are there: file w47", notice.Complete.Sentence(subjects("w47")))
	assert.Equal(t, "file a", notice.InDoubt.Sentence(subjects("a")))
	for _, k := range notice.Kinds() {
		parsed, ok := notice.ParseKind(string(k))
		assert.True(t, ok)
		assert.Equal(t, k, parsed)
		assert.NotContains(t, k.Sentence(subjects("a b")), "%!")
	}
	_, ok := notice.ParseKind("wrong")
	assert.False(t, ok)
}

func TestLetter(t *testing.T) {
	at := time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC)
	many := subjects(strings.TrimSpace(strings.Repeat("x ", 25)))
	for i := range many {
		many[i] = notice.Subject{Key: fmt.Sprint(i), Says: fmt.Sprintf("Eskvik, 2026-11-%02d", i+1)}
	}
	missing := notice.Notice{At: at, Kind: notice.Missing, Input: "daily-loadings", Title: "Daily loadings", Sentence: notice.Missing.Sentence(many),
		Count: len(many), Named: notice.Names(many), Link: "http://x/inputs/daily-loadings/coverage"}
	away := notice.Notice{At: at, Kind: notice.Unreachable, Place: "skerry-share", Sentence: "skerry-share cannot be reached: it is away", Count: 1, Link: "http://x/places"}
	subject, body := notice.Letter([]notice.Notice{away})
	assert.Equal(t, "skerry-share: skerry-share cannot be reached: it is away", subject)
	assert.Equal(t, "skerry-share\n\n  skerry-share cannot be reached: it is away\n  2026-11-20 09:00 UTC\n  http://x/places\n", body)
	subject, body = notice.Letter([]notice.Notice{missing, away, missing})
	assert.Equal(t, "3 notices about Daily loadings and 1 more", subject)
	assert.Equal(t, 2, strings.Count(body, "25 expected files are missing, the first is Eskvik, 2026-11-01"))
	assert.Contains(t, body, "    Eskvik, 2026-11-20\n    and 5 more\n")
	assert.NotContains(t, body, "Eskvik, 2026-11-21")
	missing.Title = strings.Repeat("ø", 300)
	subject, _ = notice.Letter([]notice.Notice{missing})
	assert.Len(t, []rune(subject), 150)
}

// The example of the Standard Webhooks specification, and what must not pass.
func TestSign(t *testing.T) {
	const secret = "whsec_plJ3nmyCDGBKInavdOK15jsl"
	body := []byte(`{"event_type":"ping","data":{"success":true}}`)
	at := time.Unix(1731705121, 0)
	headers := notice.Sign(secret, "msg_loFOjxBNrRLzqYUf", at, body)
	assert.Equal(t, "v1,rAvfW3dJ/X/qxhsaXPOyyCGmRKsaKWcsNccKXlIktD0=", headers["webhook-signature"])
	get := func(name string) string { return headers[name] }
	assert.NoError(t, notice.Verify(secret, get, body, at.Add(time.Minute)))
	assert.ErrorContains(t, notice.Verify(secret, get, body, at.Add(time.Hour)), "ago")
	assert.ErrorContains(t, notice.Verify(notice.NewSecret(), get, body, at), "does not belong")
	assert.ErrorContains(t, notice.Verify(secret, get, append(body, ' '), at), "does not belong")
	headers["webhook-timestamp"] = "soon"
	assert.ErrorContains(t, notice.Verify(secret, get, body, at), "soon")
	assert.NotEqual(t, notice.NewSecret(), notice.NewSecret())
}
