package selection_test

import (
	_ "embed"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/selection"
)

//go:embed testdata/scenarios.txt
var scenarios string

var asOf = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

var hold = regexp.MustCompile(`^hold (in|out) (.*) by (\w+)(?:: (.*?))?(?:; digest=(\w+))?$`)

func surroundings(t *testing.T, text string) selection.Surroundings {
	s := selection.Surroundings{AsOf: asOf, OwnPaths: map[string]bool{}, OwnContent: map[int64]map[string]string{}, Holds: map[string]selection.Hold{}, NearMisses: true}
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		word, rest, _ := strings.Cut(line, " ")
		switch {
		case word == "own" && strings.HasPrefix(rest, "content "):
			parts := strings.Fields(rest)
			size, err := strconv.ParseInt(parts[1], 10, 64)
			require.NoError(t, err)
			s.OwnContent[size] = map[string]string{parts[2]: parts[3]}
		case word == "own":
			s.OwnPaths[rest] = true
		case word == "hold":
			m := hold.FindStringSubmatch(line)
			s.Holds[m[2]] = selection.Hold{In: m[1] == "in", By: m[3], Note: m[4], Digest: m[5]}
		case word == "list":
			s.List = append(s.List, definition.Listed{Path: rest})
		case word == "only":
			if s.Only == nil {
				s.Only = map[string]bool{}
			}
			s.Only[rest] = true
		}
	}
	return s
}

func file(t *testing.T, text string) selection.File {
	path, facts, _ := strings.Cut(text, "; ")
	f := selection.File{Path: path, Size: 100, Modified: time.Date(2026, 10, 1, 12, 0, 0, 0, time.UTC).UnixNano()}
	for _, fact := range strings.Fields(facts) {
		name, value, _ := strings.Cut(fact, "=")
		switch name {
		case "size":
			f.Size, _ = strconv.ParseInt(value, 10, 64)
		case "digest":
			f.Digest = value
		case "modified":
			at, err := time.Parse(time.RFC3339, value)
			if err != nil {
				at, err = time.Parse(time.DateOnly, value)
			}
			require.NoError(t, err)
			f.Modified = at.UnixNano()
		case "unseen":
			f.Held = selection.NotSeen
		case "arriving", "in_doubt", "missing":
			f.Held = selection.Code(name)
		case "broken":
			f.Broken = true
		case "no-rows":
			f.NoRows = true
		default:
			t.Fatalf("unknown fact %q", fact)
		}
	}
	return f
}

// told is what a result says of the whole, in the words of the scenarios.
func told(r *selection.Result, files []selection.File) (lines []string) {
	for _, i := range r.NeedDigest {
		lines = append(lines, "digest "+files[i].Path)
	}
	for _, rule := range r.Rules {
		n := strconv.FormatInt(rule.Files, 10)
		if rule.Off {
			n = "off"
		}
		lines = append(lines, fmt.Sprintf("rule %s %s: %s", rule.Kind, n, rule.Text))
	}
	for _, c := range r.Cures {
		lines = append(lines, fmt.Sprintf("cure %s %d: %s", c.Kind, c.Files, c.Pattern))
	}
	for _, m := range r.Missing {
		lines = append(lines, "missing "+m.Path)
	}
	for _, path := range r.Lapsed {
		lines = append(lines, "lapsed "+path)
	}
	return lines
}

func TestScenarios(t *testing.T) {
	_, body, _ := strings.Cut(scenarios, "2026-11-20.\n")
	for _, scenario := range strings.Split(body, "====\n") {
		parts := strings.Split(scenario, "----\n")
		def, err := definition.Parse(parts[0], asOf)
		require.NoError(t, err, scenario)
		judge := selection.New(def, surroundings(t, parts[1]))
		var files []selection.File
		var wants []string
		for _, line := range strings.Split(strings.TrimSpace(parts[2]), "\n") {
			facts, want, _ := strings.Cut(line, " => ")
			files = append(files, file(t, facts))
			wants = append(wants, want)
		}
		r := judge.Judge(files)
		for i, want := range wants {
			d := r.Decisions[i]
			got := fmt.Sprintf("%s %s: %s", d.Verdict, d.Code, judge.Words(r, i))
			assert.Equal(t, want, strings.Replace(got, "picked pattern_matches:", "picked:", 1), "%s\n%s", parts[0], files[i].Path)
			steps := judge.Explain(r, i)
			assert.True(t, steps[len(steps)-1].Decides || d.Code == selection.NoPattern, "the last step decides: %+v", steps)
		}
		if len(parts) == 4 {
			want := strings.Split(strings.TrimRight(parts[3], "\n"), "\n")
			if order, is := strings.CutPrefix(want[0], "order "); is {
				var got []string
				for _, i := range r.Picked {
					got = append(got, files[i].Path)
				}
				assert.Equal(t, order, strings.Join(got, ", "))
				want = want[1:]
			}
			got := told(r, files)
			for _, line := range want {
				assert.Contains(t, got, line, parts[0])
			}
		}
	}
}

func TestExplainTellsTheWholeWay(t *testing.T) {
	def, err := definition.Parse(`
input: a
place: b
folder: cards
pick:
  - "<line>/card <from:d MMMM yyyy>.xlsx"
leave_out:
  - name contains "draft"
latest: {of: from, per: line}
`, asOf)
	require.NoError(t, err)
	judge := selection.New(def, selection.Surroundings{AsOf: asOf})
	r := judge.Judge([]selection.File{{Path: "cards/north/card 1 May 2026.xlsx"}, {Path: "cards/north/card 1 June 2026.xlsx"}})
	var says []string
	for _, s := range judge.Explain(r, 0) {
		says = append(says, fmt.Sprintf("%s %d: %s", s.Rule, s.Line, s.Says))
	}
	assert.Equal(t, []string{
		"folder 0: the file is below cards",
		"hold 0: no hold",
		"scratch files 0: no scratch file",
		"Jorvex's own 0: no delivery of Jorvex lies here",
		"<line>/card <from:d MMMM yyyy>.xlsx 6: matches; line is north, from is 2026-05-01",
		`leave out if name contains "draft" 8: does not apply`,
		"latest by from per line 9: not the latest: cards/north/card 1 June 2026.xlsx is newer",
	}, says)
}

// BenchmarkJudge judges a million paths by three patterns, five conditions and
// the latest of each group.
func BenchmarkJudge(b *testing.B) {
	def, err := definition.Parse(`
input: a
place: b
pick:
  - "<terminal>/<year:yyyy>/loadings <day:yyyy-MM-dd>.csv"
  - "<terminal>/<year:yyyy>/late/loadings <day:yyyy-MM-dd>.csv"
  - "<terminal>/loadings <day:yyyyMMdd>.{csv,txt}"
leave_out:
  - name contains "draft"
  - size above 1 GB
only_if:
  - size above 0
  - extension is one of ("csv", "txt")
  - day at least 2020-01-01
latest: {of: day, per: terminal}
`, asOf)
	require.NoError(b, err)
	const n = 1_000_000
	files := make([]selection.File, n)
	for i := range files {
		day := asOf.AddDate(0, 0, -i%1000)
		files[i] = selection.File{Path: fmt.Sprintf("Terminal %d/%d/loadings %s.csv", i/1000, day.Year(), day.Format(time.DateOnly)), Size: 1000}
		if i%2 == 1 {
			files[i].Path = fmt.Sprintf("Terminal %d/%d/photo %d.jpg", i/1000, day.Year(), i)
		}
	}
	var judged, bare time.Duration
	for b.Loop() {
		start := time.Now()
		selection.New(def, selection.Surroundings{AsOf: asOf, NearMisses: true}).Judge(files)
		judged = time.Since(start)
		// The bare minimum: the three patterns as regular expressions, on one
		// core, with nothing made of what they find.
		b.StopTimer()
		start = time.Now()
		for i := range files {
			for _, e := range expressions {
				if e.FindStringSubmatchIndex(files[i].Path) != nil {
					break
				}
			}
		}
		bare = time.Since(start)
		b.StartTimer()
	}
	b.ReportMetric(n/judged.Seconds(), "files/s")
	b.ReportMetric(judged.Seconds()/bare.Seconds(), "judge/regexp")
}

var expressions = []*regexp.Regexp{
	regexp.MustCompile(`(?i)^([^/]+)/(\d{4})/loadings (\d{4}-\d\d-\d\d)\.csv$`),
	regexp.MustCompile(`(?i)^([^/]+)/(\d{4})/late/loadings (\d{4}-\d\d-\d\d)\.csv$`),
	regexp.MustCompile(`(?i)^([^/]+)/loadings (\d{8})\.(?:csv|txt)$`),
}
