package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/client"
	"jorvex/internal/testkit"
)

// docs/commands.md says what -h says.
func TestCommandsAreDocumented(t *testing.T) {
	page, err := os.ReadFile("../docs/commands.md")
	require.NoError(t, err)
	text := strings.ReplaceAll(string(page), "\n    ", "\n")
	s := testkit.Start(t, testkit.Options{})
	for _, command := range client.Commands() {
		help := strings.ReplaceAll(s.Must(command.Name, "-h"), s.Data, "DATA")
		assert.Contains(t, text, "## "+command.Name+"\n")
		for line := range strings.Lines(help) {
			assert.Contains(t, text, strings.TrimSpace(line), command.Name)
		}
	}
	overview := s.Must("-h")
	for _, command := range client.Commands() {
		assert.Contains(t, overview, command.Purpose)
	}
}

// The whole way to a verdict is told for any file, there or not.
func TestWhy(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Write("loadings/Eskvik/loadings 2026-10-06.csv", "")
	s.Write("loadings/Eskvik/.hidden", "x")
	s.Write("elsewhere/x.csv", "x")
	s.Definition(loadings + "gate: {broken: leave_out}\n")
	s.Must("refresh", "loadings")
	require.NoError(t, os.Remove(filepath.Join(s.Share, "loadings/Eskvik/loadings 2026-10-05.csv")))
	s.Must("look")
	for path, says := range map[string][]string{
		"loadings/Eskvik/loadings 2026-10-05.csv": {"left out: it fed the last delivery and is gone", "state: removed", "=>  the last look"},
		"Eskvik/loadings 2026-10-06.csv":          {"picked: matches", "state: broken", "broken: the file is empty; ask the sender"},
		"loadings/Eskvik/.hidden":                 {"left out: hidden file (.*)", "=>  scratch files"},
		"Eskvik/loadings 2026-10-07.csv":          {"The file is not there; this is what would become of it.", "terminal is Eskvik, day is 2026-10-07"},
		"Eskvik/loadings 2026-02-30.csv":          {"left out: no pattern matches"},
		"elsewhere/x.csv":                         {"left out: not below loadings", "=>  folder"},
	} {
		out := s.Must("why", "loadings", path)
		for _, want := range says {
			assert.Contains(t, out, want, path)
		}
	}
	r := s.Run("why", "loadings", `bad\escape`)
	assert.Equal(t, client.Failed, r.Code)
	assert.Contains(t, r.Err, `a backslash is written \\`)
	assert.Equal(t, client.NotFound, s.Run("why", "nothing", "x").Code)
}

// A definition is shown as it was saved, and saved again without a change to
// what it picks; every version is kept.
func TestDefinitionGoesRoundAndKeepsItsVersions(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Write("loadings/Eskvik/late 2026-10-06.csv", table(header, "SK2,10,1"))
	s.Definition("# kept as it is written\n" + loadings)
	shown := s.Must("input", "show", "loadings")
	assert.Equal(t, "# loadings, version 1\n# kept as it is written\n"+loadings, shown)
	file := filepath.Join(t.TempDir(), "definition.yaml")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(shown, "loadings <day", "* <day", 1)), 0o644))
	assert.Contains(t, s.Must("check-definition", file), "is valid: input loadings, 1 pattern, 6 columns, 2 deliveries")
	assert.Contains(t, s.Must("input", "save", file), "loadings saved as version 2: 2 of 2 files picked, 0 left out")
	assert.Equal(t, "2", s.Query("SELECT count(*)::text FROM jorvex.definitions"))
	assert.Contains(t, s.Must("refresh", "loadings"), "2 rows from 2 files")
	assert.Contains(t, s.Must("receipt", "1"), "definition version 2")
	assert.Contains(t, s.Run("input", "add", file).Err, `there is an input "loadings" already`)
	assert.Equal(t, client.WrongUse, s.Run("input", "drop", "loadings").Code)
}
