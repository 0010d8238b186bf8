package shaping_test

import (
	"bytes"
	"encoding/csv"
	"io"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/shaping"
)

// FuzzShape shapes any file by a definition that asks for everything: there are as
// many rows as are counted, and every value is one of its type.
func FuzzShape(f *testing.F) {
	def, err := definition.Parse(`
input: a
place: b
pick: ["*"]
read: {decimal: comma, thousands: point, dates: [dd.MM.yyyy, d MMM yyyy], null_words: [n/a], carry_down: port, leave_out: 'port starts with "Sum"', skip_bottom: 1, extra: keep, turn: {headers: ["Q*"], name: Quarter, value: Tonnes}}
columns:
  - {name: port, required: true, key: true}
  - {name: code, from: port, matches: '(\w+)', replace: {a: b}}
  - {name: day, type: date, least: "2026-01-01"}
  - {name: week, from: day, part: week}
  - {name: at, type: timestamp}
  - {name: n, type: whole, total: true, default: "0"}
  - {name: tonnes, headers: [Tonnes], type: decimal}
  - {name: each, compute: "tonnes / n", round: 2}
  - {name: pay, type: money}
  - {name: share, type: percent}
  - {name: open, type: yes_no}
  - {name: row, file: row}
`, time.Now())
	require.NoError(f, err)
	f.Add([]byte("port;day;at;n;Q1;Q2;pay;share;open;note\nEskvik;05.10.2026;2026-10-05 08:00;1.000;1,5;2;5 NOK;5%;yes;x\n;6 Oct 2026;;n/a;;3;(1);7;0;\nSum;;;;;;;;;\nlast\n"))
	f.Add([]byte(`[{"port": "a", "n": 1, "Q1": 2.5}]`))
	f.Add([]byte(`<l><r port="a" Q1="1"/><r port="b" Q2="x"/></l>`))
	f.Fuzz(func(t *testing.T, content []byte) {
		file, err := reading.Open(bytes.NewReader(content), func(r io.Reader) (reading.Content, error) {
			b, err := io.ReadAll(r)
			return kept{bytes.NewReader(b)}, err
		})
		require.NoError(t, err)
		defer file.Close()
		var part bytes.Buffer
		out := shaping.NewWriter(&part)
		result, err := shaping.Shape(def, shaping.Origin{}, file, out)
		require.NoError(t, err)
		require.NoError(t, out.Flush())
		if _, broken := result.Broken(); broken {
			return
		}
		r := csv.NewReader(&part)
		r.FieldsPerRecord = len(def.Columns)
		rows, err := r.ReadAll()
		require.NoError(t, err)
		require.Len(t, rows, int(result.Kept))
		for _, row := range rows {
			for i, c := range def.Columns {
				assert.True(t, isOf(c.Type, row[i]), "%s: %q", c.Name, row[i])
			}
		}
	})
}

func isOf(t definition.Type, value string) bool {
	if value == "" {
		return true
	}
	var err error
	switch t {
	case definition.Date:
		_, err = time.Parse(time.DateOnly, value)
	case definition.Timestamp:
		_, err = time.Parse("2006-01-02 15:04:05.999999", value)
	case definition.YesNo:
		return value == "true" || value == "false"
	case definition.Text:
	default:
		_, ok := new(big.Rat).SetString(value)
		return ok
	}
	return err == nil
}
