// Package filename treats the names of files as what they are, raw bytes:
// shown to people reversibly, and put in natural order.
//
// It opens nothing and matches nothing; patterns live in pathpattern.
//
//	filename.Show("berth\xff.csv")  // berth\xFF.csv
//	filename.Parse(`berth\xFF.csv`) // the same bytes again
package filename

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Show returns name as text that is safe to print. Bytes that are not UTF-8
// become \xNN; control characters and marks that change the direction of text
// become \u{N}; a backslash becomes two. Parse reverses it exactly.
func Show(name string) string {
	if plain(name) {
		return name
	}
	var b strings.Builder
	for i := 0; i < len(name); {
		r, size := utf8.DecodeRuneInString(name[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02X`, name[i])
		case r == '\\':
			b.WriteString(`\\`)
		case hidden(r):
			fmt.Fprintf(&b, `\u{%X}`, r)
		default:
			b.WriteRune(r)
		}
		i += size
	}
	return b.String()
}

// plain reports whether name is printable ASCII without a backslash.
func plain(name string) bool {
	for i := range len(name) {
		if c := name[i]; c < ' ' || c >= 0x7f || c == '\\' {
			return false
		}
	}
	return true
}

// hidden reports whether r leaves no honest mark on a screen.
func hidden(r rune) bool { return unicode.Is(unicode.C, r) || r == '\u2028' || r == '\u2029' }

// Parse turns text made by Show back into the raw name.
func Parse(shown string) (string, error) {
	if !strings.Contains(shown, `\`) {
		return shown, nil
	}
	var b strings.Builder
	for i := 0; i < len(shown); {
		if shown[i] != '\\' {
			b.WriteByte(shown[i])
			i++
			continue
		}
		rest := shown[i:]
		switch {
		case strings.HasPrefix(rest, `\\`):
			b.WriteByte('\\')
			i += 2
		case strings.HasPrefix(rest, `\x`) && len(rest) >= 4:
			n, err := strconv.ParseUint(rest[2:4], 16, 8)
			if err != nil {
				return "", fmt.Errorf(`%q: \x wants two hexadecimal digits`, shown)
			}
			b.WriteByte(byte(n))
			i += 4
		case strings.HasPrefix(rest, `\u{`):
			end := strings.IndexByte(rest, '}')
			if end < 0 {
				return "", fmt.Errorf(`%q: \u{ wants a closing }`, shown)
			}
			n, err := strconv.ParseUint(rest[3:end], 16, 21)
			if err != nil {
				return "", fmt.Errorf(`%q: \u{…} wants hexadecimal digits`, shown)
			}
			b.WriteRune(rune(n))
			i += end + 1
		default:
			return "", fmt.Errorf(`%q: a backslash is written \\`, shown)
		}
	}
	return b.String(), nil
}

// SortKey returns bytes whose plain order is the natural order of names:
// folder by folder, letter case ignored, "berth 2" before "berth 10", and
// names that still tie by their raw bytes.
func SortKey(name string) []byte {
	key := make([]byte, 0, 2*len(name)+8)
	text := name
	for i := range len(name) {
		if name[i] >= utf8.RuneSelf {
			text = norm.NFC.String(name)
			break
		}
	}
	for i := 0; i < len(text); {
		c := text[i]
		switch {
		case c == '/':
			key = append(key, 1)
			i++
		case '0' <= c && c <= '9':
			end := i
			for end < len(text) && '0' <= text[end] && text[end] <= '9' {
				end++
			}
			digits := strings.TrimLeft(text[i:end], "0")
			// A longer number is a larger one, so its length sorts first.
			key = append(key, '0', byte(min(len(digits), 255)))
			key = append(key, digits...)
			i = end
		case c < utf8.RuneSelf:
			key = append(key, max(lower(c), 2))
			i++
		default:
			r, size := utf8.DecodeRuneInString(text[i:])
			if r == utf8.RuneError && size == 1 {
				key = append(key, c)
			} else {
				key = utf8.AppendRune(key, Fold(r))
			}
			i += size
		}
	}
	key = append(key, 0)
	return append(key, name...)
}

func lower(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

// Fold maps r to the one rune that stands for all its letter cases (simple
// case folding, as in Unicode's CaseFolding.txt).
func Fold(r rune) rune {
	if r < utf8.RuneSelf {
		return rune(lower(byte(r)))
	}
	least := r
	for next := unicode.SimpleFold(r); next != r; next = unicode.SimpleFold(next) {
		least = min(least, next)
	}
	if least < utf8.RuneSelf {
		return rune(lower(byte(least)))
	}
	return least
}

// Below returns the part of path below folder, and whether it is below it.
// The empty folder is the root of the place.
func Below(folder, path string) (string, bool) {
	if folder == "" {
		return path, true
	}
	if len(path) > len(folder)+1 && path[len(folder)] == '/' && path[:len(folder)] == folder {
		return path[len(folder)+1:], true
	}
	return "", false
}
