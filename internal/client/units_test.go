package client

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
)

func TestParseMoment(t *testing.T) {
	for text, want := range map[string]string{
		"2026-11-20":           "2026-11-20 23:59:59",
		"2026-11-20 09:30":     "2026-11-20 09:30:00",
		"2026-11-20T09:30":     "2026-11-20 09:30:00",
		"2026-11-20T09:30:05Z": time.Date(2026, 11, 20, 9, 30, 5, 0, time.UTC).Local().Format("2006-01-02 15:04:05"),
	} {
		got, err := parseMoment(text, true)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.Local().Format("2006-01-02 15:04:05"), text)
	}
	start, err := parseMoment("2026-11-20", false)
	require.NoError(t, err)
	assert.Equal(t, 0, start.Hour())
	for _, text := range []string{"", "tomorrow", "20.11.2026", "2026-02-30"} {
		_, err := parseMoment(text, true)
		assert.ErrorContains(t, err, "write 2026-11-20", text)
	}
}

func TestParametersAreFlags(t *testing.T) {
	p := parameters{}
	require.NoError(t, p.Set("period=2026-10"))
	require.NoError(t, p.Set("note=a=b"))
	require.NoError(t, p.Set("blank="))
	assert.Equal(t, parameters{"period": "2026-10", "note": "a=b", "blank": ""}, p)
	for _, text := range []string{"period", "=x", ""} {
		assert.Error(t, p.Set(text), text)
	}
}

func TestMadeFrom(t *testing.T) {
	for text, want := range map[string]string{
		"# daily-loadings, version 12\ninput: a":  "12",
		"# daily-loadings, version 1\r\ninput: a": "1",
		"# a comment\ninput: a":                   "",
		"input: a\n# daily-loadings, version 2\n": "",
	} {
		got := ""
		if m := madeFrom.FindStringSubmatch(text); m != nil {
			got = m[2]
		}
		assert.Equal(t, want, got, text)
	}
}

// The grid is drawn in blocks that fit a terminal, with a gap at each month.
func TestDrawCoverage(t *testing.T) {
	g := &api.Coverage{From: "2026-09-28", To: "2026-12-31", Counts: map[string]int64{"filled": 69, "missing": 1}}
	day := time.Date(2026, 9, 28, 0, 0, 0, 0, time.UTC)
	row := api.CoverageRow{Member: "Eskvik"}
	for len(g.Columns) < 95 {
		g.Columns = append(g.Columns, day.AddDate(0, 0, len(g.Columns)).Format(time.DateOnly))
		row.States = append(row.States, api.SlotStateFilled)
	}
	row.States[3] = api.SlotStateMissing
	row.Slots = []api.Slot{{Column: 3, State: api.SlotStateMissing, Due: day}}
	g.Rows = []api.CoverageRow{row}
	var out bytes.Buffer
	(&Call{Env: Env{Stdout: &out}}).drawCoverage(g)
	text := out.String()
	assert.Contains(t, text, "2026-09-28 to 2026-12-31:  # filled 69  M missing 1\n")
	assert.Contains(t, text, "Eskvik  ### M"+strings.Repeat("#", 30)+" "+strings.Repeat("#", 30)+" ")
	assert.Equal(t, 2, strings.Count(text, "\nEskvik  "), "in two blocks")
	for line := range strings.Lines(text) {
		assert.LessOrEqual(t, len(line), 105, line)
	}
	assert.Regexp(t, `Eskvik 2026-10-01 +missing`, text)
}

func TestListedWords(t *testing.T) {
	for want, l := range map[string]api.Listed{
		"":                                {},
		`; sheet "North"`:                 {Sheet: "North"},
		`; sheet "N" to "All" from row 7`: {Sheet: "N", ToSheet: "All", ToRow: 7},
		` to "quays All"`:                 {ToTable: "quays", ToSheet: "All"},
	} {
		assert.Equal(t, want, listedWords(l))
	}
}

func TestNothingRunsHere(t *testing.T) {
	dir := t.TempDir()
	run := func(args ...string) (string, int) {
		var out, errs bytes.Buffer
		code := Main(t.Context(), Env{Stdout: &out, Stderr: &errs, Getenv: func(name string) string {
			return map[string]string{"JORVEX_DATA": dir}[name]
		}}, args)
		return errs.String(), code
	}
	for _, command := range []string{"coverage x", "hold list x", "hold in x y", "try x go.mod", "excuse x y", "confirm x", "watch", "input versions x", "input diff x", "changes x -log", "files -try nothing.yaml"} {
		said, code := run(strings.Fields(command)...)
		if strings.Contains(command, "nothing.yaml") {
			assert.Contains(t, said, "the definition cannot be read", command)
			assert.Equal(t, Failed, code)
			continue
		}
		assert.Contains(t, said, "no service runs here", command)
		assert.Equal(t, CannotReach, code, command)
	}
	for command, says := range map[string]string{
		"hold in x": "write: jorvex hold list INPUT", "input move": "write: jorvex input list", "excuse x": "wrong number of arguments", "hold keep x y": "write: jorvex hold",
		"refresh x -set y": "write it as name=value", "coverage x -from yesterday": `"yesterday" is no day`, "hold out x y -until soon": "no service runs here",
	} {
		said, _ := run(strings.Fields(command)...)
		assert.Contains(t, said, says, command)
	}
	// A service that went away, with its address left behind.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "address"), []byte("http://127.0.0.1:1\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "token"), []byte("t\n"), 0o600))
	said, code := run("coverage", "x")
	assert.Contains(t, said, "the service cannot be reached")
	assert.Equal(t, CannotReach, code)
}
