package definition_test

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
)

//go:embed testdata/good.yaml
var good string

//go:embed testdata/problems.txt
var problems string

func TestParse(t *testing.T) {
	def, err := definition.Parse(good)
	require.NoError(t, err)
	assert.Equal(t, "daily-loadings", def.Input)
	assert.Equal(t, "loadings", def.Folder)
	assert.Equal(t, byte(','), def.Delimiter)
	assert.Equal(t, definition.LeaveOut, def.Broken)
	assert.Equal(t, 7, def.Pick[0].Line)
	var columns []string
	for _, c := range def.Columns {
		columns = append(columns, c.Name+" "+string(c.Type))
	}
	assert.Equal(t, []string{"terminal text", "day date", "year text", "source_file text", "sailing text", "passengers whole", "freight_t decimal"}, columns)
	assert.Equal(t, []string{"passengers"}, def.Columns[5].Headers)
	assert.Equal(t, []definition.Delivery{{File: "weekly/daily-loadings.csv"}, {Table: "daily_loadings"}}, def.Delivery)
}

func TestProblems(t *testing.T) {
	_, body, _ := strings.Cut(problems, "\n")
	for _, scenario := range strings.Split(body, "====\n") {
		text, wants, _ := strings.Cut(scenario, "----\n")
		_, err := definition.Parse(text)
		var invalid *definition.Invalid
		require.ErrorAs(t, err, &invalid, scenario)
		got := strings.Split(strings.TrimSpace(err.Error()), "\n")
		lines := strings.Split(strings.TrimSpace(wants), "\n")
		assert.Len(t, got, len(lines), "%s\ngot:\n%s", scenario, err)
		for _, want := range lines {
			at, message, _ := strings.Cut(want, " ")
			line, column, _ := strings.Cut(at, ":")
			assert.True(t, slices.ContainsFunc(invalid.Problems, func(p definition.Problem) bool {
				return fmt.Sprint(p.Line) == line && (column == "" || fmt.Sprint(p.Column) == column) && strings.Contains(p.Message, message)
			}), "want %q\ngot:\n%s", want, err)
		}
	}
}

func TestLayoutDigestCoversReadingAlone(t *testing.T) {
	parse := func(old, new string) string {
		require.Contains(t, good, old)
		def, err := definition.Parse(strings.Replace(good, old, new, 1))
		require.NoError(t, err)
		return def.LayoutDigest()
	}
	same := parse("title", "title")
	assert.Equal(t, same, parse("Daily loadings", "Loadings by day"))
	assert.Equal(t, same, parse("leave_out}", "stop}"))
	assert.NotEqual(t, same, parse("Sailing no", "Sailing nr"))
	assert.NotEqual(t, same, parse("comma", "tab"))
	assert.NotEqual(t, same, parse("type: whole", "type: decimal"))
}

// The schema and the parser must know the same keys.
func TestSchemaKnowsTheKeys(t *testing.T) {
	var schema struct {
		Properties map[string]struct {
			Properties map[string]any
			Items      struct{ Properties map[string]any }
		}
	}
	require.NoError(t, json.Unmarshal(definition.Schema, &schema))
	levels := map[string][]string{}
	for key, p := range schema.Properties {
		levels["the definition"] = append(levels["the definition"], key)
		for sub := range p.Properties {
			levels[key] = append(levels[key], sub)
		}
		for sub := range p.Items.Properties {
			levels[map[string]string{"columns": "a column", "deliver": "a delivery"}[key]] = append(levels[map[string]string{"columns": "a column", "deliver": "a delivery"}[key]], sub)
		}
	}
	require.Len(t, levels, len(definition.Keys()))
	for level, keys := range definition.Keys() {
		assert.ElementsMatch(t, keys, levels[level], level)
	}
}

func TestNearest(t *testing.T) {
	known := []string{"terminal", "day", "place"}
	for word, want := range map[string]string{"termnal": "terminal", "Terminal": "terminal", "tremnial": "terminal", "dya": "day", "x": "", "plaice": "place", "nothing": ""} {
		assert.Equal(t, want, definition.Nearest(word, known), word)
	}
}

func TestPlain(t *testing.T) {
	for header, want := range map[string]string{"  Sailing   No ": "sailing no", "\ufeffDépart": "depart", "Ⅳ": "iv", "": ""} {
		assert.Equal(t, want, definition.Plain(header))
	}
}
