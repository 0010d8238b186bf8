package shaping_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/shaping"
)

// traced writes what became of the first rows of a file: ROW BECAME values, or
// cells for those that were not kept.
func traced(t *testing.T, def *definition.Definition, file string, most int) (string, shaping.Result) {
	t.Helper()
	result, err := shaping.ShapeTraced(def, shaping.Origin{Captures: map[string]string{"terminal": "Eskvik"}}, opened(t, []byte(file)), most)
	require.NoError(t, err)
	var lines []string
	for _, r := range result.Rows {
		shown := r.Cells
		if r.Became == shaping.Kept {
			shown = r.Values
		} else {
			assert.Empty(t, r.Values)
		}
		lines = append(lines, fmt.Sprintf("%d %s: %s", r.Row, r.Became, strings.Join(shown, "|")))
	}
	return strings.Join(lines, "\n"), result.Result
}

func TestTrace(t *testing.T) {
	def, err := definition.Parse(`
input: a
place: b
pick: ["<terminal>.csv"]
read: {leave_out: 'port starts with "Sum"', carry_down: port}
columns:
  - {name: terminal, capture: terminal}
  - {name: port, required: true}
  - {name: litres, type: decimal, required: true, total: true}
`, time.Now())
	require.NoError(t, err)
	const file = "Fuel uplift,\nport,litres\n\"Eskvik, north\",10\n,20\n,\nSum Eskvik,30\nport,litres\nFennay,five\n"
	all := `1 above the header: Fuel uplift|
2 header: port|litres
3 kept: Eskvik|Eskvik, north|10
4 kept: Eskvik|Eskvik, north|20
5 blank: |
6 left out: Sum Eskvik|30
7 header again: port|litres
8 kept: Eskvik|Fennay|`
	got, result := traced(t, def, file, 50)
	assert.Equal(t, all, got)
	assert.Equal(t, int64(6), result.Read)
	assert.Equal(t, int64(3), result.Kept)
	assert.Equal(t, "30", result.Sums[0].String())
	assert.Len(t, result.Findings, 2)

	// Fewer rows are told; the whole file is read all the same.
	for most := 1; most <= 8; most++ {
		got, few := traced(t, def, file, most)
		assert.Equal(t, strings.Join(strings.Split(all, "\n")[:most], "\n"), got)
		assert.Equal(t, result, few)
	}

	got, result = traced(t, def, "some,thing\nelse,1\n", 50)
	assert.Equal(t, "1 no header found: some|thing\n2 no header found: else|1", got)
	_, broken := result.Broken()
	assert.True(t, broken)
}
