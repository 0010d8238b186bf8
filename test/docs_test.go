package test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/pathpattern"
	"jorvex/internal/core/selection"
)

// examples calls each with the cells of every row of a page's tables that have
// a header, without the marks of code.
func examples(t *testing.T, page, header string, each func(cells []string)) {
	t.Helper()
	text, err := os.ReadFile("../docs/" + page)
	require.NoError(t, err)
	inside, rows := false, 0
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		switch {
		case line == header:
			inside = true
		case !strings.HasPrefix(line, "|"):
			inside = false
		case inside && !strings.HasPrefix(line, "|---"):
			cells := strings.Split(strings.Trim(line, "|"), " | ")
			for i := range cells {
				cells[i] = strings.Trim(strings.TrimSpace(cells[i]), "`|")
				cells[i] = strings.Trim(strings.TrimSpace(cells[i]), "`")
			}
			each(cells)
			rows++
		}
	}
	require.Greater(t, rows, 5, "%s has no table %q", page, header)
}

func TestPatternsAsDocumented(t *testing.T) {
	examples(t, "patterns.md", "| pattern | path | gives |", func(cells []string) {
		pattern, err := pathpattern.Parse(cells[0], pathpattern.Options{})
		require.NoError(t, err, cells)
		var path pathpattern.Path
		path.Set(cells[1])
		captures, ok := pattern.Match(&path)
		var said []string
		for _, c := range captures {
			said = append(said, c.Name+" is "+c.Value())
		}
		gives := strings.Join(said, ", ")
		switch {
		case !ok && path.Conflict() != "":
			gives = "does not match: " + path.Conflict()
		case !ok:
			gives = "does not match"
		case len(said) == 0:
			gives = "matches"
		}
		assert.Equal(t, cells[2], gives, cells)
	})
	examples(t, "patterns.md", "| pattern | path | nearly | add the pattern |", func(cells []string) {
		pattern, err := pathpattern.Parse(cells[0], pathpattern.Options{})
		require.NoError(t, err, cells)
		near, is := pathpattern.NewFinder(pattern).Find(cells[1])
		assert.True(t, is, cells)
		assert.Equal(t, cells[2:], []string{string(near.Kind), near.Pattern}[:len(cells)-2], cells)
	})
}

func TestConditionsAsDocumented(t *testing.T) {
	asOf := time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC)
	file := selection.File{Path: "Eskvik/Loadings 2026-10-05.csv", Size: 12_300, Modified: time.Date(2026, 10, 6, 12, 0, 0, 0, time.UTC).UnixNano()}
	examples(t, "conditions.md", "| condition | holds |", func(cells []string) {
		text := fmt.Sprintf("input: a\nplace: b\npick: [\"<terminal>/loadings <day:yyyy-MM-dd>.csv\"]\nonly_if:\n  - '%s'\n", strings.ReplaceAll(cells[0], "'", "''"))
		def, err := definition.Parse(text, asOf)
		require.NoError(t, err, cells)
		r := selection.New(def, selection.Surroundings{AsOf: asOf}).Judge([]selection.File{file})
		assert.Equal(t, cells[1], map[bool]string{true: "yes", false: "no"}[len(r.Picked) == 1], cells)
	})
}

// Every definition in the documentation is valid.
func TestDefinitionsAsDocumented(t *testing.T) {
	for _, page := range []string{"definition.md", "patterns.md"} {
		text, err := os.ReadFile("../docs/" + page)
		require.NoError(t, err)
		blocks := strings.Split(string(text), "```yaml\n")[1:]
		require.NotEmpty(t, blocks)
		for _, block := range blocks {
			yaml, _, _ := strings.Cut(block, "```")
			if strings.HasPrefix(yaml, "report:") {
				_, err := definition.ParseReport(yaml)
				assert.NoError(t, err, "%s:\n%s", page, yaml)
				continue
			}
			if !strings.Contains(yaml, "input:") {
				yaml = "input: a\nplace: b\n" + yaml
			}
			if !strings.Contains(yaml, "pick:") && !strings.Contains(yaml, "files:") && !strings.Contains(yaml, "list:") {
				yaml += "pick: [\"<terminal>/loadings <day:yyyy-MM-dd>.csv\"]\n"
			}
			_, err := definition.Parse(yaml, time.Now())
			assert.NoError(t, err, "%s:\n%s", page, yaml)
		}
	}
}
