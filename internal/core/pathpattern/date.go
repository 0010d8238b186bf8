package pathpattern

import (
	"fmt"
	"strings"
	"time"

	"jorvex/internal/core/filename"
)

// Date is a calendar date or, with Day or Month zero, the month or year it
// names. The zero Date is no date.
type Date struct {
	Year, Month, Day int
}

// String returns the date in ISO 8601 form: 2026-10-05, 2026-10 or 2026.
func (d Date) String() string {
	switch {
	case d.Month == 0:
		return fmt.Sprintf("%04d", d.Year)
	case d.Day == 0:
		return fmt.Sprintf("%04d-%02d", d.Year, d.Month)
	}
	return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day)
}

// Whole reports whether d names one day.
func (d Date) Whole() bool { return d.Day != 0 }

// real reports whether d is on the calendar.
func (d Date) real() bool {
	if d.Month > 12 || d.Year < 1 {
		return false
	}
	if d.Day == 0 {
		return true
	}
	return d.Day <= time.Date(d.Year, time.Month(d.Month)+1, 0, 0, 0, 0, 0, time.UTC).Day()
}

// field is one date field (Unicode LDML, part 4, date field symbols) or a
// literal between fields.
type field struct {
	letter  rune // y M d, or 0 for a literal
	count   int
	literal []rune
}

func parseDateForm(form string) ([]field, error) {
	runes := []rune(form)
	var fields []field
	literal := func(r rune) {
		if n := len(fields); n > 0 && fields[n-1].letter == 0 {
			fields[n-1].literal = append(fields[n-1].literal, filename.Fold(r))
			return
		}
		fields = append(fields, field{literal: []rune{filename.Fold(r)}})
	}
	seen := ""
	for i := 0; i < len(runes); {
		r := runes[i]
		if r == '\'' {
			end := i + 1
			for end < len(runes) && runes[end] != '\'' {
				literal(runes[end])
				end++
			}
			if end == len(runes) {
				return nil, fmt.Errorf("the quote in the date form %q is not closed", form)
			}
			if end == i+1 {
				literal('\'')
			}
			i = end + 1
			continue
		}
		if r == '/' {
			return nil, fmt.Errorf("the date form %q runs over a /; capture each part by itself", form)
		}
		if !('a' <= r && r <= 'z' || 'A' <= r && r <= 'Z') {
			literal(r)
			i++
			continue
		}
		end := i
		for end < len(runes) && runes[end] == r {
			end++
		}
		count := end - i
		switch written := string(runes[i:end]); written {
		case "yyyy", "yy", "M", "MM", "MMM", "MMMM", "d", "dd":
		default:
			return nil, fmt.Errorf("%q is no date field; known are yyyy yy M MM MMM MMMM d dd, other letters stand in '…'", written)
		}
		if strings.ContainsRune(seen, r) {
			return nil, fmt.Errorf("the date form %q has the field %c twice", form, r)
		}
		seen += string(r)
		fields = append(fields, field{letter: r, count: count})
		i = end
	}
	switch {
	case !strings.Contains(seen, "y"):
		return nil, fmt.Errorf("the date form %q has no year (yyyy or yy)", form)
	case strings.Contains(seen, "d") && !strings.Contains(seen, "M"):
		return nil, fmt.Errorf("the date form %q has a day and no month", form)
	}
	return fields, nil
}

// digits returns the fewest and most digits of a numeric field.
func (f field) digits() (least, most int) {
	if f.count == 1 {
		return 1, 2
	}
	return f.count, f.count
}

// monthNames holds English month names, folded.
var monthNames = [...]string{
	"january", "february", "march", "april", "may", "june",
	"july", "august", "september", "october", "november", "december",
}

// set returns d with the field's number put in, and whether it can be.
func (f field) set(d Date, n int) (Date, bool) {
	switch f.letter {
	case 'y':
		if f.count == 2 {
			if n += 1900; n < 1970 {
				n += 100
			}
		}
		d.Year = n
	case 'M':
		d.Month = n
		return d, 1 <= n && n <= 12
	case 'd':
		d.Day = n
		return d, 1 <= n && n <= 31
	}
	return d, true
}
