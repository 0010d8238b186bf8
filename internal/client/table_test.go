package client

import (
	"bytes"
	"jorvex/internal/core/totals"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTable(t *testing.T) {
	table := columns("file", ">rows", "note")
	table.row("Éskvik.csv", "1,234", "")
	table.row("b.csv", "5", "a, \"b\"")
	var b bytes.Buffer
	table.print(&b)
	assert.Equal(t, "file         rows  note\nÉskvik.csv  1,234\nb.csv           5  a, \"b\"\n", b.String())
	b.Reset()
	require.NoError(t, table.printCSV(&b))
	assert.Equal(t, "file,rows,note\nÉskvik.csv,\"1,234\",\nb.csv,5,\"a, \"\"b\"\"\"\n", b.String())
}

func TestNumbersForPeopleAndPrograms(t *testing.T) {
	people, programs := &Call{}, &Call{csv: true}
	for n, want := range map[int64][2]string{0: {"0 B", "0"}, 999: {"999 B", "999"}, 1000: {"1.0 KB", "1000"}, 999_499: {"999 KB", "999499"},
		999_500: {"1.0 MB", "999500"}, 12_345_678: {"12.3 MB", "12345678"}, 5_000_000_000_000_000: {"5000 TB", "5000000000000000"}} {
		assert.Equal(t, want[0], people.bytes(n))
		assert.Equal(t, want[1], programs.bytes(n))
	}
	for decimal, want := range map[string]string{"": "", "1": "1", "-1234": "-1,234", "+1234567.8901": "+1,234,567.8901", "999": "999"} {
		assert.Equal(t, want, totals.Grouped(decimal))
	}
	assert.Equal(t, "1234", programs.number(1234))
	assert.Equal(t, "1,234", people.number(1234))
	assert.Equal(t, []string{"-", ""}, []string{people.moment(time.Time{}), programs.moment(time.Time{})})
	assert.Equal(t, "2026-11-20T06:00:00Z", programs.moment(time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)))
}

func TestPlural(t *testing.T) {
	assert.Equal(t, "1 file", plural(1, "file"))
	assert.Equal(t, "0 files", plural(0, "file"))
	assert.Equal(t, "2 deliveries", plural(2, "delivery"))
	assert.Equal(t, "1,000 rows", plural(int64(1000), "row"))
}
