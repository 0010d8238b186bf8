package condition

import (
	"strings"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"jorvex/internal/core/filename"
)

// Fold returns text for comparing without regard to letter case: in NFC, by
// simple case folding, a run of white space as one space.
func Fold(text string) string {
	plain := true
	for i := range len(text) {
		c := text[i]
		if c >= utf8.RuneSelf || 'A' <= c && c <= 'Z' || c < ' ' || c == ' ' && i > 0 && text[i-1] == ' ' {
			plain = false
			break
		}
	}
	if plain {
		return text
	}
	var b strings.Builder
	b.Grow(len(text))
	space := false
	for _, r := range norm.NFC.String(text) {
		if r == ' ' || r == '\t' || r == '\n' || r == '\r' || r == '\u00a0' {
			if !space {
				b.WriteByte(' ')
			}
			space = true
			continue
		}
		space = false
		b.WriteRune(filename.Fold(r))
	}
	return b.String()
}
