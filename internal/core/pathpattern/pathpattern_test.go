package pathpattern_test

import (
	_ "embed"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/pathpattern"
)

//go:embed testdata/cases.txt
var cases string

func TestCases(t *testing.T) {
	for n, line := range strings.Split(cases, "\n") {
		if line == "" || line[0] == '#' {
			continue
		}
		parts := strings.Split(line, " |")
		for i := range parts {
			if i > 0 {
				parts[i] = strings.TrimPrefix(parts[i], " ")
			}
		}
		at := fmt.Sprintf("line %d: %s", n+1, line)
		pattern, err := pathpattern.Parse(parts[0], pathpattern.Options{})
		if parts[1] == "!" {
			var syntax *pathpattern.SyntaxError
			require.ErrorAs(t, err, &syntax, at)
			assert.Equal(t, parts[2], fmt.Sprint(syntax.Column), at)
			assert.Contains(t, syntax.Message, parts[3], at)
			continue
		}
		require.NoError(t, err, at)
		var path pathpattern.Path
		path.Set(parts[1])
		captures, ok := pattern.Match(&path)
		if want, no := strings.CutPrefix(parts[2], "no"); no {
			assert.False(t, ok, at)
			assert.Equal(t, strings.TrimPrefix(want, ": "), path.Conflict(), at)
			continue
		}
		require.True(t, ok, at)
		var got []string
		for _, c := range captures {
			got = append(got, c.Name+"="+c.Value())
		}
		assert.Equal(t, parts[2], strings.Join(got, " "), at)
	}
}

func TestMatchCase(t *testing.T) {
	pattern, err := pathpattern.Parse("[a-f]*/<x>.CSV", pathpattern.Options{MatchCase: true})
	require.NoError(t, err)
	var path pathpattern.Path
	for text, want := range map[string]bool{"a/b.CSV": true, "a/b.csv": false, "A/b.CSV": false} {
		path.Set(text)
		_, ok := pattern.Match(&path)
		assert.Equal(t, want, ok, text)
	}
}

func TestRawBytesSurviveInCaptures(t *testing.T) {
	pattern, err := pathpattern.Parse("<name>.csv", pathpattern.Options{})
	require.NoError(t, err)
	var path pathpattern.Path
	path.Set("br\xe5nn.csv")
	captures, ok := pattern.Match(&path)
	require.True(t, ok)
	assert.Equal(t, `br\xE5nn`, captures[0].Value())
}

// A pattern made to be slow must not be: were a failed choice tried again,
// this would run for longer than the universe has.
func TestHostilePattern(t *testing.T) {
	for _, text := range []string{strings.Repeat("*a", 500) + "b", strings.Repeat("<x>a", 1) + strings.Repeat("*a", 400) + "b", strings.Repeat("**/", 300) + "b"} {
		pattern, err := pathpattern.Parse(text, pathpattern.Options{})
		require.NoError(t, err)
		var path pathpattern.Path
		for _, long := range []string{strings.Repeat("a", 4000), strings.Repeat("a/", 2000) + "a"} {
			path.Set(long)
			_, ok := pattern.Match(&path)
			assert.False(t, ok)
		}
	}
}

func FuzzMatch(f *testing.F) {
	f.Add("<terminal>/<day:yyyy-MM-dd>*.{csv,txt}", "Eskvik/2026-10-05.csv")
	f.Add("**/[!a-c]?<n:number>", "a/b/x12\xff")
	f.Fuzz(func(t *testing.T, text, name string) {
		pattern, err := pathpattern.Parse(text, pathpattern.Options{})
		if err != nil {
			return
		}
		var path pathpattern.Path
		path.Set(name)
		captures, ok := pattern.Match(&path)
		if ok {
			assert.Len(t, captures, len(pattern.Captures()))
		}
	})
}

func BenchmarkMatch(b *testing.B) {
	pattern, err := pathpattern.Parse("<terminal>/<year:yyyy>/loadings <day:yyyy-MM-dd>.csv", pathpattern.Options{})
	require.NoError(b, err)
	var path pathpattern.Path
	for b.Loop() {
		path.Set("Eskvik/2026/loadings 2026-10-05.csv")
		pattern.Match(&path)
	}
}
