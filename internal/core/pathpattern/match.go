package pathpattern

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/filename"
)

// Path is a path made ready for matching, with the room matching needs. Set
// one path after another on the same Path to use that room again. It serves
// one goroutine.
type Path struct {
	plain  string // the path itself, if its characters are its bytes
	runes  []rune // as written, normalised
	folded []rune
	spans  []span
	dates  []calendar.Fields // by spot
	failed []uint64
	values []Capture

	conflict string
}

type span struct{ from, to int }

// Set makes path, raw bytes with / between names, ready to be matched.
func (p *Path) Set(path string) {
	p.runes = p.runes[:0]
	p.folded = p.folded[:0]
	p.plain = path
	for i := range len(path) {
		c := path[i]
		if c >= 0x80 || c < ' ' || c == ' ' && i > 0 && path[i-1] == ' ' {
			p.setAny(path)
			return
		}
		p.runes = append(p.runes, rune(c))
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		p.folded = append(p.folded, rune(c))
	}
}

func (p *Path) setAny(path string) {
	p.plain = ""
	p.runes = appendNormal(p.runes[:0], path)
	p.folded = p.folded[:0]
	for _, r := range p.runes {
		if r < rawByte {
			r = filename.Fold(r)
		}
		p.folded = append(p.folded, r)
	}
}

// Conflict says, after a Match that failed, that the path would have matched
// but for a repeated capture that differs from its first occurrence. It is
// empty otherwise.
func (p *Path) Conflict() string { return p.conflict }

// Match reports whether the whole path matches, and its captures in the order
// the pattern declares them. The slice is overwritten by the next Match on the
// same Path. Captures are leftmost and shortest; a capture that occurs again
// must equal its first occurrence.
func (p *Pattern) Match(path *Path) ([]Capture, bool) {
	path.conflict = ""
	m := machine{Pattern: p, path: path, text: path.folded}
	if p.options.MatchCase {
		m.text = path.runes
	}
	if !m.framed() {
		return nil, false
	}
	if n := len(p.spots); cap(path.spans) < n {
		path.spans, path.dates = make([]span, n), make([]calendar.Fields, n)
	} else {
		path.spans, path.dates = path.spans[:n], path.dates[:n]
	}
	words := (p.choices*(len(path.runes)+1) + 63) / 64
	if cap(path.failed) < words {
		path.failed = make([]uint64, words)
	}
	path.failed = path.failed[:words]
	clear(path.failed)
	if !m.run(0, 0) {
		return nil, false
	}
	return p.collect(path)
}

// framed reports whether the path starts and ends as every match does, which
// most paths that do not match do not.
func (m *machine) framed() bool {
	n := len(m.text)
	if n < len(m.prefix) || n < len(m.suffix) {
		return false
	}
	return slices.Equal(m.text[n-len(m.suffix):], m.suffix) && slices.Equal(m.text[:len(m.prefix)], m.prefix)
}

// collect reads the captures off the matched spans and holds repeated ones
// against each other.
func (p *Pattern) collect(path *Path) ([]Capture, bool) {
	path.values = path.values[:0]
	for spot, index := range p.spots {
		s, named := path.spans[spot], p.names[index]
		value := Capture{Name: named.Name, Kind: named.Kind, Text: path.text(s)}
		if named.Kind == DateKind {
			value.Fields = path.dates[spot]
			value.Date, _ = value.Fields.Date()
		}
		if index == len(path.values) {
			path.values = append(path.values, value)
			continue
		}
		first := path.values[index]
		same := first.Text == value.Text || !p.options.MatchCase && strings.EqualFold(first.Text, value.Text)
		if named.Kind == DateKind {
			path.values[index].Fields, same = first.Fields.Merge(value.Fields)
			path.values[index].Date, _ = path.values[index].Fields.Date()
			if same && !p.anyDate && !real(path.values[index].Fields) {
				path.conflict = fmt.Sprintf("%s is %s first and %s later in the path, which is not on the calendar", named.Name, first.Value(), value.Value())
				return nil, false
			}
		}
		if !same {
			path.conflict = fmt.Sprintf("%s is %s first and %s later in the path", named.Name, first.Value(), value.Value())
			return nil, false
		}
	}
	return path.values, true
}

// text returns what stands in a span.
func (p *Path) text(s span) string {
	if p.plain != "" {
		return p.plain[s.from:s.to]
	}
	return text(p.runes[s.from:s.to])
}

// text turns runes back into a string that can be shown.
func text(runes []rune) string {
	for _, r := range runes {
		if r >= rawByte {
			var b strings.Builder
			for _, r := range runes {
				if r >= rawByte {
					fmt.Fprintf(&b, `\x%02X`, r-rawByte)
				} else {
					b.WriteRune(r)
				}
			}
			return b.String()
		}
	}
	return string(runes)
}

type machine struct {
	*Pattern
	path *Path
	text []rune
}

// run matches the program from pc against the text from at. A choice that
// failed at a position is marked and not tried there again, which keeps the
// whole linear in steps times text.
func (m *machine) run(pc, at int) bool {
	for {
		s := &m.program[pc]
		switch s.op {
		case opEnd:
			return at == len(m.text)
		case opRune:
			if at == len(m.text) || m.text[at] != s.r {
				return false
			}
			at++
		case opAny:
			if at == len(m.text) || m.text[at] == '/' {
				return false
			}
			at++
		case opClass:
			if at == len(m.text) || m.text[at] == '/' || m.inClass(s, at) == s.not {
				return false
			}
			at++
		case opRest:
			return at < len(m.text)
		case opJump:
			pc = s.targets[0]
			continue
		default:
			if m.hasFailed(s, at) {
				return false
			}
			if m.choose(s, pc, at) {
				return true
			}
			m.fails(s, at)
			return false
		}
		pc++
	}
}

func (m *machine) hasFailed(s *step, at int) bool {
	bit := s.choice*(len(m.text)+1) + at
	return m.path.failed[bit/64]&(1<<(bit%64)) != 0
}

func (m *machine) fails(s *step, at int) {
	bit := s.choice*(len(m.text)+1) + at
	m.path.failed[bit/64] |= 1 << (bit % 64)
}

// choose tries every way a step with several can go on, the shortest first.
func (m *machine) choose(s *step, pc, at int) bool {
	switch s.op {
	case opSplit:
		for _, target := range s.targets {
			if m.run(target, at) {
				return true
			}
		}
	case opStar:
		// What fails from here fails from every later start within the run too,
		// so each position is tried once, however many starts there are.
		for end := at; end == at || !m.hasFailed(s, end); end++ {
			if m.run(pc+1, end) {
				return true
			}
			m.fails(s, end)
			if end == len(m.text) || m.text[end] == '/' {
				return false
			}
		}
	case opSegments:
		for end := at; end == at || !m.hasFailed(s, end); end++ {
			if m.run(pc+1, end) {
				return true
			}
			m.fails(s, end)
			for end < len(m.text) && m.text[end] != '/' {
				end++
			}
			if end == len(m.text) {
				return false
			}
		}
	case opText, opNumber:
		for end := at; end == at || !m.hasFailed(s, end); {
			if end == len(m.text) || m.text[end] == '/' {
				return false
			}
			if s.op == opNumber && (m.text[end] < '0' || m.text[end] > '9') {
				return false
			}
			if m.run(pc+1, end+1) {
				m.path.spans[s.spot] = span{at, end + 1}
				return true
			}
			m.fails(s, end)
			end++
		}
	case opDate:
		return m.date(s, pc, at, at, 0, calendar.Fields{})
	case opFuzzy, opSpaces, opTail:
		return m.miss(s, at)
	}
	return false
}

// date matches the parts of a date capture from the one numbered n.
func (m *machine) date(s *step, pc, from, at, n int, got calendar.Fields) bool {
	if n == len(s.form) {
		if !m.anyDate && !real(got) || !m.run(pc+1, at) {
			return false
		}
		m.path.spans[s.spot] = span{from, at}
		m.path.dates[s.spot] = got
		return true
	}
	p := &s.form[n]
	switch {
	case p.Letter == 0 && m.loose && isSeparators(p.literal):
		for end := m.separators(at, 2); end >= at; end-- {
			if m.date(s, pc, from, end, n+1, got) {
				return true
			}
		}
		return false
	case p.Letter == 0:
		for _, r := range p.literal {
			if at == len(m.text) || filename.Fold(m.text[at]) != r {
				return false
			}
			at++
		}
		return m.date(s, pc, from, at, n+1, got)
	case p.names != nil:
		for _, name := range p.names {
			end := m.word(at, name.Text)
			if end < 0 {
				continue
			}
			if next, _ := p.Set(got, name.Month); m.date(s, pc, from, end, n+1, next) {
				return true
			}
		}
		return false
	}
	number := 0
	for count := 1; count <= p.most; count++ {
		i := at + count - 1
		if i >= len(m.text) || m.text[i] < '0' || m.text[i] > '9' {
			return false
		}
		number = number*10 + int(m.text[i]-'0')
		if count < p.least {
			continue
		}
		if next, ok := p.Set(got, number); (ok || m.anyDate) && m.date(s, pc, from, i+1, n+1, next) {
			return true
		}
	}
	return false
}

// real reports whether fields that make a date make one on the calendar.
func real(f calendar.Fields) bool {
	if f.Missing() != "" {
		return true
	}
	_, ok := f.Date()
	return ok
}

// word returns where a word in small letters that stands at a position ends, or
// -1.
func (m *machine) word(at int, word string) int {
	for _, r := range word {
		if at == len(m.text) || filename.Fold(m.text[at]) != filename.Fold(r) {
			return -1
		}
		at++
	}
	return at
}

// inClass reports whether the character at is in the class, in either letter
// case unless case matters.
func (m *machine) inClass(s *step, at int) bool {
	r := m.path.runes[at]
	if within(s.ranges, r) {
		return true
	}
	if m.options.MatchCase || r >= rawByte {
		return false
	}
	for _, other := range otherCases(r) {
		if within(s.ranges, other) {
			return true
		}
	}
	return false
}

func within(ranges []rune, r rune) bool {
	for i := 0; i < len(ranges); i += 2 {
		if ranges[i] <= r && r <= ranges[i+1] {
			return true
		}
	}
	return false
}

func otherCases(r rune) []rune {
	var others []rune
	for next := unicode.SimpleFold(r); next != r; next = unicode.SimpleFold(next) {
		others = append(others, next)
	}
	return others
}
