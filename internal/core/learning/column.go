package learning

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/shaping"
)

// marks are the two marks in numbers, by their names in a definition.
type marks struct{ decimal, thousands string }

// allMarks are the marks that are tried, the likelier first.
var allMarks = []marks{{"point", ""}, {"point", "comma"}, {"comma", ""}, {"comma", "point"}, {"comma", "space"}, {"point", "space"}, {"point", "apostrophe"}}

// dateForms are the forms that are tried beside ISO 8601, the likelier first.
var dateForms = []string{
	"d.M.yyyy", "d/M/yyyy", "M/d/yyyy", "d-M-yyyy", "M-d-yyyy", "d.M.yy", "d/M/yy", "M/d/yy", "yyyy/M/d", "yyyy.M.d", "yyyyMMdd",
	"d MMMM yyyy", "d. MMMM yyyy", "MMMM d, yyyy", "d MMM yyyy", "d. MMM yyyy", "d-MMM-yyyy", "d-MMM-yy", "MMM d, yyyy",
}

// candidate is one way to read a column's values.
type candidate struct {
	converter *shaping.Converter
	ok, bad   int
	samples   []string // of what it does not read
}

// try counts a value. A candidate that hardly fits is given up.
func (c *candidate) try(t definition.Type, text []byte, kind reading.CellKind) {
	if c.bad > 20 && c.bad*4 > c.ok {
		c.bad++
		return
	}
	if _, ok := c.converter.Convert(t, text, kind); ok {
		c.ok++
		return
	}
	c.bad++
	if len(c.samples) < 20 && !slices.Contains(c.samples, string(text)) {
		c.samples = append(c.samples, string(text))
	}
}

// column is what is known of the values below one header.
type column struct {
	header        string
	filled, blank int
	firstFilled   bool
	numbers       []candidate // by the marks
	dates         []candidate // by the form, the last in ISO 8601
	clocks        candidate
	yesNo         candidate
	fractions     int // numbers with one, in a workbook or with a mark
	zeros         int // numbers that begin with a zero, as codes do
	long          int // numbers with more digits than a program keeps
	percents      int
	currencies    int
	clocked       int      // dates with a time behind them
	grouped       int      // as in 1.234, which may be two numbers
	nulls         []string // words that may stand for a blank, which are not judged
	nullish       int      // how often they stand
	distinct      map[string]int
	rising        bool
	before        []byte

	marks marks // chosen
	forms []int // chosen
}

func layoutOf(m marks) definition.Layout {
	return definition.Layout{
		Decimal:   map[string]byte{"comma": ',', "point": '.'}[m.decimal],
		Thousands: map[string]string{"comma": ",", "point": ".", "space": " ", "apostrophe": "'"}[m.thousands],
	}
}

func newColumn(header string, language calendar.Language) *column {
	c := &column{header: strings.TrimSpace(header), distinct: map[string]int{}, rising: true}
	for _, m := range allMarks {
		c.numbers = append(c.numbers, candidate{converter: shaping.NewConverter(layoutOf(m))})
	}
	for _, text := range append(slices.Clone(dateForms), "") {
		layout := definition.Layout{Language: language}
		if text != "" {
			form, err := calendar.ParseTextForm(text)
			if err != nil {
				panic(err)
			}
			layout.Dates = []calendar.Form{form}
		}
		c.dates = append(c.dates, candidate{converter: shaping.NewConverter(layout)})
	}
	plain := shaping.NewConverter(definition.Layout{})
	c.clocks.converter, c.yesNo.converter = plain, plain
	return c
}

var (
	twoNumbers = regexp.MustCompile(`^-?\d{1,3}[.,]\d{3}$`)
	clockPart  = regexp.MustCompile(`[T ](\d{1,2}:\d{2}.*)$`)
)

// mostDistinct is how many values of a column are told apart.
const mostDistinct = 1000

func (c *column) add(text []byte, kind reading.CellKind) {
	if len(text) == 0 {
		c.blank++
		return
	}
	if word := strings.ToLower(string(text)); kind == reading.Plain && slices.Contains(nullWords, word) {
		if c.nullish++; !slices.Contains(c.nulls, word) {
			c.nulls = append(c.nulls, word)
		}
		return
	}
	if c.filled++; c.filled == 1 && c.blank == 0 {
		c.firstFilled = true
	}
	if len(c.distinct) < mostDistinct || c.distinct[string(text)] > 0 {
		c.distinct[string(text)]++
	}
	c.yesNo.try(definition.YesNo, text, kind)
	c.clocks.try(definition.Time, text, kind)
	day := text
	if at := clockPart.FindSubmatchIndex(text); at != nil {
		if _, ok := c.clocks.converter.Convert(definition.Time, text[at[2]:at[3]], kind); ok {
			day = text[:at[0]]
			c.clocked++
		}
	}
	for i := range c.dates {
		c.dates[i].try(definition.Date, day, kind)
	}
	number := c.number(text)
	for i := range c.numbers {
		c.numbers[i].try(definition.Decimal, number, kind)
	}
	c.rising = c.rising && (c.before == nil || len(c.before) < len(number) || len(c.before) == len(number) && bytes.Compare(c.before, number) < 0)
	c.before = append(c.before[:0], number...)
}

// number takes what stands around a number away, and counts what it was.
func (c *column) number(text []byte) []byte {
	if inside, ok := bytes.CutSuffix(text, []byte("%")); ok {
		c.percents++
		text = bytes.TrimSpace(inside)
	}
	bare := bytes.TrimFunc(text, func(r rune) bool {
		return unicode.IsLetter(r) || unicode.Is(unicode.Sc, r) || unicode.IsSpace(r) || r == '(' || r == ')'
	})
	if around := len(text) - len(bare); len(bare) > 0 && around > 0 && around <= 8 && currency.Match(text) {
		c.currencies++
		text = bare
	}
	digits := bytes.TrimLeft(text, "+-")
	switch {
	case len(digits) > 1 && digits[0] == '0' && digits[1] >= '0' && digits[1] <= '9':
		c.zeros++
	case len(digits) > 15 && bytes.IndexFunc(digits, func(r rune) bool { return r < '0' || r > '9' }) < 0:
		c.long++
	}
	if bytes.ContainsAny(text, ".,") {
		c.fractions++
	}
	if twoNumbers.Match(text) {
		c.grouped++
	}
	return text
}

// currency is a sign of one, a code in capitals or kr apart from the digits, or
// parentheses around.
var currency = regexp.MustCompile(`\p{Sc}|^\(.*\)$|^([A-Z]{3}|kr\.?)\s|\s([A-Z]{3}|kr\.?)$`)

// share reports whether n of the values are enough for a column to be read so.
func (c *column) share(n int) bool {
	return c.filled > 0 && n*20 >= c.filled*19-19 && n*10 >= c.filled*8
}

// numeric and dated report whether the values are numbers, or dates, in the way
// that fits best.
func (c *column) numeric() bool {
	return c.share(slices.MaxFunc(c.numbers, byOK).ok) && c.zeros == 0 && c.long == 0
}

func (c *column) dated() bool {
	most := 0
	for _, d := range c.dates {
		most = max(most, d.ok)
	}
	return c.share(most)
}

func byOK(a, b candidate) int { return a.ok - b.ok }

// reads is how many values the chosen forms read as dates: those that one reads
// best, and what ISO 8601 adds.
func (c *column) reads() int {
	most := c.dates[len(c.dates)-1].ok
	for _, i := range c.forms {
		most = max(most, c.dates[i].ok)
	}
	return most
}

var yesPairs = [][2]string{{"yes", "no"}, {"true", "false"}, {"y", "n"}, {"ja", "nein"}, {"ja", "nei"}, {"ja", "nej"}, {"ja", "nee"}, {"oui", "non"}, {"si", "no"}, {"sí", "no"}, {"sì", "no"}, {"sim", "não"}, {"kyllä", "ei"}, {"tak", "nie"}}

// pair returns the words for yes and no that all values are, if they are.
func (c *column) pair() (pair [2]string, is bool) {
	for _, p := range yesPairs {
		n := 0
		for value, count := range c.distinct {
			if word := strings.ToLower(value); word == p[0] || word == p[1] {
				n += count
			}
		}
		if n == c.filled && n > 1 {
			return p, true
		}
	}
	return pair, false
}

// kind is the type that fits.
func (c *column) kind() definition.Type {
	_, yesNo := c.pair()
	number := c.numbers[slices.Index(allMarks, c.marks)]
	switch {
	case c.filled == 0:
		return definition.Text
	case yesNo:
		return definition.YesNo
	case c.numeric() && c.share(number.ok) && !(c.dated() && slices.Equal(c.forms, []int{10})):
		switch {
		case c.percents*2 > c.filled:
			return definition.Percent
		case c.currencies*2 > c.filled:
			return definition.Money
		case c.fractions > 0 && c.marks != (marks{"point", "comma"}) || c.hasFraction():
			return definition.Decimal
		}
		return definition.Whole
	case c.share(c.clocks.ok):
		return definition.Time
	case c.share(c.reads()) && c.clocked*2 > c.filled:
		return definition.Timestamp
	case c.share(c.reads()):
		return definition.Date
	}
	return definition.Text
}

// hasFraction reports whether a number is none of the whole ones.
func (c *column) hasFraction() bool {
	converter := c.numbers[slices.Index(allMarks, c.marks)].converter
	for value := range c.distinct {
		if number, ok := converter.Convert(definition.Decimal, c.number([]byte(value)), reading.Plain); ok && bytes.IndexByte(number, '.') >= 0 {
			return true
		}
	}
	return false
}

// idWords are words of headers of numbers that say which, and not how many.
var idWords = []string{"no", "nr", "num", "number", "id", "code", "year", "month", "week", "day", "row", "line", "key", "berth", "gate", "lane", "deck", "ref", "price", "rate", "share", "depth", "average"}

// addsUp reports whether a sum of the column says something: it is no number that
// only tells rows apart.
func (c *column) addsUp(t definition.Type) bool {
	for _, word := range strings.FieldsFunc(definition.Plain(c.header), func(r rune) bool { return !unicode.IsLetter(r) }) {
		if slices.Contains(idWords, word) {
			return false
		}
	}
	return t != definition.Whole || !c.rising || c.filled < 5
}

// notes says what a person should look at.
func (c *column) notes(t definition.Type) (notes []string) {
	bad := c.misfits(t)
	if len(bad) > 0 {
		notes = append(notes, fmt.Sprintf("not all values are of the type %s, as %s", t, finding.Samples(bad[:min(3, len(bad))])))
	}
	if t == definition.Text && c.zeros > 0 {
		notes = append(notes, "its numbers begin with zeros, and are taken for text")
	}
	if c.filled == 0 {
		notes = append(notes, "it has no value, and is taken for text")
	}
	return notes
}

// misfits are samples of values that are none of a type.
func (c *column) misfits(t definition.Type) []string {
	switch {
	case t.Number():
		return c.numbers[slices.Index(allMarks, c.marks)].samples
	case t == definition.Date || t == definition.Timestamp:
		best := c.dates[len(c.dates)-1]
		for _, i := range c.forms {
			if c.dates[i].ok > best.ok {
				best = c.dates[i]
			}
		}
		return best.samples
	case t == definition.Time:
		return c.clocks.samples
	}
	return nil
}

// nullWords are words that stand for a blank.
var nullWords = []string{"n/a", "na", "-", "--", "---", "?", "none", "null", "nil", "tbd", "k.a.", "unknown", "."}
