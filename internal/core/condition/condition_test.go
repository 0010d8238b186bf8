package condition_test

import (
	_ "embed"
	"fmt"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
)

//go:embed testdata/cases.txt
var cases string

var fields = condition.FileFields([]condition.Field{
	{Name: "terminal", Kind: condition.Text}, {Name: "day", Kind: condition.Date}, {Name: "n", Kind: condition.Number},
	{Name: "month", Kind: condition.Date}, {Name: "missing", Kind: condition.Text},
})

type values []condition.Value

func (v values) Value(field int) condition.Value { return v[field] }

func text(s string) condition.Value { return condition.Value{Text: s} }

func date(t testing.TB, s string) condition.Value {
	d, err := calendar.Parse(s)
	require.NoError(t, err)
	return condition.Value{Date: d}
}

func subject(t testing.TB) values {
	return values{
		text("Loadings 2026-10-05.CSV"), text("Loadings 2026-10-05"), text("CSV"), text("loadings/Eskvik/2026"), text("loadings/Eskvik/2026/Loadings 2026-10-05.CSV"),
		{Number: 12300}, {Time: time.Date(2026, 10, 5, 22, 30, 0, 0, time.UTC)},
		text("Eskvik"), date(t, "2026-10-05"), {Number: 42}, date(t, "2026-10"), {Blank: true},
	}
}

func parameter(name, _ string) (string, error) {
	if value, known := map[string]string{"terminal": "Eskvik", "period": "2026-10", "least": "12 KB"}[name]; known {
		return value, nil
	}
	return "", fmt.Errorf("there is no parameter %q", name)
}

func TestCases(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	now := condition.Now{At: time.Date(2026, 11, 20, 9, 0, 0, 0, oslo)}
	file := subject(t)
	for n, line := range strings.Split(cases, "\n") {
		if line == "" || line[0] == '#' {
			continue
		}
		parts := strings.Split(line, " | ")
		at := fmt.Sprintf("line %d: %s", n+1, line)
		c, err := condition.Parse(parts[0], fields, parameter)
		if parts[1] == "!" {
			var syntax *condition.SyntaxError
			require.ErrorAs(t, err, &syntax, at)
			assert.Equal(t, parts[2], fmt.Sprint(syntax.Column), "%s: %s", at, syntax.Message)
			assert.Contains(t, syntax.Message, parts[3], at)
			continue
		}
		require.NoError(t, err, at)
		assert.Equal(t, parts[1] == "yes", c.Holds(file, now), at)
		canonical := parts[0]
		if len(parts) > 2 {
			canonical = parts[2]
		}
		assert.Equal(t, canonical, c.String(), at)
		again, err := condition.Parse(c.String(), fields, parameter)
		require.NoError(t, err, at)
		assert.Equal(t, c.String(), again.String(), at)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(`not (name contains "x" or size at least 10 KiB) and day within last 8 weeks`)
	f.Add(`extension is one of exactly ('a', "b""") and missing is blank and n is $least`)
	f.Fuzz(func(t *testing.T, text string) {
		c, err := condition.Parse(text, fields, parameter)
		if err != nil {
			return
		}
		again, err := condition.Parse(c.String(), fields, parameter)
		require.NoError(t, err, "the canonical form of %q", text)
		assert.Equal(t, c.String(), again.String())
		now := condition.Now{At: time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC)}
		assert.Equal(t, c.Holds(subject(t), now), again.Holds(subject(t), now), "the canonical form of %q", text)
	})
}
