// Package nearest finds the known word that a mistyped one was meant to be.
package nearest

import (
	"fmt"
	"strings"
)

// Hint says which known word was meant, or names them all.
func Hint(word string, known []string) string {
	if near := Find(word, known); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return "known are " + strings.Join(known, ", ")
}

// Find returns the word of known that is at most two edits away from word
// (one for words of three letters, none for shorter ones), the closest first; or "".
func Find(word string, known []string) string {
	best, most := "", 2
	switch {
	case len(word) < 3:
		most = 0
	case len(word) < 4:
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
