package reading_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
)

func objects(t testing.TB, text string) (string, error) {
	t.Helper()
	f, err := reading.Open(bytes.NewReader([]byte(text)), spool)
	require.NoError(t, err)
	rows, err := f.Records("")
	if err != nil {
		return "", err
	}
	return told(rows)
}

func TestObjects(t *testing.T) {
	for text, want := range map[string]string{
		`[{"a": 1, "b": "x"}, {"b": "y", "c": true}]`:  "1 a|b|c\n2 1|x|\n3 |y|true",
		"{\"a\": 1}\n{\"a\": 2.50}\n\n{\"a\": null}\n": "1 a\n2 1\n3 2.50\n4 ",
		"\xef\xbb\xbf[{\"a\": 1e3}]":                   "1 a\n2 1000",
		`[]`:                                           "1 ",
		`{"berth": {"no": 3, "at": {"quay": "east"}}, "x": "ü"}`: "1 berth.no|berth.at.quay|x\n2 3|east|ü",
		`{"tags": ["a", 2, [true, null]], "n": -0.5}`:            `1 tags|n` + "\n" + `2 ["a",2,[true,null]]|-0.5`,
		`{"a": "line\nend", "a": "twice"}`:                       "1 a\n2 line\nend; twice",
		`{"big": 123456789012345678, "tiny": 1e-7}`:              "1 big|tiny\n2 123456789012345678|0.0000001",
	} {
		got, err := objects(t, text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, want := range map[string]struct {
		code finding.Code
		says string
	}{
		`[{"a": 1}, {"a": `: {finding.CutShort, "not closed"},
		`{"a": 1} {"a"`:     {finding.CutShort, "not closed"},
		`[{"a": 1}`:         {finding.CutShort, "its array is not closed"},
		`[{"a": 1}] x`:      {finding.NotATable, "more behind the end"},
		`[{"a": 1}, 7]`:     {finding.NotATable, "it holds 7 where an object"},
		`{"a": nothing}`:    {finding.Damaged, "at offset 5"},
		`{"a": 1 "b": 2}`:   {finding.Damaged, "its JSON"},
	} {
		_, err := objects(t, text)
		var f finding.Finding
		require.ErrorAs(t, err, &f, text)
		assert.Equal(t, want.code, f.Code, text)
		assert.Contains(t, f.Sentence, want.says, text)
	}
}

func FuzzObjects(f *testing.F) {
	f.Add(`[{"a": 1, "b": {"c": [1, {"d": null}]}}]`)
	f.Add("{\"a\": 1}\n{\"a\": 2}")
	f.Fuzz(func(t *testing.T, text string) {
		_, err := objects(t, text)
		if err != nil {
			var found finding.Finding
			assert.ErrorAs(t, err, &found, "every fault is told as a finding")
		}
	})
}
