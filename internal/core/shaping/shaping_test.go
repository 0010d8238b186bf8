package shaping_test

import (
	"bytes"
	_ "embed"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/shaping"
)

//go:embed testdata/scenarios.txt
var scenarios string

const loadings = `
input: a
place: b
pick: ["<terminal>.csv"]
columns:
  - {name: terminal, capture: terminal}
  - {name: sailing, required: true}
  - {name: passengers, type: whole, total: true}
  - {name: freight_t, type: decimal, headers: ["Freight (t)"], total: true}
  - {name: day, type: date}
`

func TestScenarios(t *testing.T) {
	def, err := definition.Parse(loadings)
	require.NoError(t, err)
	for _, scenario := range strings.Split(scenarios, "== ")[1:] {
		title, body, _ := strings.Cut(scenario, "\n")
		t.Run(title, func(t *testing.T) {
			var file strings.Builder
			var wantRows, wantFindings []string
			wantTotals, section := "", ""
			for line := range strings.Lines(body) {
				text := strings.TrimSuffix(line, "\n")
				switch {
				case text == "file" || text == "rows" || text == "findings":
					section = text
				case strings.HasPrefix(text, "totals "):
					wantTotals, section = text, ""
				case section == "file":
					file.WriteString(line)
				case section == "rows":
					wantRows = append(wantRows, text)
				case section == "findings" && text != "":
					wantFindings = append(wantFindings, text)
				}
			}
			var part bytes.Buffer
			out := shaping.NewWriter(&part)
			origin := shaping.Origin{Captures: map[string]string{"terminal": "Eskvik"}}
			// The blank line that ends a scenario is part of its file.
			result, err := shaping.Shape(def, origin, strings.NewReader(file.String()), out)
			require.NoError(t, err)
			require.NoError(t, out.Flush())

			var findings []string
			for _, f := range result.Findings {
				line := string(f.Code)
				if f.Row > 0 {
					line += fmt.Sprintf(" row %d", f.Row)
				}
				if f.Count > 0 {
					line += fmt.Sprintf(" x%d", f.Count)
				}
				findings = append(findings, line)
				assert.NotEmpty(t, f.Sentence)
				assert.NotEmpty(t, f.Suggest)
			}
			assert.Equal(t, wantFindings, findings)
			if _, broken := result.Broken(); broken {
				return
			}
			assert.Equal(t, wantTotals, fmt.Sprintf("totals %s %s", result.Sums[0].String(), result.Sums[1].String()))
			var rows []string
			in := shaping.NewReader(&part, len(def.Columns))
			for {
				values, err := in.Next()
				if err == io.EOF {
					break
				}
				require.NoError(t, err)
				var texts []string
				for _, v := range values {
					if v == nil {
						v = []byte("~")
					}
					texts = append(texts, string(v))
				}
				rows = append(rows, strings.Join(texts, "|"))
			}
			assert.Equal(t, wantRows, rows)
			assert.Len(t, rows, int(result.Kept))
		})
	}
}

func TestPartReaderRefusesDamage(t *testing.T) {
	var part bytes.Buffer
	w := shaping.NewWriter(&part)
	w.Value([]byte(strings.Repeat("x", 300)))
	w.Null()
	require.NoError(t, w.EndRow())
	require.NoError(t, w.Flush())
	whole := part.Bytes()
	for cut := 1; cut < len(whole); cut++ {
		_, err := shaping.NewReader(bytes.NewReader(whole[:cut]), 2).Next()
		assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	}
	values, err := shaping.NewReader(bytes.NewReader(whole), 2).Next()
	require.NoError(t, err)
	assert.Len(t, values[0], 300)
	assert.Nil(t, values[1])
	_, err = shaping.NewReader(strings.NewReader("\xff\xff\xff\xff\xff\xff\x01"), 1).Next()
	assert.ErrorContains(t, err, "damaged")
}
