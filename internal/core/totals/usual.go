package totals

import (
	"math"
	"slices"
)

// Usual is the range that a measure of files, rows or bytes or a sum, keeps to.
type Usual struct {
	Files       int     // that were compared
	Least, Most float64 // among them
	Low, High   float64 // the bounds: what lies outside is unusual
}

// Fewest is how many values there must be for a range to be told.
const Fewest = 8

// UsualOf tells the usual range of some values. It needs Fewest of them.
//
// The bounds lie about the median: beyond the bulk of the values by a quarter,
// and at a multiple of the median distance from it, which a few wild values do
// not move. The fewer values, the larger the multiple. They are never closer
// than a factor of 1.5, so that what hardly varies may, nor than chance alone
// moves a small count. Values of one sign are compared by their ratio, others
// by difference.
func UsualOf(values []float64) (Usual, bool) {
	n := len(values)
	if n < Fewest {
		return Usual{}, false
	}
	sorted := slices.Sorted(slices.Values(values))
	u := Usual{Files: n, Least: sorted[0], Most: sorted[n-1]}
	ratio := u.Least >= 0
	if ratio {
		for i, v := range sorted {
			sorted[i] = math.Log1p(v)
		}
	}
	middle := median(sorted)
	away := make([]float64, n)
	for i, v := range sorted {
		away[i] = math.Abs(v - middle)
	}
	slices.Sort(away)
	reach := (4.5 + 40/float64(n)) * 1.4826 * median(away)
	if ratio {
		reach = max(reach, math.Log(1.5), 4/math.Exp(middle/2))
	} else {
		reach = max(reach, math.Abs(middle)/2)
	}
	const bulk = 0.95
	least, most := sorted[int((1-bulk)*float64(n))], sorted[int(bulk*float64(n-1)+0.5)]
	u.Low, u.High = middle-max(reach, 1.25*(middle-least)), middle+max(reach, 1.25*(most-middle))
	if ratio {
		u.Low, u.High = max(0, math.Expm1(u.Low)), math.Expm1(u.High)
	}
	return u, true
}

func median(sorted []float64) float64 {
	n := len(sorted)
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}

// Holds reports whether a value lies in the usual range.
func (u Usual) Holds(v float64) bool { return v >= u.Low && v <= u.High }
