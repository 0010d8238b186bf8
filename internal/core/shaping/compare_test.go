package shaping_test

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/shaping"
)

func part(rows string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(strings.ReplaceAll(rows, " ", "\r\n"))), nil
	}
}

func TestCompareRows(t *testing.T) {
	plain := []definition.Column{{Name: "sailing"}, {Name: "passengers"}}
	keyed := []definition.Column{{Name: "sailing", Key: true}, {Name: "passengers"}}
	for name, c := range map[string]struct {
		columns       []definition.Column
		before, after string
		want          string // added, gone, altered
		first         string
	}{
		"the same":           {plain, "a,1 b,2 ", "a,1 b,2 ", "0 0 0", ""},
		"another order":      {plain, "a,1 b,2 ", "b,2 a,1 ", "0 0 0", ""},
		"one more":           {plain, "a,1 ", "a,1 b,2 ", "1 0 0", "- > b,2"},
		"one more of a kind": {plain, "a,1 ", "a,1 a,1 ", "1 0 0", "- > a,1"},
		"one less of a kind": {plain, "a,1 a,1 a,1 ", "a,1 ", "0 2 0", "a,1 > -; a,1 > -"},
		"without a key":      {plain, "a,1 b,2 ", "a,1 b,3 ", "1 1 0", "b,2 > -; - > b,3"},
		"with a key":         {keyed, "a,1 b,2 c,3 ", "a,1 b,3 d,4 ", "1 1 1", "b,2 > b,3; c,3 > -; - > d,4"},
		"from nothing":       {keyed, "", "a,1 ", "1 0 0", "- > a,1"},
		"to nothing":         {keyed, "a,1 ", "", "0 1 0", "a,1 > -"},
		"a doubled key":      {keyed, "a,1 ", "a,2 a,3 ", "1 0 1", "a,1 > a,2"},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := shaping.CompareRows(c.columns, part(c.before), part(c.after))
			require.NoError(t, err)
			assert.Equal(t, c.want, fmt.Sprint(d.Added, d.Gone, d.Altered))
			var first []string
			say := func(row []string) string {
				if row == nil {
					return "-"
				}
				return strings.Join(row, ",")
			}
			for _, r := range d.First {
				first = append(first, say(r.Before)+" > "+say(r.After))
			}
			assert.Equal(t, c.first, strings.Join(first, "; "))
		})
	}
	_, err := shaping.CompareRows(plain, part("a "), func() (io.ReadCloser, error) { return nil, io.ErrClosedPipe })
	assert.ErrorIs(t, err, io.ErrClosedPipe)
}

func TestCompareHeaders(t *testing.T) {
	d := shaping.CompareHeaders([]string{"Day", "Port", "Freight", "", "Crew"}, []string{"day", "Port", "Freight (t)", "Note"})
	assert.Equal(t, []string{"Freight (t)", "Note"}, d.ColumnsAdded)
	assert.Equal(t, []string{"Freight", "Crew"}, d.ColumnsGone)
	assert.Equal(t, [][2]string{{"Day", "day"}}, d.ColumnsRespelt)
}

func TestFits(t *testing.T) {
	def, err := definition.Parse(`
input: a
place: b
pick: ["*"]
read: {turn: {headers: ["Q*"], name: Quarter, value: Tonnes}}
columns:
  - {name: port, headers: [Port]}
  - {name: quarter, headers: [Quarter]}
  - {name: tonnes, headers: [Tonnes]}
  - {name: berth, headers: [Berth, Quay]}
  - {name: crew}
`, time.Now())
	require.NoError(t, err)
	headers := []string{"note", "Berth", "PORT", "Q1", "Q2", ""}
	var got []string
	for _, h := range shaping.Fits(def, headers) {
		got = append(got, strings.TrimSpace(h.Column+" "+string(h.Fit)+" "+h.Written))
	}
	assert.Equal(t, []string{"port respelt PORT", "quarter same", "tonnes same", "berth same Berth", "crew absent", "extra note"}, got)
	assert.Equal(t, "berth, port", shaping.OrderOf(def, headers))
}
