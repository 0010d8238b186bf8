package pathpattern

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"jorvex/internal/core/filename"
)

// Near is what keeps a path from matching a pattern that it nearly matches.
type Near struct {
	Kind NearKind
	// Says tells the difference in words.
	Says string
	// Pattern is the pattern that takes the path in, beside the one there is;
	// empty if none can.
	Pattern string
}

// NearKind is the stable name of a small difference.
type NearKind string

// The small differences, the smallest first.
const (
	LetterCase NearKind = "letter_case"
	Separators NearKind = "separators"
	Extension  NearKind = "extension"
	CopyMark   NearKind = "copy_mark"
	NoSuchDate NearKind = "no_such_date"
	Spelling   NearKind = "spelling"
	TooDeep    NearKind = "too_deep"
	TooShallow NearKind = "too_shallow"
)

var nearKinds = []struct {
	kind  NearKind
	words string
}{
	{LetterCase, "letter case"}, {Separators, "separators"}, {Extension, "extension"}, {CopyMark, "copy mark"},
	{NoSuchDate, "impossible date"}, {Spelling, "spelling"}, {TooDeep, "folder level"}, {TooShallow, "folder level"},
}

// Words returns the kind in words.
func (k NearKind) Words() string { return nearKinds[k.Rank()].words }

// Rank orders kinds, the smallest difference first.
func (k NearKind) Rank() int {
	for i, known := range nearKinds {
		if known.kind == k {
			return i
		}
	}
	return 0
}

// Like parses another pattern with the options of this one.
func (p *Pattern) Like(text string) (*Pattern, error) { return Parse(text, p.options) }

// Finder finds out why paths nearly match a pattern. It serves one goroutine.
type Finder struct {
	pattern  *Pattern
	variants []variant
	shorter  []variant // without one of the folders
	segments int       // names in a path; 0 if ** allows any number
	names    []string  // text of the pattern between slashes
	path     Path
}

// variant is the pattern with one thing made lax.
type variant struct {
	kind    NearKind
	pattern *Pattern
	element int // that is lax, or the name that was left out
}

// Near misses are sought with patterns and paths of a usual size alone: beyond
// it, one small difference explains nothing, and seeking it would take long.
const (
	mostElements = 60
	longestNear  = 1000 // bytes
)

// NewFinder prepares to find near misses of a pattern.
func NewFinder(p *Pattern) *Finder {
	f := &Finder{pattern: p, segments: 1, names: p.split()}
	if len(p.elements) > mostElements || len(p.text) > longestNear {
		return f
	}
	for _, e := range p.elements {
		switch {
		case e.op == opSegments || e.op == opRest:
			f.segments = 0
		case e.op == opSlash && f.segments > 0:
			f.segments++
		}
	}
	if p.options.MatchCase {
		options := p.options
		options.MatchCase = false
		if lax, err := Parse(p.text, options); err == nil {
			f.variants = append(f.variants, variant{kind: LetterCase, pattern: lax})
		}
	}
	f.separators()
	f.extension()
	if slices.ContainsFunc(p.elements, func(e element) bool { return e.op == opDate }) {
		lax := p.copy()
		lax.anyDate = true
		f.add(NoSuchDate, lax, 0)
	}
	for i, e := range p.elements {
		stem := e
		if dot := lastIndex(p.runes(e), '.'); dot >= 0 {
			stem = e.first(dot) // an extension is no word
		}
		if edits := spelling(p.letters(stem)); edits > 0 {
			lax := p.copy()
			lax.replace(e.pc, e.end, step{op: opFuzzy, literal: p.runes(e), edits: edits})
			f.add(Spelling, lax, i)
		}
	}
	f.shallow()
	return f
}

func (f *Finder) add(kind NearKind, lax *Pattern, element int) {
	lax.prepare()
	f.variants = append(f.variants, variant{kind, lax, element})
}

func (p *Pattern) copy() *Pattern {
	lax := *p
	lax.program = slices.Clone(p.program)
	lax.spots = slices.Clone(p.spots)
	lax.names = slices.Clone(p.names)
	return &lax
}

// replace puts one step in the place of some, and returns the spot at which the
// text it takes is kept, under a name no capture can have.
func (p *Pattern) replace(pc, end int, s step) (spot int) {
	p.names = append(p.names, Named{Name: fmt.Sprint(len(p.names))})
	p.spots = append(p.spots, len(p.names)-1)
	s.targets, s.spot = []int{end}, len(p.spots)-1
	p.program[pc] = s
	for i := pc + 1; i < end; i++ {
		p.program[i] = step{op: opNone}
	}
	return s.spot
}

// runes returns the characters that a run of literals stands for.
func (p *Pattern) runes(e element) []rune {
	var runes []rune
	if e.op != opRune {
		return nil
	}
	for _, s := range p.program[e.pc:e.end] {
		runes = append(runes, s.r)
	}
	return runes
}

func (p *Pattern) letters(e element) int {
	n := 0
	for _, r := range p.runes(e) {
		if unicode.IsLetter(r) {
			n++
		}
	}
	return n
}

func lastIndex(runes []rune, r rune) int {
	for i := len(runes) - 1; i >= 0; i-- {
		if runes[i] == r {
			return i
		}
	}
	return -1
}

// spelling returns how many edits still tell a word of so many letters.
func spelling(letters int) int {
	switch {
	case letters < 4:
		return 0
	case letters < 6:
		return 1
	}
	return 2
}

// separators adds the variant in which spaces, _ and - may stand for each other.
func (f *Finder) separators() {
	lax := f.pattern.copy()
	lax.loose = true
	any := false
	for _, e := range f.pattern.elements {
		if e.op == opDate {
			any = any || slices.ContainsFunc(lax.program[e.pc].form, func(p part) bool { return p.Letter == 0 && isSeparators(p.literal) })
		}
		if e.op != opRune {
			continue
		}
		for pc := e.pc; pc < e.end; pc++ {
			end := pc
			for end < e.end && isSeparator(f.pattern.program[end].r) {
				end++
			}
			if end > pc {
				any = true
				lax.replace(pc, end, step{op: opSpaces})
				pc = end - 1
			}
		}
	}
	if any {
		f.add(Separators, lax, 0)
	}
}

// extension adds the variant with any extension, if the name before it says
// enough to know the file by.
func (f *Finder) extension() {
	p := f.pattern
	telling, dot, element := false, -1, 0
	for i, e := range p.elements {
		switch e.op {
		case opSlash, opSegments:
			telling, dot = false, -1
		case opDate, opNumber:
			telling, dot = true, -1
		case opRune:
			runes := p.runes(e)
			if at := slices.Index(runes, '.'); at >= 0 && (telling || p.letters(e.first(at)) >= 3) {
				telling = true
				dot, element = e.pc+at, i
			}
			telling = telling || p.letters(e) >= 3
		case opText, opStar, opAny, opClass, opRest:
			dot = -1
		}
	}
	if dot < 0 {
		return
	}
	lax := p.copy()
	lax.replace(dot, len(p.program)-1, step{op: opTail})
	f.add(Extension, lax, element)
}

// first returns the first n characters of a run of literals.
func (e element) first(n int) element {
	e.end = e.pc + n
	return e
}

// shallow adds the variants without one of the folders.
func (f *Finder) shallow() {
	if f.segments < 2 {
		return
	}
	for i := range len(f.names) - 1 {
		text := strings.Join(slices.Delete(slices.Clone(f.names), i, i+1), "/")
		if lax, err := Parse(text, f.pattern.options); err == nil {
			f.shorter = append(f.shorter, variant{TooShallow, lax, i})
		}
	}
}

// split returns the text of the pattern between slashes.
func (p *Pattern) split() []string {
	names := []string{""}
	for i, e := range p.elements {
		if e.op == opSlash {
			names = append(names, "")
			continue
		}
		names[len(names)-1] += p.written(i)
	}
	return names
}

// written returns the text of an element.
func (p *Pattern) written(i int) string {
	e := p.elements[i]
	return string(normal(p.text)[e.from:e.to])
}

var (
	copyMark   = regexp.MustCompile(`(?i)( ?\(\d{1,3}\)|[ _-]{1,3}(copy|kopie|kopi|copie|copia)( ?\(?\d{1,3}\)?)?)$`)
	copyPrefix = regexp.MustCompile(`(?i)^(copy of |copy \(\d+\) of |kopie von |copie de |copia de )`)
)

// mayBeCopy tells quickly that most names bear no mark of a copy.
func mayBeCopy(name string) bool {
	if strings.Contains(name, ")") {
		return true
	}
	for i := 0; i+4 <= len(name); i++ {
		if c := name[i] | 0x20; (c == 'c' || c == 'k') && name[i+1]|0x20 == 'o' && name[i+2]|0x20 == 'p' {
			return true
		}
	}
	return false
}

// splitCopy takes the mark of a copy off a file name.
func splitCopy(name string) (plain, before, after string) {
	stem, extension := name, ""
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		stem, extension = name[:i], name[i:]
	}
	before, after = copyPrefix.FindString(stem), copyMark.FindString(stem)
	if len(before)+len(after) >= len(stem) {
		return name, "", ""
	}
	return stem[len(before):len(stem)-len(after)] + extension, before, after
}

// Find tells the smallest difference that keeps a path, in raw bytes, from
// matching.
func (f *Finder) Find(path string) (Near, bool) {
	near, is := f.find(path)
	if near.Pattern == "" {
		return near, is
	}
	// A cure that cannot be written, or needs a second one, is not offered.
	cure, err := Parse(near.Pattern, f.pattern.options)
	if err == nil {
		f.path.Set(path)
		_, cured := cure.Match(&f.path)
		if cured {
			return near, true
		}
	}
	near.Pattern = ""
	return near, is
}

func (f *Finder) find(path string) (Near, bool) {
	if len(path) > longestNear {
		return Near{}, false
	}
	if near, ok := f.lax(path, LetterCase, Separators, Extension); ok {
		return near, true
	}
	if near, ok := f.copied(path); ok {
		return near, true
	}
	if near, ok := f.lax(path, NoSuchDate, Spelling); ok {
		return near, true
	}
	return f.depth(path)
}

// lax tries the variants of some kinds.
func (f *Finder) lax(path string, kinds ...NearKind) (Near, bool) {
	f.path.Set(path)
	for _, v := range f.variants {
		if !slices.Contains(kinds, v.kind) {
			continue
		}
		if captures, ok := v.pattern.Match(&f.path); ok {
			return f.explain(v, captures), true
		}
	}
	return Near{}, false
}

// copied finds a file that matches but for the mark of a copy.
func (f *Finder) copied(path string) (Near, bool) {
	folder, name := "", path
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		folder, name = path[:i+1], path[i+1:]
	}
	if !mayBeCopy(name) {
		return Near{}, false
	}
	plain, before, after := splitCopy(name)
	if before+after == "" {
		return Near{}, false
	}
	f.path.Set(folder + plain)
	if _, ok := f.pattern.Match(&f.path); !ok {
		return Near{}, false
	}
	names := slices.Clone(f.names)
	last := names[len(names)-1]
	dot := len(last)
	for i, r := range last {
		if r == '.' {
			dot = i
		}
	}
	names[len(names)-1] = escape(before) + last[:dot] + escape(after) + last[dot:]
	return Near{CopyMark, fmt.Sprintf("the mark of a copy, %q", strings.TrimSpace(before+after)), strings.Join(names, "/")}, true
}

// depth finds a file that matches but for one folder more or less.
func (f *Finder) depth(path string) (Near, bool) {
	switch segments := strings.Count(path, "/") + 1; {
	case f.segments > 0 && segments == f.segments+1:
		have := strings.Split(path, "/")
		for i := range len(have) - 1 {
			f.path.Set(strings.Join(slices.Delete(slices.Clone(have), i, i+1), "/"))
			if _, ok := f.pattern.Match(&f.path); ok {
				return Near{TooDeep, fmt.Sprintf("one folder too deep, in %q", filename.Show(have[i])),
					strings.Join(slices.Insert(slices.Clone(f.names), i, escape(have[i])), "/")}, true
			}
		}
	case f.segments > 0 && segments == f.segments-1:
		f.path.Set(path)
		for _, v := range f.shorter {
			if _, ok := v.pattern.Match(&f.path); ok {
				return Near{TooShallow, fmt.Sprintf("one folder too shallow: no folder for %s", f.names[v.element]), v.pattern.text}, true
			}
		}
	}
	return Near{}, false
}

// explain tells what a variant that matched had to overlook.
func (f *Finder) explain(v variant, captures []Capture) Near {
	near := Near{Kind: v.kind}
	p := f.pattern
	switch v.kind {
	case LetterCase:
		near.Says = "letter case, which matters here (match_case)"
		near.Pattern = f.respelt(v.pattern)
	case NoSuchDate:
		for _, c := range captures {
			if c.Kind == DateKind && !real(c.Fields) {
				near.Says = fmt.Sprintf("%s is %q, which is not on the calendar", c.Name, c.Text)
			}
		}
	case Separators:
		near.Pattern = f.separated(v.pattern)
		near.Says = "it is written as \"" + differing(f.names, near.Pattern) + "\""
	case Extension:
		tail := f.text(v.pattern, len(v.pattern.spots)-1)
		near.Says = fmt.Sprintf("the extension %q", tail)
		if tail == "" {
			near.Says = "the extension, which is missing"
		}
		var b strings.Builder
		for i := range v.element {
			b.WriteString(p.written(i))
		}
		written := p.written(v.element)
		near.Pattern = b.String() + written[:strings.IndexByte(written, '.')] + escape(tail)
	case Spelling:
		found := f.text(v.pattern, len(v.pattern.spots)-1)
		near.Says = fmt.Sprintf("%q where the pattern has %q", strings.TrimSpace(found), strings.TrimSpace(unescape(p.written(v.element))))
		var b strings.Builder
		for i := range p.elements {
			if i == v.element {
				b.WriteString(escape(found))
			} else {
				b.WriteString(p.written(i))
			}
		}
		near.Pattern = b.String()
	}
	return near
}

// text returns what stood at a spot of the variant that matched last.
func (f *Finder) text(lax *Pattern, spot int) string {
	return f.path.text(f.path.spans[spot])
}

// differing returns the name of a pattern that is another one.
func differing(names []string, pattern string) string {
	for i, name := range strings.Split(pattern, "/") {
		if i >= len(names) || name != names[i] {
			return name
		}
	}
	return pattern
}

// separated is the pattern with the separators that the path has.
func (f *Finder) separated(lax *Pattern) string {
	p := f.pattern
	var b strings.Builder
	for i, e := range p.elements {
		switch e.op {
		case opRune:
			for pc := e.pc; pc < e.end; pc++ {
				if s := lax.program[pc]; s.op == opSpaces {
					b.WriteString(f.text(lax, s.spot))
					pc = s.targets[0] - 1
					continue
				}
				b.WriteString(escape(string(p.program[pc].r)))
			}
		case opDate:
			name, _, _ := strings.Cut(strings.Trim(p.written(i), "<>"), ":")
			b.WriteString("<" + name + ":" + reform(p.program[e.pc].form, f.text(lax, p.program[e.pc].spot)) + ">")
		default:
			b.WriteString(p.written(i))
		}
	}
	return b.String()
}

// reform is a date form with the separators that a date is written with.
func reform(form []part, date string) string {
	var b strings.Builder
	rest := []rune(date)
	take := func(is func(rune) bool, most int) string {
		n := 0
		for n < len(rest) && n < most && is(rest[n]) {
			n++
		}
		taken := string(rest[:n])
		rest = rest[n:]
		return taken
	}
	for _, p := range form {
		switch {
		case p.Letter == 0 && isSeparators(p.literal):
			b.WriteString(take(isDateSeparator, 2))
		case p.Letter == 0:
			b.WriteString("'" + strings.ReplaceAll(take(func(rune) bool { return true }, len(p.literal)), "'", "''") + "'")
		default:
			b.WriteString(strings.Repeat(string(p.Letter), p.Count))
			if p.names != nil {
				take(func(r rune) bool { return unicode.IsLetter(r) || r == '.' }, 99)
			} else {
				take(unicode.IsDigit, p.most)
			}
		}
	}
	return b.String()
}

// respelt is the pattern with the literals in the letter case that the path
// has; it is found by matching without regard to case.
func (f *Finder) respelt(lax *Pattern) string {
	// Each literal becomes a hole that takes the same letters in any case.
	holed := lax.copy()
	spots := map[int]int{}
	for i, e := range lax.elements {
		if e.op == opRune {
			spots[i] = holed.replace(e.pc, e.end, step{op: opFuzzy, literal: lax.runes(e)})
		}
	}
	holed.prepare()
	if _, ok := holed.Match(&f.path); !ok {
		return ""
	}
	var b strings.Builder
	for i := range lax.elements {
		if spot, is := spots[i]; is {
			b.WriteString(escape(f.text(holed, spot)))
		} else {
			b.WriteString(lax.written(i))
		}
	}
	return b.String()
}

// escape writes text so that a pattern takes it as it stands.
func escape(text string) string {
	var b strings.Builder
	for _, r := range text {
		if strings.ContainsRune(`\*?[]{}<>$,`, r) && r != ',' {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Escape writes text so that a pattern takes it as it stands.
func Escape(text string) string { return escape(text) }

func unescape(text string) string {
	return strings.ReplaceAll(strings.ReplaceAll(text, `\\`, "\x00"), `\`, "")
}

func isSeparator(r rune) bool { return r == ' ' || r == '_' || r == '-' }

func isDateSeparator(r rune) bool { return isSeparator(r) || r == '.' }

func isSeparators(runes []rune) bool {
	for _, r := range runes {
		if !isDateSeparator(r) {
			return false
		}
	}
	return len(runes) > 0
}

// separators returns where a run of at most so many separators at a position
// ends.
func (m *machine) separators(at, most int) int {
	end := at
	for end < len(m.text) && end < at+most && isDateSeparator(m.text[end]) {
		end++
	}
	return end
}

// miss tries the ways a lax step can go on.
func (m *machine) miss(s *step, at int) bool {
	goOn := func(end int) bool {
		if !m.run(s.targets[0], end) {
			return false
		}
		m.path.spans[s.spot] = span{at, end}
		return true
	}
	switch s.op {
	case opSpaces:
		end := at
		for end < len(m.text) && end < at+3 && isSeparator(m.text[end]) {
			end++
		}
		for ; end >= at; end-- {
			if goOn(end) {
				return true
			}
		}
	case opTail:
		if n := len(m.text); n-at <= 13 && !slices.Contains(m.text[at:], '/') && (n == at || m.text[at] == '.' && n > at+1) {
			return goOn(n)
		}
	case opFuzzy:
		// The row of the edit distance between the literal and ever more text.
		row := make([]int, len(s.literal)+1)
		for i := range row {
			row[i] = i
		}
		for end := at; ; end++ {
			if row[len(s.literal)] <= s.edits && goOn(end) {
				return true
			}
			if end == len(m.text) || m.text[end] == '/' || end-at > len(s.literal)+s.edits {
				return false
			}
			more := 1
			if '0' <= m.text[end] && m.text[end] <= '9' {
				more = s.edits + 1 // a digit more is no misspelling
			}
			diagonal, least := row[0], row[0]+more
			row[0] += more
			for i, r := range s.literal {
				next := min(row[i+1]+more, row[i]+1)
				if r == m.text[end] {
					next = min(next, diagonal)
				} else {
					next = min(next, diagonal+more)
				}
				diagonal, row[i+1] = row[i+1], next
				least = min(least, next)
			}
			if least > s.edits {
				return false
			}
		}
	}
	return false
}
