package reading

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"path"
	"strings"

	"golang.org/x/text/encoding/unicode"

	"jorvex/internal/core/finding"
)

// mostWrapped is how many archives may lie in one another.
const mostWrapped = 3

// Unpacked returns the file that is in a compressed one, in an archive, or in
// text of UTF-16; or f itself. Of an archive with several files it is the one
// whose name is member, which may have * and ? in it. The error may be a
// finding.Finding.
func (f *File) Unpacked(member string) (*File, error) {
	at := f
	for range mostWrapped {
		r, err := at.unwrap(member)
		if err != nil || r == nil {
			return at, err
		}
		inside, err := Open(r, f.spool)
		if err != nil {
			return at, err
		}
		inside.most = at.most
		at.inside = inside // to be closed with it
		at = inside
	}
	if r, err := at.unwrap(member); r != nil || err != nil {
		return at, finding.New(finding.ExpandsTooFar, "archives lie in one another, more than %d deep", mostWrapped)
	}
	return at, nil
}

// unwrap returns what a file is wrapped around, or nil.
func (f *File) unwrap(member string) (io.Reader, error) {
	if broken, is := f.Broken(); is {
		return nil, broken
	}
	switch f.Kind {
	case Gzip:
		source := &faults{r: f.Reader}
		z, err := gzip.NewReader(source)
		if err != nil {
			return nil, unpackError(source, err)
		}
		return &unpacking{r: z, source: source, most: f.most}, nil
	case Zip:
		m, err := f.pickMember(member)
		if err != nil {
			return nil, err
		}
		r, err := m.Open()
		if err != nil {
			return nil, unpackError(nil, err)
		}
		f.closers = append(f.closers, r)
		return &unpacking{r: r, most: f.most}, nil
	case Wide:
		// The byte-order mark decides; without one, the first bytes do.
		order := unicode.LittleEndian
		if f.bigEndian {
			order = unicode.BigEndian
		}
		return unicode.UTF16(order, unicode.UseBOM).NewDecoder().Reader(f.Reader), nil
	}
	return nil, nil
}

// pickMember chooses the file of an archive, of those that are not droppings of
// the program that made it.
func (f *File) pickMember(pattern string) (*zip.File, error) {
	var fit []*zip.File
	var names []string
	for _, m := range f.zip.File {
		base := path.Base(m.Name)
		if strings.HasSuffix(m.Name, "/") || strings.HasPrefix(base, ".") || strings.HasPrefix(m.Name, "__MACOSX/") {
			continue
		}
		names = append(names, m.Name)
		if pattern == "" || Like(pattern, m.Name) || Like(pattern, base) {
			fit = append(fit, m)
		}
	}
	shown := finding.Samples(names[:min(len(names), 5)])
	switch {
	case len(fit) == 1 && fit[0].Flags&1 != 0:
		return nil, finding.New(finding.PasswordProtected, "%s is encrypted", fit[0].Name)
	case len(fit) == 1:
		return fit[0], nil
	case len(names) == 0:
		return nil, finding.New(finding.NotATable, "the archive holds no file")
	case len(fit) == 0:
		return nil, finding.New(finding.NotATable, "no file in the archive is called %s; it holds %s", pattern, shown)
	}
	return nil, finding.New(finding.NotATable, "the archive holds %d files that could be meant, as %s; name one with read: {member: …}", len(fit), shown)
}

// Like reports whether a name is the pattern, in which * stands for any text and
// ? for a character, without regard to letter case.
func Like(pattern, name string) bool {
	pattern, name = strings.ToLower(pattern), strings.ToLower(name)
	for pattern != "" {
		switch pattern[0] {
		case '*':
			pattern = strings.TrimLeft(pattern, "*")
			for i := 0; i <= len(name); i++ {
				if Like(pattern, name[i:]) {
					return true
				}
			}
			return false
		case '?':
			runes := []rune(name)
			if len(runes) == 0 {
				return false
			}
			name = string(runes[1:])
		default:
			if name == "" || name[0] != pattern[0] {
				return false
			}
			name = name[1:]
		}
		pattern = pattern[1:]
	}
	return name == ""
}

// unpacking reads what was compressed. Faults of it are findings, errors of the
// reader below it are not.
type unpacking struct {
	r      io.Reader
	source *faults // nil if there is none to ask
	read   int64
	most   int64
}

func (u *unpacking) Read(p []byte) (int, error) {
	n, err := u.r.Read(p)
	if u.read += int64(n); u.read > u.most {
		return 0, expandsTooFar(u.most)
	}
	if err != nil && err != io.EOF {
		return n, unpackError(u.source, err)
	}
	return n, err
}

func expandsTooFar(most int64) finding.Finding {
	return finding.New(finding.ExpandsTooFar, "to more than %d bytes", most)
}

// unpackError makes an error of unpacking a finding, unless it is one of the
// reader below.
func unpackError(source *faults, err error) error {
	switch {
	case source != nil && source.err != nil:
		return source.err
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return finding.New(finding.CutShort, "the compressed data ends too early")
	}
	return finding.New(finding.Damaged, "the compressed data: %s", err)
}

// wideOrder tells text in UTF-16 without a byte-order mark by its NUL bytes, which
// stand in every other place.
func wideOrder(head []byte) (wide, bigEndian bool) {
	if len(head) < 4 || bytes.IndexByte(head, 0) < 0 {
		return false, false
	}
	var nulls [2]int
	for i, c := range head {
		if c == 0 {
			nulls[i%2]++
		}
	}
	half := len(head) / 2
	switch {
	case nulls[1]*10 >= half*7 && nulls[0]*20 <= half:
		return true, false
	case nulls[0]*10 >= half*7 && nulls[1]*20 <= half:
		return true, true
	}
	return false, false
}
