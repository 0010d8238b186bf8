package demo_test

import (
	"bytes"
	"encoding/csv"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/learning"
	"jorvex/internal/core/pathpattern"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/shaping"
	"jorvex/internal/demo"
)

type content struct{ *bytes.Reader }

func (content) Close() error { return nil }

// shape returns the columns of cells that a definition makes of a file, by the
// headers they are found by.
func shape(t *testing.T, def *definition.Definition, file []byte) (map[string][]string, []finding.Finding) {
	t.Helper()
	var part bytes.Buffer
	out := shaping.NewWriter(&part)
	result, err := shaping.Shape(def, shaping.Origin{}, opened(t, file), out)
	require.NoError(t, err)
	require.NoError(t, out.Flush())
	rows, err := csv.NewReader(&part).ReadAll()
	require.NoError(t, err)
	columns := map[string][]string{}
	for i, c := range def.Columns {
		if c.Source != definition.FromCell {
			continue
		}
		values := []string{}
		for _, row := range rows {
			value := row[i]
			if c.Type.Number() && strings.Contains(value, ".") {
				value = strings.TrimRight(strings.TrimRight(value, "0"), ".") // as 12 and 12.0 are the same
			}
			values = append(values, value)
		}
		for _, h := range c.Headers {
			columns[definition.Plain(h)] = values
		}
	}
	return columns, result.Findings
}

func opened(t *testing.T, file []byte) *reading.File {
	t.Helper()
	f, err := reading.Open(bytes.NewReader(file), func(r io.Reader) (reading.Content, error) {
		b, err := io.ReadAll(r)
		return content{bytes.NewReader(b)}, err
	})
	require.NoError(t, err)
	return f
}

// What is learnt from any sound file of the demo makes the same table of it as
// the definition that was written by hand does, without an edit.
func TestLearning(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Generate(dir, demo.Options{Seed: 1, End: friday}))
	files, right, seen := 0, 0, 0
	for _, name := range []string{"daily-loadings", "fuel-uplift", "crew-hours", "berth-incidents"} {
		text := input(t, name)
		if at := strings.Index(text, "summaries:\n"); at >= 0 { // they name columns of the hand-made definition
			text = text[:at] + text[strings.Index(text, "deliver:\n"):]
		}
		hand, err := definition.Parse(text, friday)
		require.NoError(t, err)
		for _, path := range slices.Sorted(maps.Keys(tree(t, filepath.Join(dir, demo.Share, hand.Folder)))) {
			if !slices.ContainsFunc(hand.Pick, func(p definition.Pick) bool {
				var at pathpattern.Path
				at.Set(path)
				_, ok := p.Pattern.Match(&at)
				return ok
			}) {
				continue
			}
			if seen++; name == "daily-loadings" && seen%8 > 0 || name == "crew-hours" && seen%3 > 0 {
				continue // they are much alike
			}
			file, err := os.ReadFile(filepath.Join(dir, demo.Share, hand.Folder, path))
			require.NoError(t, err)
			want, found := shape(t, hand, file)
			if _, broken := finding.AnyBroken(found); broken {
				continue
			}
			files++
			p, err := learning.Propose(hand.Captures, hand.Language, func() (*reading.File, error) { return opened(t, file), nil })
			if err != nil {
				t.Logf("%s: %s", path, err)
				continue
			}
			proposed, err := p.Apply(text)
			require.NoError(t, err)
			def, err := definition.Parse(proposed, friday)
			require.NoError(t, err, proposed)
			got, _ := shape(t, def, file)
			same := true
			for header, values := range want {
				have, is := got[header]
				if !is && !slices.ContainsFunc(values, func(v string) bool { return v != "" }) || header == "sailing no" {
					continue // the file has no such column
				}
				if !slices.Equal(values, have) {
					same = false
					t.Logf("%s: %s\n%q\n%q", path, header, values[:min(5, len(values))], have[:min(5, len(have))])
				}
			}
			if same {
				right++
			}
		}
	}
	t.Logf("right for %d of %d files", right, files)
	assert.GreaterOrEqual(t, right*10, files*9)
}
