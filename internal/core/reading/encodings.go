package reading

import (
	"unicode"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"
)

// ofLanguage are the encodings that text in a language, named by its ISO 639-1
// code, is in where it is not UTF-8 and has Latin letters.
var ofLanguage = map[string]*charmap.Charmap{"pl": charmap.Windows1250}

// Judge returns the encoding that bytes which are not UTF-8 are most likely in: a
// single-byte one. In Latin text, letters beyond ASCII stand between others; in
// Cyrillic and Greek text they follow one another.
func Judge(sample []byte, language string) encoding.Encoding {
	high, pairs := 0, 0
	for i, c := range sample {
		if c < 0x80 {
			continue
		}
		high++
		if i > 0 && sample[i-1] >= 0xc0 && c >= 0xc0 {
			pairs++
		}
	}
	if high >= 4 && pairs*2 >= high {
		if lowerShare(sample, charmap.Windows1251, unicode.Cyrillic) >= lowerShare(sample, charmap.Windows1253, unicode.Greek) {
			return charmap.Windows1251
		}
		return charmap.Windows1253
	}
	if e := ofLanguage[language]; e != nil {
		return e
	}
	return charmap.Windows1252
}

// lowerShare counts small letters of a script, of which running text has most.
func lowerShare(sample []byte, e *charmap.Charmap, script *unicode.RangeTable) (n int) {
	for _, c := range sample {
		if r := e.DecodeByte(c); c >= 0x80 && unicode.Is(script, r) && unicode.IsLower(r) {
			n++
		}
	}
	return n
}

// EncodingName returns the name of an encoding in the Encoding Standard.
func EncodingName(e encoding.Encoding) string {
	name, _ := htmlindex.Name(e)
	return name
}
