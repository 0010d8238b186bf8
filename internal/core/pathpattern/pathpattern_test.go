package pathpattern_test

import (
	_ "embed"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/pathpattern"
)

//go:embed testdata/cases.txt
var cases string

//go:embed testdata/near.txt
var nearCases string

// options reads a line such as "% language=de match_case".
func options(t *testing.T, line string) pathpattern.Options {
	t.Helper()
	o := pathpattern.Options{Parameter: parameter}
	for _, word := range strings.Fields(line) {
		name, value, _ := strings.Cut(word, "=")
		switch name {
		case "language":
			var err error
			o.Language, err = calendar.ParseLanguage(value)
			require.NoError(t, err)
		case "match_case":
			o.MatchCase = true
		}
	}
	return o
}

func parameter(name, form string) (string, error) {
	values := map[string]string{"terminal": "Eskvik", "period": "2026-10", "folder": "fuel/2026"}
	value, known := values[name]
	if !known {
		return "", fmt.Errorf("there is no parameter %q", name)
	}
	if form == "" {
		return value, nil
	}
	parsed, err := calendar.ParseForm(form)
	if err != nil {
		return "", err
	}
	date, err := calendar.Parse(value)
	if err != nil {
		return "", err
	}
	return parsed.Format(date, calendar.Language{})
}

// unescape replaces \uXXXX and \t in a case.
func unescape(text string) string {
	text = strings.ReplaceAll(text, `\t`, "\t")
	return regexp.MustCompile(`\\u[0-9a-f]{4}`).ReplaceAllStringFunc(text, func(s string) string {
		n, _ := strconv.ParseUint(s[2:], 16, 32)
		return string(rune(n))
	})
}

// lines calls each with the parts of every case of a file.
func lines(t *testing.T, text string, each func(at string, o pathpattern.Options, parts []string)) {
	t.Helper()
	o := options(t, "")
	for n, line := range strings.Split(text, "\n") {
		switch {
		case line == "" || line[0] == '#':
		case line[0] == '%':
			o = options(t, line[1:])
		default:
			parts := strings.Split(unescape(line), " |")
			for i := range parts[1:] {
				parts[i+1] = strings.TrimPrefix(parts[i+1], " ")
			}
			each(fmt.Sprintf("line %d: %s", n+1, line), o, parts)
		}
	}
}

func TestCases(t *testing.T) {
	lines(t, cases, func(at string, o pathpattern.Options, parts []string) {
		pattern, err := pathpattern.Parse(parts[0], o)
		if parts[1] == "!" {
			var syntax *pathpattern.SyntaxError
			require.ErrorAs(t, err, &syntax, at)
			assert.Equal(t, parts[2], fmt.Sprint(syntax.Column), at)
			assert.Contains(t, syntax.Message, parts[3], at)
			return
		}
		require.NoError(t, err, at)
		var path pathpattern.Path
		path.Set(parts[1])
		captures, ok := pattern.Match(&path)
		if want, no := strings.CutPrefix(parts[2], "no"); no {
			assert.False(t, ok, at)
			assert.Equal(t, strings.TrimPrefix(want, ": "), path.Conflict(), at)
			return
		}
		require.True(t, ok, at)
		var got []string
		for _, c := range captures {
			got = append(got, c.Name+"="+c.Value())
		}
		assert.Equal(t, parts[2], strings.Join(got, " "), at)
	})
}

// Each near miss is told as the smallest difference, and the pattern offered
// takes the path in.
func TestNearMisses(t *testing.T) {
	lines(t, nearCases, func(at string, o pathpattern.Options, parts []string) {
		pattern, err := pathpattern.Parse(parts[0], o)
		require.NoError(t, err, at)
		var path pathpattern.Path
		path.Set(parts[1])
		_, ok := pattern.Match(&path)
		require.False(t, ok, at)
		near, is := pathpattern.NewFinder(pattern).Find(parts[1])
		if parts[2] == "no" {
			assert.False(t, is, "%s: %+v", at, near)
			return
		}
		require.True(t, is, at)
		kind, says, _ := strings.Cut(parts[2], ": ")
		assert.Equal(t, kind, string(near.Kind), at)
		assert.Equal(t, says, near.Says, at)
		assert.Equal(t, parts[3], near.Pattern, at)
		if near.Pattern != "" {
			cure, err := pathpattern.Parse(near.Pattern, o)
			require.NoError(t, err, at)
			_, ok := cure.Match(&path)
			assert.True(t, ok, at)
		}
	})
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
			return
		}
		if near, is := pathpattern.NewFinder(pattern).Find(name); is && near.Pattern != "" {
			_, err := pathpattern.Parse(near.Pattern, pathpattern.Options{})
			assert.NoError(t, err, "the pattern offered for %q near %q", name, text)
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
