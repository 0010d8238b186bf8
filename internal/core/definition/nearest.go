package definition

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Nearest returns the word of known that is at most two edits away from word
// (one for words under four letters), the closest first; or "".
func Nearest(word string, known []string) string {
	best, most := "", 2
	if len(word) < 4 {
		most = 1
	}
	for _, k := range known {
		if d := distance([]rune(strings.ToLower(word)), []rune(strings.ToLower(k)), most); d <= most {
			if d == 0 {
				return k
			}
			best, most = k, d-1
		}
	}
	return best
}

// distance is the number of insertions, deletions, substitutions and swaps of
// neighbours between a and b, or more than most.
func distance(a, b []rune, most int) int {
	if len(a)-len(b) > most || len(b)-len(a) > most {
		return most + 1
	}
	var before []int
	last := make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row := make([]int, len(b)+1)
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(row[j-1]+1, last[j]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last = last, row
	}
	return last[len(b)]
}

// Plain returns a header as it is compared: without letter case, accents, and
// with runs of white space as one.
func Plain(header string) string {
	var b strings.Builder
	space := false
	for _, r := range norm.NFKD.String(strings.TrimPrefix(header, "\ufeff")) {
		switch {
		case unicode.Is(unicode.Mn, r):
		case unicode.IsSpace(r):
			space = b.Len() > 0
		default:
			if space {
				b.WriteByte(' ')
				space = false
			}
			b.WriteRune(unicode.ToLower(r))
		}
	}
	return b.String()
}
