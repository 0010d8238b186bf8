package totals_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"jorvex/internal/core/totals"
)

func TestSum(t *testing.T) {
	for _, c := range []struct{ numbers, want string }{
		{"", "0"},
		{"1 2 3", "6"},
		{"1.50 2.25", "3.75"},
		{"1.5 2", "3.5"},
		{"0.1 0.2", "0.3"},
		{"-1 0.25 0.75", "0.00"},
		{"9223372036854775807 9223372036854775807", "18446744073709551614"},
		{"-9223372036854775808 -1", "-9223372036854775809"},
		{"0.00000000000000000001 1", "1.00000000000000000001"},
		{"900000000000000000 900000000000000000 900000000000000000 900000000000000000 900000000000000000 900000000000000000 900000000000000000 900000000000000000 900000000000000000 900000000000000000 900000000000000000", "9900000000000000000"},
	} {
		var forward, left, right totals.Sum
		numbers := strings.Fields(c.numbers)
		for i, n := range numbers {
			forward.Add([]byte(n))
			half := &left
			if i%2 == 1 {
				half = &right
			}
			half.Add([]byte(n))
		}
		assert.Equal(t, c.want, forward.String(), c.numbers)
		right.Merge(&left)
		assert.Equal(t, c.want, right.String(), "merged: "+c.numbers)
	}
}

func TestDifference(t *testing.T) {
	for _, c := range [][3]string{{"10", "12", "+2"}, {"10.5", "10", "-0.5"}, {"3", "3.00", "0.00"}} {
		got, ok := totals.Difference(c[0], c[1])
		assert.True(t, ok)
		assert.Equal(t, c[2], got)
	}
	_, ok := totals.Difference("x", "1")
	assert.False(t, ok)
}
