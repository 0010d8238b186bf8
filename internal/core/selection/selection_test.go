package selection_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/selection"
)

const loadings = `
input: daily-loadings
place: share
folder: loadings
pick:
  - "<terminal>/<year:yyyy>/loadings <day:yyyy-MM-dd>.csv"
  - "<terminal>/<year:yyyy>/late/<year:yyyy>-<n:number>.csv"
`

func TestDecide(t *testing.T) {
	def, err := definition.Parse(loadings)
	require.NoError(t, err)
	judge := selection.New(def, selection.Surroundings{OwnPaths: []string{"loadings/Eskvik/2026/loadings 2026-10-09.csv"}})
	for _, c := range []struct {
		path    string
		verdict selection.Verdict
		code    selection.Code
		says    string
	}{
		{"loadings/Eskvik/2026/loadings 2026-10-05.csv", selection.Picked, selection.PatternMatches, "matches <terminal>/<year:yyyy>/loadings <day:yyyy-MM-dd>.csv"},
		{"loadings/ESKVIK/2026/LOADINGS 2026-10-05.CSV", selection.Picked, selection.PatternMatches, ""},
		{"loadings/Eskvik/2026/loadings 2026-10-05 (1).csv", selection.LeftOut, selection.NoPattern, "no pattern matches"},
		{"loadings/Eskvik/2026/late/2025-7.csv", selection.LeftOut, selection.NoPattern, "no pattern matches: year is 2026 first and 2025 later in the path"},
		{"loadings/Eskvik/2026/~$loadings 2026-10-05.csv", selection.LeftOut, selection.ScratchFile, "lock file of an office program (~$*)"},
		{"loadings/Eskvik/2026/.~lock.loadings 2026-10-05.csv#", selection.LeftOut, selection.ScratchFile, "lock file of an office program (.~lock.*#)"},
		{"loadings/Eskvik/2026/loadings 2026-10-05.csv.crdownload", selection.LeftOut, selection.ScratchFile, "download that is not complete (*.crdownload)"},
		{"loadings/Eskvik/2026/Thumbs.db", selection.LeftOut, selection.ScratchFile, "thumbnails made by the system (thumbs.db)"},
		{"loadings/Eskvik/2026/my thumbs.db", selection.LeftOut, selection.NoPattern, ""},
		{"loadings/.hidden/2026/loadings 2026-10-05.csv", selection.LeftOut, selection.ScratchFile, "inside a hidden folder (.*/)"},
		{"loadings/Eskvik/2026/loadings 2026-10-09.csv", selection.LeftOut, selection.OwnDelivery, "written by Jorvex as a delivery; counting it would count its rows twice"},
		{"loadings-old/Eskvik/2026/loadings 2026-10-05.csv", selection.LeftOut, selection.OutsideFolder, "not below loadings"},
	} {
		d := judge.Decide(c.path)
		assert.Equal(t, c.verdict, d.Verdict, c.path)
		assert.Equal(t, c.code, d.Code, c.path)
		if c.says != "" {
			assert.Equal(t, c.says, d.Sentence, c.path)
		}
	}
}

func TestExplainTellsTheWholeWay(t *testing.T) {
	def, err := definition.Parse(loadings)
	require.NoError(t, err)
	judge := selection.New(def, selection.Surroundings{})
	decision, steps := judge.Explain("loadings/Eskvik/2026/late/2026-7.csv")
	assert.Equal(t, selection.Picked, decision.Verdict)
	var says []string
	for _, s := range steps {
		says = append(says, s.Rule+": "+s.Says)
	}
	assert.Equal(t, []string{
		"folder: the file is below loadings",
		"scratch files: no scratch file",
		"Jorvex's own: no delivery of Jorvex lies here",
		"<terminal>/<year:yyyy>/loadings <day:yyyy-MM-dd>.csv: does not match",
		"<terminal>/<year:yyyy>/late/<year:yyyy>-<n:number>.csv: matches; terminal is Eskvik, year is 2026, n is 7",
	}, says)
	assert.Equal(t, 7, steps[4].Line)
	assert.True(t, steps[4].Decides)
}

func TestScratchFilesCanBeKept(t *testing.T) {
	def, err := definition.Parse("input: a\nplace: b\nscratch: keep\npick: [\"**/*.tmp\"]\n")
	require.NoError(t, err)
	assert.Equal(t, selection.Picked, selection.New(def, selection.Surroundings{}).Decide("x/.a.tmp").Verdict)
}
