package shaping_test

import (
	"bytes"
	_ "embed"
	"encoding/csv"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/reading"
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

// kept is content in memory.
type kept struct{ *bytes.Reader }

func (kept) Close() error { return nil }

func opened(t *testing.T, content []byte) *reading.File {
	t.Helper()
	f, err := reading.Open(bytes.NewReader(content), func(r io.Reader) (reading.Content, error) {
		b, err := io.ReadAll(r)
		return kept{bytes.NewReader(b)}, err
	})
	require.NoError(t, err)
	return f
}

func TestScenarios(t *testing.T) {
	def, err := definition.Parse(loadings, time.Now())
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
				case text == "open": // the file lacks its last line end
					whole := file.String()
					file.Reset()
					file.WriteString(strings.TrimSuffix(whole, "\n"))
					section = ""
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
			result, err := shaping.Shape(def, origin, opened(t, []byte(file.String())), out)
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
			records, err := csv.NewReader(&part).ReadAll()
			require.NoError(t, err)
			var rows []string
			for _, record := range records {
				for i, value := range record {
					if value == "" {
						record[i] = "~"
					}
				}
				rows = append(rows, strings.Join(record, "|"))
			}
			assert.Equal(t, wantRows, rows)
			assert.Len(t, rows, int(result.Kept))
		})
	}
}

func TestPartQuotesWhatNeedsIt(t *testing.T) {
	var part bytes.Buffer
	w := shaping.NewWriter(&part)
	for _, value := range []string{"plain", "a,b", `say "hi"`, "two\nlines", "\r", `\.`, `\.x`} {
		w.Text([]byte(value))
		w.Null()
		require.NoError(t, w.EndRow())
	}
	require.NoError(t, w.Flush())
	assert.Equal(t, "plain,\r\n\"a,b\",\r\n\"say \"\"hi\"\"\",\r\n\"two\nlines\",\r\n\"\r\",\r\n\"\\.\",\r\n\\.x,\r\n", part.String())
}
