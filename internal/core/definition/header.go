package definition

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

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
