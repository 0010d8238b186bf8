package formula_test

import (
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/formula"
)

func columns(name string) (*big.Rat, bool) {
	text, ok := map[string]string{"freight": "10.10", "mail_t": "0.20", "sailings": "3", "none": "0", "größe": "2"}[name]
	if !ok {
		return nil, false
	}
	value, ok := new(big.Rat).SetString(text)
	return value, ok
}

func TestValue(t *testing.T) {
	for _, c := range []struct {
		text  string
		round int
		want  string // empty for none
	}{
		{"freight + mail_t", -1, "10.3"},
		{"freight+mail_t*10", -1, "12.1"},
		{"(freight - mail_t) / sailings", -1, "3.3"},
		{"freight / sailings", -1, "3.366666666667"},
		{"freight / sailings", 2, "3.37"},
		{"freight / 4", 6, "2.525"},
		{"2 - 3 - 4", -1, "-5"},
		{"8 / 4 / 2", -1, "1"},
		{"-freight", 0, "-10"},
		{"--2", -1, "2"},
		{"-0.004", 2, "0"},
		{"0.1 + 0.2", -1, "0.3"},
		{"größe * 1.5", -1, "3"},
		{"freight / none", -1, ""},
		{"freight + absent", -1, ""},
		{"absent + freight", -1, ""},
	} {
		f, err := formula.Parse(c.text)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.text, f.String())
		got := ""
		if value, ok := f.Value(columns); ok {
			got = string(formula.Append(nil, value, c.round))
		}
		assert.Equal(t, c.want, got, c.text)
	}
	f, err := formula.Parse("a * b / a")
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, f.Names)
}

func TestFaults(t *testing.T) {
	for text, want := range map[string]string{
		"":           "at its end: a column, a number or ( is expected",
		"freight +":  "at its end: a column",
		"(freight":   "at its end: a closing parenthesis",
		"freight 2":  `at '2', character 9: +, -, * or / is expected`,
		"1.2.3":      "this is no number",
		"freight, 1": `at ',', character 8`,
		"a ^ 2":      `at '^', character 3`,
	} {
		_, err := formula.Parse(text)
		assert.ErrorContains(t, err, want, text)
	}
}
