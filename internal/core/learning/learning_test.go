package learning_test

import (
	"bytes"
	_ "embed"
	"io"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/learning"
	"jorvex/internal/core/reading"
)

type kept struct{ *bytes.Reader }

func (kept) Close() error { return nil }

func spool(r io.Reader) (reading.Content, error) {
	b, err := io.ReadAll(r)
	return kept{bytes.NewReader(b)}, err
}

var escaped = regexp.MustCompile(`(\\x[0-9a-f]{2}|\\t)+`)

//go:embed testdata/cases.txt
var cases string

// Each case is a file, what is proposed for it, and on lines with a ? what is
// unsure.
func TestPropose(t *testing.T) {
	for _, scenario := range strings.Split(cases, "== ")[1:] {
		title, body, _ := strings.Cut(scenario, "\n")
		t.Run(title, func(t *testing.T) {
			file, want, _ := strings.Cut(body, "----\n")
			file = escaped.ReplaceAllStringFunc(strings.TrimSuffix(file, "\n"), func(e string) string {
				text, err := strconv.Unquote(`"` + e + `"`)
				require.NoError(t, err)
				return text
			})
			language := calendar.Language{}
			if rest, is := strings.CutPrefix(file, "language de\n"); is {
				language, _ = calendar.ParseLanguage("de")
				file = rest
			}
			p, err := learning.Propose([]condition.Field{{Name: "terminal"}}, language, func() (*reading.File, error) {
				return reading.Open(strings.NewReader(file), spool)
			})
			got := ""
			if err != nil {
				got = "! " + err.Error()
			} else {
				text, err := p.Apply("input: a\n")
				require.NoError(t, err)
				got = strings.TrimPrefix(text, "input: a\n")
				for _, u := range p.Unsure {
					got += "? " + u + "\n"
				}
			}
			assert.Equal(t, strings.TrimSpace(want), strings.TrimSpace(got))
		})
	}
}

func TestWeigh(t *testing.T) {
	p := &learning.Proposal{Columns: []learning.Column{{Name: "t", Header: "t", Type: definition.Whole}, {Name: "day", Header: "day", Type: definition.Date}}}
	not := func(code finding.Code, column string) finding.Finding {
		f := finding.New(code, "so it is")
		f.Column = column
		return f
	}
	p.Weigh(map[string][]finding.Finding{"b": {not(finding.NotWhole, "t"), not(finding.NotDate, "day")}, "a": {not(finding.NotDate, "day"), not(finding.ColumnBlank, "t")}})
	text, err := p.Apply("input: a\n")
	require.NoError(t, err)
	assert.Equal(t, "input: a\ncolumns:\n  - {name: t, type: decimal}\n  - {name: day, type: date}\n", text)
	assert.Equal(t, []string{"day: in 2 other files not all values are of the type date; in a: values that are no dates come back blank: so it is"}, p.Unsure)
}

func TestSettle(t *testing.T) {
	p := &learning.Proposal{Columns: []learning.Column{{Name: "day", Header: "Day", Required: true}, {Name: "passengers", Header: "Passengers", Required: true}, {Name: "crew", Header: "Crew", Required: true}}}
	p.Settle([][]string{{"day", "Passengers", "Crew"}, {"Day", "Pasengers"}})
	text, err := p.Apply("input: a\ncolumns: []\n")
	require.NoError(t, err)
	assert.Equal(t, `input: a
columns:
  - {name: day, required: true}
  - {name: passengers, headers: ["Passengers", "Pasengers"], required: true}
  - {name: crew}
`, text)
	assert.Len(t, p.Unsure, 2)
}

// FuzzPropose: whatever is proposed for a file is a definition that can be saved,
// and reads the file.
func FuzzPropose(f *testing.F) {
	for _, scenario := range strings.Split(cases, "== ")[1:] {
		_, body, _ := strings.Cut(scenario, "\n")
		file, _, _ := strings.Cut(body, "----\n")
		f.Add([]byte(file))
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		p, err := learning.Propose(nil, calendar.Language{}, func() (*reading.File, error) { return reading.Open(bytes.NewReader(content), spool) })
		if err != nil {
			var found finding.Finding
			require.ErrorAs(t, err, &found)
			return
		}
		text, err := p.Apply("input: a\nplace: b\npick: ['*']\n")
		require.NoError(t, err)
		_, err = definition.Parse(text, time.Now())
		require.NoError(t, err, text)
	})
}
