package definition_test

import (
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/nearest"
)

var now = time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC)

//go:embed testdata/good.yaml
var good string

//go:embed testdata/problems.txt
var problems string

func TestParse(t *testing.T) {
	def, err := definition.Parse(good, now)
	require.NoError(t, err)
	assert.Equal(t, "daily-loadings", def.Input)
	assert.Equal(t, "loadings", def.Folder)
	assert.Equal(t, byte(','), def.Layout.Delimiter)
	assert.Equal(t, definition.LeaveOut, def.Gate.Answers[definition.BrokenFile])
	assert.Equal(t, 7, def.Pick[0].Line)
	var columns []string
	for _, c := range def.Columns {
		columns = append(columns, c.Name+" "+string(c.Type))
	}
	assert.Equal(t, []string{"terminal text", "day date", "year text", "source_file text", "sailing text", "passengers whole", "freight_t decimal"}, columns)
	assert.Equal(t, []string{"passengers"}, def.Columns[5].Headers)
	require.Len(t, def.Delivery, 2)
	assert.Equal(t, "file weekly/daily-loadings.csv delimited", def.Delivery[0].Kind()+" "+def.Delivery[0].Name()+" "+string(def.Delivery[0].Format))
	assert.True(t, def.Delivery[0].Plain())
	assert.Equal(t, "table daily_loadings", def.Delivery[1].Kind()+" "+def.Delivery[1].Name())
}

//go:embed testdata/full.yaml
var full string

func TestParameters(t *testing.T) {
	def, err := definition.Parse(full, now)
	require.NoError(t, err)
	assert.Equal(t, "north/quay/tallies", def.Folder)
	assert.Equal(t, definition.Values{"branch": "north/quay", "period": "2026-10", "least": "100"}, def.Values)
	assert.True(t, def.Pick[1].Off)
	assert.Equal(t, "day is $period", def.OnlyIf[0].Condition.String())
	from, to := def.Window.Span.Range(0)
	assert.Equal(t, "2026-10-01 2026-10-31", from.String()+" "+to.String())
	assert.Equal(t, []string{"terminal", "year", "day"}, []string{def.Captures[0].Name, def.Captures[1].Name, def.Captures[2].Name})
	assert.Equal(t, "tallies oktober 2026.csv", def.Delivery[0].File)
	assert.Equal(t, "tallies_oktober_2026", def.Delivery[1].Table)
	assert.Equal(t, definition.Date, def.Columns[0].Type)

	plan := def.Plan()
	assert.Equal(t, []string{"tons"}, plan.Watched)
	assert.Equal(t, "sum tons", plan.Summaries[0].Measures[1].String())
	gate := def.Gate
	assert.Equal(t, 0.025, gate.Above)
	assert.Equal(t, definition.LastGood, gate.Answer(definition.MissingColumn, nil), "as for broken files")
	assert.Equal(t, definition.GoOn, gate.Answer(definition.MissingSlot, nil))
	assert.Equal(t, definition.Stop, gate.Answer(definition.InDoubt, []string{"in_doubt"}), "nobody was asked")
	gate.Answers[definition.InDoubt] = definition.Wait
	assert.Equal(t, definition.Wait, gate.Answer(definition.InDoubt, []string{"broken"}))
	assert.Equal(t, definition.LeaveOut, gate.Answer(definition.InDoubt, []string{"in_doubt"}))

	def, err = definition.ParseWith(full, now, definition.Values{"period": "2026-09", "branch": "south"})
	require.NoError(t, err)
	assert.Equal(t, "south/tallies", def.Folder)
	assert.Equal(t, "tallies september 2026.csv", def.Delivery[0].File)

	for name, want := range map[string]string{"perid": `no parameter "perid"; did you mean "period"?`, "period": `"SOON" is no date`} {
		_, err = definition.ParseWith(full, now, definition.Values{name: "soon"})
		assert.ErrorContains(t, err, want)
	}
}

func TestEdit(t *testing.T) {
	moved, err := definition.Set(good, "folder", "loadings, new/2026")
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(good, "folder: /loadings/", "folder: loadings, new/2026", 1), moved)
	moved, err = definition.Set("input: a\nplace: 'b' # here\npick: ['*']", "place", "c: d")
	require.NoError(t, err)
	assert.Equal(t, "input: a\nplace: 'c: d' # here\npick: ['*']", moved)
	moved, err = definition.Set("input: a\nplace: '''it''s' # here", "place", "c")
	require.NoError(t, err)
	assert.Equal(t, "input: a\nplace: c # here", moved)
	_, err = definition.Set("{input: a, place: b}", "folder", "x")
	assert.ErrorContains(t, err, "written in braces")
	moved, err = definition.Set("input: a\nplace: b", "folder", "x")
	require.NoError(t, err)
	assert.Equal(t, "input: a\nplace: b\nfolder: x\n", moved)

	copied, err := definition.Copy(full, "tally-south")
	require.NoError(t, err)
	for _, want := range []string{"input: tally-south\n", "file: tallies $period tally-south.csv", "table: tallies_$period_tally_south", "title: Tally sheets"} {
		assert.Contains(t, copied, want)
	}
	copied, err = definition.Copy(good, "night-loadings")
	require.NoError(t, err)
	assert.Contains(t, copied, "file: weekly/night-loadings.csv\n  - table: night_loadings\n")
}

func TestCompare(t *testing.T) {
	var got strings.Builder
	for _, d := range definition.Compare("a\nb\nc\nd\n", "a\nB\nc\nd\ne\n") {
		got.WriteString(d.Sign + d.Text + ";")
	}
	assert.Equal(t, " a;-b;+B; c; d;+e;", got.String())
}

func TestProblems(t *testing.T) {
	_, body, _ := strings.Cut(problems, "\n")
	for _, scenario := range strings.Split(body, "====\n") {
		text, wants, _ := strings.Cut(scenario, "----\n")
		_, err := definition.Parse(text, now)
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
		def, err := definition.Parse(strings.Replace(good, old, new, 1), now)
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

// The schema and the parser must know the same keys, at every level.
func TestSchemaKnowsTheKeys(t *testing.T) {
	var schema map[string]any
	require.NoError(t, json.Unmarshal(definition.Schema, &schema))
	var levels [][]string
	var walk func(any)
	walk = func(n any) {
		switch n := n.(type) {
		case map[string]any:
			if properties, is := n["properties"].(map[string]any); is {
				levels = append(levels, slices.Sorted(maps.Keys(properties)))
			}
			for _, inner := range n {
				walk(inner)
			}
		case []any:
			for _, inner := range n {
				walk(inner)
			}
		}
	}
	walk(schema)
	var want [][]string
	for _, keys := range definition.Keys() {
		want = append(want, slices.Sorted(slices.Values(keys)))
	}
	assert.ElementsMatch(t, want, levels)
}

func TestNearest(t *testing.T) {
	known := []string{"terminal", "day", "place"}
	for word, want := range map[string]string{"termnal": "terminal", "Terminal": "terminal", "tremnial": "terminal", "dya": "day", "x": "", "plaice": "place", "nothing": ""} {
		assert.Equal(t, want, nearest.Find(word, known), word)
	}
}

func TestPlain(t *testing.T) {
	for header, want := range map[string]string{"  Sailing   No ": "sailing no", "\ufeffDépart": "depart", "Ⅳ": "iv", "": ""} {
		assert.Equal(t, want, definition.Plain(header))
	}
}

// Whatever the text, reading it ends with a definition or with problems that
// point into it, and an edit reads back as what was put in.
func FuzzEdit(f *testing.F) {
	f.Add(good, "loadings/2026")
	f.Add(full, "a: b # c")
	for _, scenario := range strings.Split(problems, "====\n") {
		text, _, _ := strings.Cut(scenario, "----\n")
		f.Add(text, "'quoted'")
	}
	f.Add("input: a\nplace: >-\n  folded\n  text\npick: ['*']\n", `"`)
	f.Add("{input: a, place: b, pick: ['*']}", "-")
	f.Add("input: a\r\nplace: b\r\npick: ['*']\r\n", "ü\tx")
	f.Fuzz(func(t *testing.T, text, value string) {
		lines := 1
		for _, r := range text {
			if strings.ContainsRune("\n\r\u0085\u2028\u2029", r) { // line breaks of YAML 1.1 and 1.2
				lines++
			}
		}
		def, err := definition.Parse(text, now)
		var invalid *definition.Invalid
		if err != nil {
			require.ErrorAs(t, err, &invalid)
			require.NotEmpty(t, invalid.Problems)
			for _, p := range invalid.Problems {
				require.NotEmpty(t, p.Message)
				require.LessOrEqual(t, p.Line, lines+1)
			}
			return
		}
		require.NotEmpty(t, def.Input)
		// What is no line of plain characters is refused before it comes here.
		if !utf8.ValidString(value) || strings.ContainsFunc(value, func(r rune) bool { return !unicode.IsPrint(r) }) {
			return
		}
		edited, err := definition.Set(text, "folder", value)
		if err != nil {
			return // said no, and changed nothing
		}
		again, err := definition.Parse(edited, now)
		clean, refused := definition.CleanPath(value)
		if refused != nil || strings.Contains(value, "$") || errors.As(err, &invalid) {
			return
		}
		require.Equal(t, clean, again.Folder, edited)
		require.Equal(t, def.Input, again.Input)
	})
}
