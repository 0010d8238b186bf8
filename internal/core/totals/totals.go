// Package totals counts rows and sums columns exactly, per file and per
// refresh, and tells what moved between two of them.
package totals

import (
	"math"
	"math/big"
	"strings"
)

// scales is how many decimal places the fast path keeps apart.
const scales = Scales

// Scales is one more than the most decimal places that AddScaled takes.
const Scales = 10

// Sum is an exact sum of decimals. Its zero value is the sum of none.
type Sum struct {
	parts [scales]int64 // by number of decimal places, in units of the last
	large *big.Rat      // what did not fit above
	scale int           // the most decimal places seen
}

// Add adds a number in canonical form: an optional minus, digits, and
// optionally a point and digits.
func (s *Sum) Add(number []byte) {
	var n int64
	scale, point := 0, false
	digits := number
	negative := len(digits) > 0 && digits[0] == '-'
	if negative {
		digits = digits[1:]
	}
	if len(digits) <= 18 {
		for _, c := range digits {
			if c == '.' {
				point = true
				continue
			}
			n = n*10 + int64(c-'0')
			if point {
				scale++
			}
		}
		if negative {
			n = -n
		}
		if scale < scales {
			s.scale = max(s.scale, scale)
			s.add(scale, n)
			return
		}
	}
	if i := strings.IndexByte(string(number), '.'); i >= 0 {
		s.scale = max(s.scale, len(number)-i-1)
	}
	if r, ok := new(big.Rat).SetString(string(number)); ok {
		s.addLarge(r)
	}
}

// AddScaled adds n units of the last of so many decimal places.
func (s *Sum) AddScaled(n int64, scale int) {
	s.scale = max(s.scale, scale)
	s.add(scale, n)
}

func (s *Sum) add(scale int, n int64) {
	if part := s.parts[scale]; n > 0 && part > math.MaxInt64-n || n < 0 && part < math.MinInt64-n {
		s.addLarge(rat(part, scale))
		s.parts[scale] = 0
	}
	s.parts[scale] += n
}

func (s *Sum) addLarge(r *big.Rat) {
	if s.large == nil {
		s.large = new(big.Rat)
	}
	s.large.Add(s.large, r)
}

func rat(n int64, scale int) *big.Rat {
	unit := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(scale)), nil)
	return new(big.Rat).SetFrac(big.NewInt(n), unit)
}

// Merge adds another sum.
func (s *Sum) Merge(other *Sum) {
	s.scale = max(s.scale, other.scale)
	for scale, n := range other.parts {
		s.add(scale, n)
	}
	if other.large != nil {
		s.addLarge(other.large)
	}
}

// String returns the sum with as many decimal places as its longest number.
func (s *Sum) String() string {
	total := new(big.Rat)
	if s.large != nil {
		total.Set(s.large)
	}
	for scale, n := range s.parts {
		if n != 0 {
			total.Add(total, rat(n, scale))
		}
	}
	return total.FloatString(s.scale)
}

// Difference returns b minus a, both in the form String gives, with a sign.
func Difference(a, b string) (string, bool) {
	before, ok := new(big.Rat).SetString(a)
	after, ok2 := new(big.Rat).SetString(b)
	if !ok || !ok2 {
		return "", false
	}
	places := 0
	for _, n := range []string{a, b} {
		if i := strings.IndexByte(n, '.'); i >= 0 {
			places = max(places, len(n)-i-1)
		}
	}
	d := new(big.Rat).Sub(after, before)
	text := d.FloatString(places)
	if d.Sign() > 0 {
		text = "+" + text
	}
	return text, true
}

// Grouped writes a number, in the form String or Difference gives, with commas
// between its thousands.
func Grouped(decimal string) string {
	sign := ""
	if decimal != "" && (decimal[0] == '-' || decimal[0] == '+') {
		sign, decimal = decimal[:1], decimal[1:]
	}
	whole, fraction, point := strings.Cut(decimal, ".")
	for i := len(whole) - 3; i > 0; i -= 3 {
		whole = whole[:i] + "," + whole[i:]
	}
	if point {
		whole += "." + fraction
	}
	return sign + whole
}

// MarshalText writes the sum as String does.
func (s *Sum) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads what MarshalText wrote: a sum of the same value, with as
// many decimal places.
func (s *Sum) UnmarshalText(text []byte) error {
	*s = Sum{}
	s.Add(text)
	return nil
}
