package totals_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"jorvex/internal/core/totals"
)

// poisson draws a count with a mean.
func poisson(r *rand.Rand, mean float64) float64 {
	n, p, limit := 0.0, 1.0, math.Exp(-mean)
	for {
		if p *= r.Float64(); p <= limit {
			return n
		}
		n++
	}
}

// What follows the same law as before is hardly ever called unusual, and a
// tenth or ten times of what varies little always is.
func TestUsual(t *testing.T) {
	steady, wild := 0.98, 0.0
	for name, c := range map[string]struct {
		draw  func(*rand.Rand) float64
		false float64 // share of false alarms at most, with 12 files and more
		tells float64 // share of tenths that are told, with 20 files and more
	}{
		"always the same":        {func(r *rand.Rand) float64 { return 24 }, 0, 1},
		"a small count":          {func(r *rand.Rand) float64 { return poisson(r, 3) }, 0.002, wild},
		"a count":                {func(r *rand.Rand) float64 { return poisson(r, 30) }, 0.002, steady},
		"a sum":                  {func(r *rand.Rand) float64 { return 1000 * math.Exp(0.2*r.NormFloat64()) }, 0.002, steady},
		"a sum that varies":      {func(r *rand.Rand) float64 { return 1000 * math.Exp(0.5*r.NormFloat64()) }, 0.002, wild},
		"any of a range":         {func(r *rand.Rand) float64 { return 1 + 99*r.Float64() }, 0.012, wild},
		"more at the week's end": {func(r *rand.Rand) float64 { return poisson(r, []float64{30, 30, 30, 30, 30, 90, 90}[r.IntN(7)]) }, 0.015, 0.4},
		"of either sign":         {func(r *rand.Rand) float64 { return 10 * r.NormFloat64() }, 0.003, wild},
		"now and then a giant":   {func(r *rand.Rand) float64 { return math.Pow(1-r.Float64(), -0.5) }, 0.004, wild},
	} {
		t.Run(name, func(t *testing.T) {
			r := rand.New(rand.NewPCG(1, 2)) // its own, so that the order of the cases does not matter
			const times = 2000
			for _, n := range []int{8, 12, 20, 60} {
				alarms, told := 0, 0
				for range times {
					values := make([]float64, n)
					for i := range values {
						values[i] = c.draw(r)
					}
					u, ok := totals.UsualOf(values)
					assert.True(t, ok)
					assert.Equal(t, n, u.Files)
					next := c.draw(r)
					if !u.Holds(next) {
						alarms++
					}
					if !u.Holds(next / 10) {
						told++
					}
				}
				if n >= 12 {
					assert.LessOrEqual(t, float64(alarms)/times, c.false, "false alarms among %d files", n)
				} else {
					assert.LessOrEqual(t, float64(alarms)/times, 0.02, "false alarms among %d files", n)
				}
				if n >= 20 {
					assert.GreaterOrEqual(t, float64(told)/times, c.tells, "tenths told among %d files", n)
				}
			}
		})
	}
}

func TestUsualBounds(t *testing.T) {
	_, ok := totals.UsualOf([]float64{1, 2, 3, 4, 5, 6, 7})
	assert.False(t, ok, "too few to tell")
	u, ok := totals.UsualOf([]float64{20, 20, 20, 20, 20, 20, 20, 20000})
	assert.True(t, ok)
	assert.Equal(t, 20000.0, u.Most)
	assert.True(t, u.Holds(14))
	assert.False(t, u.Holds(5), "one giant does not hide a dwarf")
	assert.False(t, u.Holds(0))
}
