package reading

import (
	"bytes"
	"io"
	"strconv"
	"unicode/utf8"

	"jorvex/internal/core/finding"
)

// elements is a pull reader of XML 1.0 that is as fast as what workbooks need,
// and no more: names without their prefixes, UTF-8 alone, no document types (so
// no entities of a document's own, and none from outside it).
type elements struct {
	r     io.Reader
	buf   []byte
	pos   int
	end   int
	eof   bool
	err   error // of the reader
	depth int

	// Of the token that next returned last, valid until the next call.
	kind  tokenKind
	name  []byte // of an element
	attrs []byte // as they are written
	text  []byte // between elements, entities put in
	empty bool   // the element has no content; its end follows all the same
	ended []byte // the name of an empty element whose end is due
	room  []byte

	decoded bool // the text is UTF-8, whatever the declaration says
}

type tokenKind uint8

const (
	startElement tokenKind = iota
	endElement
	charData
)

// Limits of a document.
const (
	mostToken = 64 << 20
	mostDepth = 1000
)

func newElements(r io.Reader) *elements { return &elements{r: r, buf: make([]byte, 64<<10)} }

func malformed(format string, args ...any) error {
	return finding.New(finding.Damaged, "its XML: "+format, args...)
}

// fill reads more behind what is left from pos on. It reports whether there was
// more.
func (e *elements) fill() bool {
	if e.eof {
		return false
	}
	if e.pos > 0 {
		copy(e.buf, e.buf[e.pos:e.end])
		e.end -= e.pos
		e.pos = 0
	}
	if e.end == len(e.buf) {
		e.buf = append(e.buf, make([]byte, len(e.buf))...)
	}
	for range 100 {
		n, err := e.r.Read(e.buf[e.end:])
		e.end += n
		if err != nil {
			e.eof = true
			if err != io.EOF {
				e.err = err
			}
		}
		if n > 0 || err != nil {
			return n > 0
		}
	}
	e.eof, e.err = true, io.ErrNoProgress
	return false
}

// until returns the index, from pos, of the end of what begins at pos and ends
// with mark.
func (e *elements) until(mark string, from int) (int, error) {
	for {
		if i := bytes.Index(e.buf[e.pos+from:e.end], []byte(mark)); i >= 0 {
			return from + i, nil
		}
		from = max(from, e.end-e.pos-len(mark)+1)
		if e.end-e.pos > mostToken {
			return 0, malformed("a part of it is longer than %d MiB", mostToken>>20)
		}
		if !e.fill() {
			return 0, e.cut()
		}
	}
}

func (e *elements) cut() error {
	if e.err != nil {
		return e.err
	}
	return malformed("it ends too early")
}

// next reads the next start, end or text. It returns io.EOF at the end.
func (e *elements) next() error {
	if e.ended != nil {
		e.kind, e.name, e.ended = endElement, e.ended, nil
		e.depth--
		return nil
	}
	for {
		if e.pos == e.end && !e.fill() {
			if e.err != nil {
				return e.err
			}
			if e.depth > 0 {
				return malformed("it ends too early")
			}
			return io.EOF
		}
		if e.buf[e.pos] != '<' {
			if err := e.chars(); err != nil {
				return err
			}
			if e.depth == 0 {
				continue // white space, or a byte-order mark
			}
			return nil
		}
		if e.end-e.pos > 1 && e.buf[e.pos+1] != '!' && e.buf[e.pos+1] != '?' {
			return e.tag()
		}
		for e.end-e.pos < 9 && e.fill() {
		}
		rest := e.buf[e.pos:e.end]
		switch {
		case bytes.HasPrefix(rest, []byte("<?")):
			n, err := e.until("?>", 2)
			if err != nil {
				return err
			}
			if err := e.declaration(e.buf[e.pos : e.pos+n]); err != nil {
				return err
			}
			e.pos += n + 2
		case bytes.HasPrefix(rest, []byte("<!--")):
			n, err := e.until("-->", 4)
			if err != nil {
				return err
			}
			e.pos += n + 3
		case bytes.HasPrefix(rest, []byte("<![CDATA[")):
			n, err := e.until("]]>", 9)
			if err != nil {
				return err
			}
			e.kind, e.text = charData, e.buf[e.pos+9:e.pos+n]
			e.pos += n + 3
			return nil
		case bytes.HasPrefix(rest, []byte("<!")):
			return malformed("it has a document type, which is not read")
		default:
			return e.tag()
		}
	}
}

// declaration refuses encodings that are not read.
func (e *elements) declaration(text []byte) error {
	i := bytes.Index(text, []byte("encoding"))
	if !bytes.HasPrefix(text, []byte("<?xml ")) || i < 0 || e.decoded {
		return nil
	}
	name := bytes.ToLower(text[i:])
	if bytes.Contains(name, []byte("utf-8")) || bytes.Contains(name, []byte("us-ascii")) {
		return nil
	}
	return malformed("its encoding is none of UTF-8")
}

// tag reads a start or an end.
func (e *elements) tag() error {
	n := 1
	for quote := byte(0); ; n++ {
		if e.pos+n == e.end {
			if n > mostToken {
				return malformed("a tag is longer than %d MiB", mostToken>>20)
			}
			if !e.fill() {
				return e.cut()
			}
		}
		c := e.buf[e.pos+n]
		if quote != 0 {
			if c == quote {
				quote = 0
			}
			continue
		}
		if c == '>' {
			break
		}
		if c == '"' || c == '\'' {
			quote = c
		}
	}
	inside := e.buf[e.pos+1 : e.pos+n]
	e.pos += n + 1
	if len(inside) > 0 && inside[0] == '/' {
		if e.depth--; e.depth < 0 {
			return malformed("an element ends that did not begin")
		}
		e.kind, e.name = endElement, local(trimmed(inside[1:]))
		return nil
	}
	e.empty = len(inside) > 0 && inside[len(inside)-1] == '/'
	if e.empty {
		inside = inside[:len(inside)-1]
	}
	i := 0
	for i < len(inside) && inside[i] > ' ' {
		i++
	}
	if i == 0 {
		return malformed("an element has no name")
	}
	e.kind, e.name, e.attrs = startElement, local(inside[:i]), inside[i:]
	if e.depth++; e.depth > mostDepth {
		return malformed("its elements lie more than %d deep", mostDepth)
	}
	if e.empty {
		e.ended = e.name
	}
	return nil
}

// local is a name without its prefix.
func local(name []byte) []byte {
	for i, c := range name {
		if c == ':' {
			return name[i+1:]
		}
	}
	return name
}

// trimmed is text without white space around it.
func trimmed(text []byte) []byte {
	for len(text) > 0 && text[0] <= ' ' {
		text = text[1:]
	}
	for len(text) > 0 && text[len(text)-1] <= ' ' {
		text = text[:len(text)-1]
	}
	return text
}

// chars reads the text up to the next tag.
func (e *elements) chars() error {
	n := 0
	for {
		if i := bytes.IndexByte(e.buf[e.pos+n:e.end], '<'); i >= 0 {
			n += i
			break
		}
		if n = e.end - e.pos; n > mostToken {
			return malformed("a text is longer than %d MiB", mostToken>>20)
		}
		if !e.fill() {
			if e.err != nil {
				return e.err
			}
			n = e.end - e.pos
			break
		}
	}
	raw := e.buf[e.pos : e.pos+n]
	e.pos += n
	e.kind = charData
	var err error
	e.text, err = e.unescape(raw)
	return err
}

// unescape puts in what the five entities and character references stand for.
func (e *elements) unescape(raw []byte) ([]byte, error) {
	i := bytes.IndexByte(raw, '&')
	if i < 0 {
		return raw, nil
	}
	e.room = e.room[:0]
	for i >= 0 {
		e.room = append(e.room, raw[:i]...)
		raw = raw[i:]
		end := bytes.IndexByte(raw[:min(len(raw), 12)], ';')
		if end < 0 {
			return nil, malformed("an entity is not closed")
		}
		switch name := string(raw[1:end]); name {
		case "amp":
			e.room = append(e.room, '&')
		case "lt":
			e.room = append(e.room, '<')
		case "gt":
			e.room = append(e.room, '>')
		case "quot":
			e.room = append(e.room, '"')
		case "apos":
			e.room = append(e.room, '\'')
		default:
			r, ok := reference(name)
			if !ok {
				return nil, malformed("it names the entity %q, which is not known", name)
			}
			e.room = utf8.AppendRune(e.room, r)
		}
		raw = raw[end+1:]
		i = bytes.IndexByte(raw, '&')
	}
	e.room = append(e.room, raw...)
	return e.room, nil
}

func reference(name string) (rune, bool) {
	if len(name) < 2 || name[0] != '#' {
		return 0, false
	}
	digits, base := name[1:], 10
	if digits[0] == 'x' {
		digits, base = digits[1:], 16
	}
	n, err := strconv.ParseUint(digits, base, 32)
	return rune(n), err == nil && n <= utf8.MaxRune
}

// attr returns the value of an attribute of the start that was read last, or
// nil. Entities in it are put in.
func (e *elements) attr(name string) []byte {
	rest := e.attrs
	for {
		found, value, after := nextAttr(rest)
		if found == nil {
			return nil
		}
		if string(found) == name {
			value, err := e.unescape(value)
			if err != nil {
				return nil
			}
			return value
		}
		rest = after
	}
}

// eachAttr calls each with every attribute of the start that was read last, but
// for those that declare name spaces.
func (e *elements) eachAttr(each func(name string, value []byte) error) error {
	rest := e.attrs
	for {
		name, value, after := nextAttr(rest)
		if name == nil {
			return nil
		}
		if !bytes.HasPrefix(trimmed(rest), []byte("xmlns")) {
			value, err := e.unescape(value)
			if err != nil {
				return err
			}
			if err := each(string(name), value); err != nil {
				return err
			}
		}
		rest = after
	}
}

// nextAttr cuts the first attribute off; its name is nil at the end.
func nextAttr(attrs []byte) (name, value, rest []byte) {
	rest = trimmed(attrs)
	eq := 0
	for eq < len(rest) && rest[eq] != '=' {
		eq++
	}
	if eq == len(rest) {
		return nil, nil, nil
	}
	name = local(trimmed(rest[:eq]))
	if rest = trimmed(rest[eq+1:]); len(rest) == 0 {
		return nil, nil, nil
	}
	end := bytes.IndexByte(rest[1:], rest[0])
	if end < 0 {
		return nil, nil, nil
	}
	return name, rest[1 : end+1], rest[end+2:]
}

// skip reads to the end of the element that was begun last.
func (e *elements) skip() error {
	for depth := e.depth - 1; e.depth > depth; {
		if err := e.next(); err != nil {
			return e.truncated(err)
		}
	}
	return nil
}

// truncated makes an end that comes too early a finding.
func (e *elements) truncated(err error) error {
	if err == io.EOF {
		return malformed("it ends too early")
	}
	return err
}

// content gathers the text in the element that was begun last, up to its end,
// without that of elements named leave.
func (e *elements) content(into []byte, leave string) ([]byte, error) {
	from := len(into)
	for depth := e.depth - 1; e.depth > depth; {
		if err := e.next(); err != nil {
			return into, e.truncated(err)
		}
		switch {
		case e.kind == charData:
			if into = append(into, e.text...); len(into)-from > mostToken {
				return into, malformed("a text is longer than %d MiB", mostToken>>20)
			}
		case e.kind == startElement && leave != "" && string(e.name) == leave:
			if err := e.skip(); err != nil {
				return into, err
			}
		}
	}
	return into, nil
}
