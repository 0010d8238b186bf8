package calendar

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Form is how a date is written: date fields as Unicode's LDML (UTS #35, part
// 4, date field symbols) names them, with literals between.
type Form struct {
	text  string
	parts []Part
}

// Part is one field of a form, or a literal between fields.
type Part struct {
	Letter  rune // y M d Q D Y w, or 0 for a literal
	Count   int
	Literal string
}

// String returns the form as it was written.
func (f Form) String() string { return f.text }

// Parts returns the form's fields and literals in order.
func (f Form) Parts() []Part { return f.parts }

// fields lists what may be written, with the fewest and most digits; 0 digits
// are for names.
var fields = map[string][2]int{
	"yyyy": {4, 4}, "yy": {2, 2}, "YYYY": {4, 4},
	"M": {1, 2}, "MM": {2, 2}, "MMM": {}, "MMMM": {},
	"d": {1, 2}, "dd": {2, 2}, "D": {1, 3}, "DDD": {3, 3},
	"Q": {1, 1}, "w": {1, 2}, "ww": {2, 2},
}

// Digits returns the fewest and most digits of a field; both are 0 for the name
// of a month.
func (p Part) Digits() (least, most int) {
	d := fields[strings.Repeat(string(p.Letter), p.Count)]
	return d[0], d[1]
}

// ParseForm reads a form such as yyyy-MM-dd. Text in '…' and everything that is
// no letter stands for itself.
func ParseForm(text string) (Form, error) { return parseForm(text, false) }

// ParseTextForm reads a form of dates that stand in a text and not in a path, so
// that it may have a /.
func ParseTextForm(text string) (Form, error) { return parseForm(text, true) }

func parseForm(text string, slash bool) (Form, error) {
	f := Form{text: text}
	rest := []rune(text)
	for len(rest) > 0 {
		n := 1
		switch r := rest[0]; {
		case r == '\'':
			quoted, end, err := unquote(rest)
			if err != nil {
				return f, fmt.Errorf("the quote in the date form %q is not closed", text)
			}
			f.literal(quoted)
			n = end
		case r == '/' && !slash:
			return f, fmt.Errorf("the date form %q runs over a /; capture each part by itself and join them", text)
		case 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z':
			for n < len(rest) && rest[n] == r {
				n++
			}
			written := string(rest[:n])
			if _, known := fields[written]; !known {
				return f, fmt.Errorf("%q is no date field; known are yyyy yy M MM MMM MMMM d dd Q D DDD and, for weeks, YYYY w ww; other letters stand in '…'", written)
			}
			f.parts = append(f.parts, Part{Letter: r, Count: n})
		default:
			f.literal(string(r))
		}
		rest = rest[n:]
	}
	return f, f.check()
}

// unquote reads '…' and returns where it ends; ” stands for one quote, in
// quotes and outside.
func unquote(runes []rune) (text string, end int, err error) {
	for i := 1; i < len(runes); i++ {
		switch {
		case runes[i] != '\'':
			text += string(runes[i])
		case i == 1 && (len(runes) < 3 || runes[2] != '\''):
			return "'", 2, nil
		case i+1 < len(runes) && runes[i+1] == '\'':
			text += "'"
			i++
		default:
			return text, i + 1, nil
		}
	}
	return "", 0, errors.New("not closed")
}

func (f *Form) literal(text string) {
	if n := len(f.parts); n > 0 && f.parts[n-1].Letter == 0 {
		f.parts[n-1].Literal += text
		return
	}
	f.parts = append(f.parts, Part{Literal: text})
}

func (f *Form) check() error {
	seen := ""
	open := false // whether the field just before may take more digits
	for _, p := range f.parts {
		if p.Letter == 0 {
			open = false
			continue
		}
		if strings.ContainsRune(seen, p.Letter) {
			return fmt.Errorf("the date form %q has the field %c twice", f.text, p.Letter)
		}
		seen += string(p.Letter)
		least, most := p.Digits()
		if open && most > 0 {
			return fmt.Errorf("the date form %q can be read in two ways, since digits follow a field of one or two digits; write dd, MM or ww", f.text)
		}
		open = least < most
	}
	has := func(letters string) bool { return strings.ContainsAny(seen, letters) }
	switch {
	case seen == "":
		return fmt.Errorf("the date form %q has no date field", f.text)
	case has("w") && has("y"):
		return errors.New("weeks go with YYYY, the year of the week; yyyy is wrong around New Year")
	case has("Y") && !has("w"):
		return errors.New("YYYY is the year of a week; write yyyy, or add the week as ww")
	case has("w") && has("MdDQ"):
		return errors.New("a week names its days by itself; leave month, day and quarter out")
	case has("D") && has("MdQ"):
		return errors.New("the day of the year (D) names its month by itself; leave M, d and Q out")
	}
	return nil
}

// Set returns fields with the form's part p put in, and whether n can be one.
func (p Part) Set(f Fields, n int) (Fields, bool) {
	most := 0
	switch p.Letter {
	case 'y':
		if p.Count == 2 {
			if n += 1900; n < 1970 {
				n += 100
			}
		}
		f.Year, most = n, 9999
	case 'Y':
		f.WeekYear, most = n, 9999
	case 'Q':
		f.Quarter, most = n, 4
	case 'M':
		f.Month, most = n, 12
	case 'd':
		f.MonthDay, most = n, 31
	case 'D':
		f.YearDay, most = n, 366
	case 'w':
		f.Week, most = n, 53
	}
	return f, 1 <= n && n <= most
}

// Has tells which parts the form gives, each as 1.
func (f Form) Has() Fields {
	var has Fields
	for _, p := range f.parts {
		has, _ = p.Set(has, 1)
	}
	if has.Year != 0 {
		has.Year = 1
	}
	return has
}

// Read reads all of a text written in a form without month names.
func (f Form) Read(text string) (Fields, bool) { return f.ReadIn(text, Language{}) }

// ReadIn reads all of a text; the names of months are those of a language.
func (f Form) ReadIn(text string, language Language) (Fields, bool) {
	var got Fields
	for _, p := range f.parts {
		if p.Letter == 0 {
			rest, ok := strings.CutPrefix(text, p.Literal)
			if !ok {
				return got, false
			}
			text = rest
			continue
		}
		least, most := p.Digits()
		if most == 0 {
			month, rest := language.cutMonth(p, text)
			var ok bool
			if got, ok = p.Set(got, month); !ok {
				return got, false
			}
			text = rest
			continue
		}
		n, digits := 0, 0
		for digits < most && digits < len(text) && '0' <= text[digits] && text[digits] <= '9' {
			n = n*10 + int(text[digits]-'0')
			digits++
		}
		var ok bool
		if got, ok = p.Set(got, n); !ok || digits < least {
			return got, false
		}
		text = text[digits:]
	}
	return got, text == ""
}

// Format writes a date. It fails if the form asks for more than the date tells,
// as a day of a month.
func (f Form) Format(d Date, language Language) (string, error) {
	t := d.Start.Time()
	year, week := t.ISOWeek()
	var b strings.Builder
	for _, p := range f.parts {
		n, finest := 0, Year
		switch p.Letter {
		case 0:
			b.WriteString(p.Literal)
			continue
		case 'y':
			n = t.Year()
			if d.Unit == Week {
				return "", fmt.Errorf("%s is a week; write its year as YYYY", d)
			}
		case 'Y':
			n, finest = year, Week
		case 'Q':
			n, finest = (int(t.Month())+2)/3, Quarter
		case 'M':
			n, finest = int(t.Month()), Month
		case 'd':
			n, finest = t.Day(), OneDay
		case 'D':
			n, finest = t.YearDay(), OneDay
		case 'w':
			n, finest = week, Week
		}
		if d.Unit > finest || d.Unit == Week && finest > Week {
			return "", fmt.Errorf("%s names no single %s, which the form %q asks for", d, finest, f.text)
		}
		switch least, most := p.Digits(); {
		case most == 0 && p.Count == 3:
			b.WriteString(language.short(n))
		case most == 0:
			b.WriteString(language.long(n))
		case p.Count == 2 && p.Letter == 'y':
			fmt.Fprintf(&b, "%02d", n%100)
		default:
			fmt.Fprintf(&b, "%0*d", least, n)
		}
	}
	return b.String(), nil
}

// titled returns a word with a capital first letter.
func titled(word string) string {
	r, size := utf8.DecodeRuneInString(word)
	return string(unicode.ToUpper(r)) + word[size:]
}
