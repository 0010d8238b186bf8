package watch

import (
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jorvex/internal/core/changes"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// Only the inputs below whose folder something came, changed, went or settled
// are judged anew.
func TestUnsettle(t *testing.T) {
	folders := map[int64]string{1: "", 2: "loadings", 3: "loadings/Eskvik", 4: "load", 5: "crew"}
	for name, c := range map[string]struct {
		added, altered string
		settled        string
		judged         string // inputs
	}{
		"nothing":                  {"", "", "", ""},
		"a file came":              {"loadings/Eskvik/a.csv", "", "", "1 2 3"},
		"one in the folder itself": {"loadings/a.csv", "", "", "1 2"},
		"one of the root":          {"a.csv", "", "", "1"},
		"one changed":              {"", "crew/2026/a.txt", "", "1 5"},
		"one settled":              {"", "", "load/a.csv", "1 4"},
		"the name begins alike":    {"loads/a.csv", "", "", "1"},
		"several":                  {"crew/a", "loadings/b", "", "1 2 5"},
	} {
		t.Run(name, func(t *testing.T) {
			at := &watched{settled: map[int64]settled{}}
			for input, folder := range folders {
				at.settled[input] = settled{folder: folder}
			}
			c2 := &comparison{}
			for _, path := range strings.Fields(c.added) {
				c2.added = append(c2.added, records.File{Path: path})
			}
			for _, path := range strings.Fields(c.altered) {
				c2.altered = append(c2.altered, records.File{Path: path})
			}
			at.unsettle(c2, strings.Fields(c.settled))
			judged := []string{}
			for _, input := range slices.Sorted(maps.Keys(folders)) {
				if _, still := at.settled[input]; !still {
					judged = append(judged, string(rune('0'+input)))
				}
			}
			assert.Equal(t, c.judged, strings.Join(judged, " "))
		})
	}
}

// A file that came is arriving until it stood still for a span, however often
// it moves meanwhile; one that was written long ago has settled on sight.
func TestArrivals(t *testing.T) {
	start := time.Now()
	w := &Watcher{Clock: func() time.Time { return start }}
	at := &watched{settle: 2 * time.Second, arriving: map[string]arrival{}, missing: map[string]time.Time{}, snapshot: &snapshot{map[string][]file{}}}
	look := func(after time.Duration, mark *places.Mark) (settled []string) {
		c := &comparison{now: start.Add(after)}
		before := at.snapshot.find("a")
		switch {
		case mark == nil:
			at.snapshot.folders[""] = nil
		case before == nil:
			c.added = []records.File{{Path: "a", Mark: *mark, Evidence: changes.Present}}
		case before.mark != *mark:
			c.altered = []records.File{{Path: "a", Mark: *mark, Evidence: changes.Present}}
		}
		if mark != nil {
			at.snapshot.folders[""] = []file{{name: "a", mark: *mark, evidence: changes.Present}}
		}
		return w.arrivals(at, c)
	}
	now := start.UnixNano()
	one, two := &places.Mark{Size: 1, Modified: now}, &places.Mark{Size: 2, Modified: now}
	assert.Empty(t, look(0, one))
	assert.Contains(t, at.arriving, "a")
	assert.Empty(t, look(1900*time.Millisecond, one))
	assert.Empty(t, look(1950*time.Millisecond, two), "it grew")
	assert.Empty(t, look(3900*time.Millisecond, two))
	assert.Equal(t, []string{"a"}, look(3950*time.Millisecond, two))
	assert.Empty(t, at.arriving)

	assert.Empty(t, look(5*time.Second, &places.Mark{Size: 3, Modified: now}))
	assert.Empty(t, look(6*time.Second, nil), "it went before it had arrived")
	assert.Empty(t, at.arriving)

	long := start.Add(-time.Hour).UnixNano()
	assert.Empty(t, look(7*time.Second, &places.Mark{Size: 4, Modified: long, Changed: long}))
	assert.Empty(t, at.arriving, "it was copied whole, with its old time")
}
