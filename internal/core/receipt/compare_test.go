package receipt_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/receipt"
)

// listed makes files of lines PATH DIGEST ROWS TOTAL; a ! in front is one that was
// not used.
func listed(t *testing.T, lines string) (files []receipt.File) {
	t.Helper()
	for line := range strings.Lines(lines) {
		f := receipt.File{Place: "share", Size: 1, Use: receipt.Current, Totals: []receipt.Total{{Column: "t"}}}
		rest, not := strings.CutPrefix(strings.TrimSpace(line), "!")
		if rest == "" {
			continue
		}
		if not {
			f.Use = receipt.NotUsed
		}
		n, err := fmt.Sscan(rest, &f.Path, &f.Digest, &f.Kept, &f.Totals[0].Sum)
		require.NoError(t, err)
		require.Equal(t, 4, n)
		files = append(files, f)
	}
	return files
}

func TestCompare(t *testing.T) {
	for name, c := range map[string]struct{ before, after, want string }{
		"the same":                       {"a x 3 1.5", "a x 3 1.5", "1 same"},
		"one more":                       {"a x 3 1.5", "a x 3 1.5\nb y 2 0.25", "in b +2 +0.25; 1 same"},
		"one less":                       {"a x 3 1.5\nb y 2 0.25", "b y 2 0.25", "out a -3 -1.5; 1 same"},
		"other bytes":                    {"a x 3 1.5", "a y 4 1.50", "changed a +1 ; 0 same"},
		"the same bytes, read otherwise": {"a x 3 1.5", "a x 2 1", "changed a -1 -0.5; 0 same"},
		"moved":                          {"a x 3 1.5", "b x 3 1.5", "moved b from a +0 ; 0 same"},
		"moved, and one of it left":      {"a x 3 1.5\nb x 3 1.5", "b x 3 1.5\nc x 3 1.5", "moved c from a +0 ; 1 same"},
		"not used any more":              {"a x 3 1.5", "!a x 0 0", "out a -3 -1.5; 0 same"},
		"used for the first time":        {"!a x 0 0", "a x 3 -1", "in a +3 -1; 0 same"},
		"all at once":                    {"a x 1 1\nb y 1 1\nc z 1 1", "c q 2 3\nd y 1 1\ne r 1 1", "out a -1 -1; moved d from b +0 ; changed c +1 +2; in e +1 +1; 0 same"},
	} {
		t.Run(name, func(t *testing.T) {
			result := receipt.Compare(receipt.Header{}, receipt.Header{}, listed(t, c.before), listed(t, c.after))
			var got []string
			for _, f := range result.Files {
				from := ""
				if f.From != "" {
					from = " from " + f.From
				}
				got = append(got, fmt.Sprintf("%s %s%s %+d %s", f.Change, f.Path, from, f.Rows, f.Totals[0].Moved))
			}
			got = append(got, fmt.Sprintf("%d same", result.Same))
			assert.Equal(t, c.want, strings.Join(got, "; "))
		})
	}
}

// The digest of the rows counts where both receipts have it.
func TestCompareParts(t *testing.T) {
	for _, c := range []struct {
		before, after string
		same          int
	}{{"", "", 1}, {"", "p", 1}, {"p", "", 1}, {"p", "p", 1}, {"p", "q", 0}} {
		had, has := listed(t, "a x 3 1.5"), listed(t, "a x 3 1.5")
		had[0].Part, has[0].Part = c.before, c.after
		assert.Equal(t, c.same, receipt.Compare(receipt.Header{}, receipt.Header{}, had, has).Same, "%q %q", c.before, c.after)
	}
}

func TestCompareTotals(t *testing.T) {
	of := func(pairs ...string) (h receipt.Header) {
		for i := 0; i < len(pairs); i += 2 {
			h.Totals = append(h.Totals, receipt.Total{Column: pairs[i], Sum: pairs[i+1]})
		}
		return h
	}
	c := receipt.Compare(of("a", "10", "b", "1.50", "gone", "4"), of("a", "12.5", "b", "1.5", "new", "-7"), nil, nil)
	assert.Equal(t, []receipt.TotalMove{
		{Column: "a", Before: "10", After: "12.5", Moved: "+2.5"}, {Column: "b", Before: "1.50", After: "1.5"},
		{Column: "new", After: "-7", Moved: "-7"}, {Column: "gone", Before: "4", Moved: "-4"},
	}, c.Totals)
}
