package changes_test

import (
	_ "embed"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/changes"
)

//go:embed testdata/scenarios.txt
var scenarios string

func TestScenarios(t *testing.T) {
	parts := strings.Split(scenarios, "== ")[1:]
	require.NotEmpty(t, parts)
	for _, part := range parts {
		title, body, _ := strings.Cut(part, "\n")
		t.Run(title, func(t *testing.T) {
			var before []changes.Entry
			var after []changes.Seen
			var want []string
			section := ""
			for line := range strings.Lines(body) {
				words := strings.Fields(line)
				switch {
				case len(words) == 0:
				case len(words) == 1:
					section = words[0]
				case section == "states":
					want = append(want, strings.Join(words, " "))
				default:
					size, err := strconv.ParseInt(words[1], 10, 64)
					require.NoError(t, err)
					modified, err := strconv.ParseInt(words[2], 10, 64)
					require.NoError(t, err)
					digest := strings.TrimPrefix(words[3], "-")
					if section == "before" {
						before = append(before, changes.Entry{Path: words[0], Size: size, Modified: modified, Digest: digest})
						continue
					}
					now := changes.Seen{Path: words[0], Size: size, Modified: modified, Digest: digest, Evidence: changes.Present}
					now.Picked = slices.Contains(words, "picked")
					now.Broken = slices.Contains(words, "broken")
					now.Arriving = slices.Contains(words, "arriving")
					now.InDoubt = slices.Contains(words, "doubt")
					now.Departed = slices.Contains(words, "departed")
					if slices.Contains(words, "missing") {
						now.Evidence = changes.Missing
					}
					if slices.Contains(words, "gone") {
						now.Evidence = changes.Gone
					}
					if slices.Contains(words, "unseen") {
						now.Evidence = changes.Unseen
					}
					after = append(after, now)
				}
			}
			var got []string
			for _, told := range changes.Compare(before, after) {
				line := told.Path + " " + string(told.Shown)
				if told.Shown == changes.None {
					line += "-"
				}
				if told.Touched {
					line += " touched"
				}
				if told.From != "" {
					line += " from " + told.From
				}
				got = append(got, line)
			}
			assert.Equal(t, want, got)
		})
	}
}

func TestDoubtful(t *testing.T) {
	for _, c := range []struct {
		had, gone int
		want      bool
	}{{1, 1, false}, {2, 1, false}, {2, 2, true}, {10, 9, false}, {20, 10, false}, {20, 11, true}, {100, 20, false}, {100, 21, true}, {5, 0, false}} {
		assert.Equal(t, c.want, changes.Doubtful(c.had, c.gone), "%d of %d", c.gone, c.had)
	}
}
