package shaping_test

import (
	"bytes"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/shaping"
)

// The examples of docs/reading.md come to what they say: keys of a definition, a
// file, and its rows.
func TestExamplesOfThePage(t *testing.T) {
	page, err := os.ReadFile("../../../docs/reading.md")
	require.NoError(t, err)
	examples := regexp.MustCompile("(?s)```yaml\n(.*?)```\n```text\n(.*?)```\n```csv\n(.*?)```").FindAllSubmatch(page, -1)
	require.Len(t, examples, 5)
	for _, e := range examples {
		def, err := definition.Parse("input: a\nplace: b\npick: ['*']\n"+string(e[1]), time.Now())
		require.NoError(t, err, string(e[1]))
		var part bytes.Buffer
		out := shaping.NewWriter(&part)
		result, err := shaping.Shape(def, shaping.Origin{}, opened(t, e[2]), out)
		require.NoError(t, err)
		require.NoError(t, out.Flush())
		assert.Equal(t, string(e[3]), strings.ReplaceAll(part.String(), "\r\n", "\n"))
		for _, f := range result.Findings {
			assert.Equal(t, "extra_columns", string(f.Code), f.Sentence)
		}
	}
}
