package reading_test

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
)

// Text in single-byte encodings is told by where its letters beyond ASCII stand.
func TestJudge(t *testing.T) {
	for name, c := range map[string]struct {
		text     string
		language string
		in       *charmap.Charmap
		want     string
	}{
		"Norwegian":            {"Kåre; Åse; Jørgen på brygga", "nb", charmap.Windows1252, "windows-1252"},
		"French":               {"quai n° 3; équipage; été", "fr", charmap.ISO8859_1, "windows-1252"},
		"Polish":               {"nabrzeże; łódź; część", "pl", charmap.Windows1250, "windows-1250"},
		"Polish, not declared": {"nabrzeże; łódź; część", "", charmap.Windows1250, "windows-1252"},
		"Russian":              {"порт; причал; судно", "", charmap.Windows1251, "windows-1251"},
		"Greek":                {"λιμένας; αποβάθρα; πλοίο", "", charmap.Windows1253, "windows-1253"},
		"one letter":           {"caf\u00e9", "", charmap.Windows1252, "windows-1252"},
	} {
		sample, err := c.in.NewEncoder().String(c.text)
		require.NoError(t, err, name)
		assert.Equal(t, c.want, reading.EncodingName(reading.Judge([]byte(sample), c.language)), name)
	}
}

func TestLike(t *testing.T) {
	for _, c := range []struct {
		pattern, name string
		like          bool
	}{
		{"Inspection", "inspection", true}, {"Q*", "q1 2026", true}, {"Q*", "iq", false}, {"*", "", true}, {"?", "ø", true}, {"?", "", false},
		{"week ??", "Week 41", true}, {"week ??", "Week 4", false}, {"*late*", "Feb (late)", true}, {"a*b*c", "axxbyyc", true}, {"a*b*c", "axxc", false}, {"", "", true}, {"", "x", false},
	} {
		assert.Equal(t, c.like, reading.Like(c.pattern, c.name), "%q %q", c.pattern, c.name)
	}
}

func TestParseArea(t *testing.T) {
	for text, want := range map[string]reading.Area{
		"B4:H200":     {Top: 4, Left: 2, Bottom: 200, Right: 8},
		"$B$4:$H$200": {Top: 4, Left: 2, Bottom: 200, Right: 8},
		"b4":          {Top: 4, Left: 2, Bottom: 4, Right: 2},
		"B:H":         {Left: 2, Right: 8},
		"4:200":       {Top: 4, Bottom: 200},
		"XFD1":        {Top: 1, Left: 16384, Bottom: 1, Right: 16384},
	} {
		got, ok := reading.ParseArea(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "Loadings", "H4:B2", "B4:H", "B0", "XFE1", "B4:H200:J9", "4:2", "B-4"} {
		_, ok := reading.ParseArea(text)
		assert.False(t, ok, text)
	}
}

// table is rows in memory.
type table struct {
	rows [][]string
	at   int
}

func (m *table) Row() int64 { return int64(m.at) }

func (m *table) Next() ([]reading.Cell, error) {
	if m.at == len(m.rows) {
		return nil, io.EOF
	}
	m.at++
	var cells []reading.Cell
	for _, text := range m.rows[m.at-1] {
		cells = append(cells, reading.Cell{Text: []byte(text)})
	}
	return cells, nil
}

func TestCropAndSwap(t *testing.T) {
	rows := func() *table { return &table{rows: [][]string{{"a", "b", "c"}, {"1", "2"}, {}, {"x", "y", "z", "w"}}} }
	for area, want := range map[string]string{
		"A1:B2": "1 a|b\n2 1|2",
		"B:C":   "1 b|c\n2 2\n3 \n4 y|z",
		"2:4":   "2 1|2\n3 \n4 x|y|z|w",
		"D1:D9": "1 \n2 \n3 \n4 w",
	} {
		parsed, ok := reading.ParseArea(area)
		require.True(t, ok)
		got, err := told(reading.Crop(rows(), parsed))
		require.NoError(t, err)
		assert.Equal(t, want, got, area)
	}
	swapped, err := reading.Swap(rows())
	require.NoError(t, err)
	got, err := told(swapped)
	require.NoError(t, err)
	assert.Equal(t, "1 a|1||x\n2 b|2||y\n3 c|||z\n4 |||w", got)

	wide := &table{rows: make([][]string, 16_385)}
	for i := range wide.rows {
		wide.rows[i] = []string{"x"}
	}
	_, err = reading.Swap(wide)
	var found finding.Finding
	require.ErrorAs(t, err, &found)
	assert.Equal(t, finding.BeyondLimit, found.Code)
}

// Kinds that are told without a declaration or a mark.
func TestKindsWithoutMarks(t *testing.T) {
	for text, want := range map[string]reading.Kind{
		"<log><r/></log>":                            reading.XML,
		"<log>\n  <r a='1'>x</r>\n</log>":            reading.XML,
		"<s:log xmlns:s=\"u\"><s:r/></s:log>":        reading.XML,
		"<table border=1><tr><td>1</td>":             reading.WebPage,
		"<div>no table</div>":                        reading.WebPage,
		"<5;>6\n1;2\n":                               reading.Text,
		"<name>,<berth>\nPetrel,A\n":                 reading.Text,
		"[{\"a\": 1}]":                               reading.JSON,
		"[1, 2]":                                     reading.Text,
		"a\x00,\x00b\x00\n\x001\x00,\x002\x00\n\x00": reading.Wide,
		"\x00a\x00,\x00b\x00\n\x001\x00,\x002\x00\n": reading.Wide,
	} {
		f, err := reading.Open(strings.NewReader(text), spool)
		require.NoError(t, err)
		assert.Equal(t, want, f.Kind, "%q", text)
	}
}
