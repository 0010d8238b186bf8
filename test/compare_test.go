package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/client"
	"jorvex/internal/testkit"
)

// Why a figure moved: two receipts compared, in the client and the contract.
func TestCompareReceipts(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	day := func(terminal string) string { return "loadings/" + terminal + "/loadings 2026-10-05.csv" }
	s.Write(day("Aldersund"), table(header, "AL1,10,1.5", "AL2,20,0.5"))
	s.Write(day("Brannhold"), table(header, "BR1,7,2"))
	s.Write(day("Coldmere"), table(header, "CO1,1,1"))
	s.Write(day("Eskvik"), table(header, "ES1,5,5"))
	s.Definition(loadings)
	assert.Contains(t, s.Run("compare", "1").Err, "there is no receipt \"1\"")
	s.Must("refresh", "loadings")
	r := s.Run("compare", "1")
	assert.Equal(t, client.NotFound, r.Code)
	assert.Contains(t, r.Err, "receipt 1 is the first of loadings")

	s.Write(day("Aldersund"), table(header, "AL1,10,1.5", "AL2,25,0.5", "AL3,1,1"))
	require.NoError(t, os.Remove(filepath.Join(s.Share, day("Coldmere"))))
	s.Write(day("Fennay"), table(header, "FE1,100,10.25"))
	require.NoError(t, os.Rename(filepath.Join(s.Share, day("Eskvik")), filepath.Join(s.Share, "loadings/Eskvik/loadings 2026-10-06.csv")))
	s.Must("look")
	s.Must("look")
	s.Must("refresh", "loadings")
	assert.Equal(t, strings.Join([]string{
		"receipt 2 of loadings against receipt 1",
		"            receipt 1  receipt 2   moved",
		"rows                5          6      +1",
		"passengers         43        148    +105",
		"freight_t        10.0      20.25  +10.25",
		"",
		"change   file                                                                                   rows  passengers  freight_t",
		"changed  loadings/Aldersund/loadings 2026-10-05.csv                                               +1          +6       +1.0",
		"out      loadings/Coldmere/loadings 2026-10-05.csv                                                -1          -1         -1",
		"moved    loadings/Eskvik/loadings 2026-10-06.csv, from loadings/Eskvik/loadings 2026-10-05.csv",
		"in       loadings/Fennay/loadings 2026-10-05.csv                                                  +1        +100     +10.25",
		"files: 1 in, 1 out, 1 changed, 1 moved, 1 same",
		"",
	}, "\n"), s.Must("compare", "2"))
	assert.Equal(t, s.Must("compare", "2", "-json"), s.Must("compare", "1", "2", "-json"), "whatever order they are named in")
	assert.Contains(t, s.Must("compare", "2", "-most", "1"), "; the first 1 are shown")
	assert.Contains(t, s.Must("compare", "2", "-csv"), "in,loadings/Fennay/loadings 2026-10-05.csv,+1,+100,+10.25\n")

	s.Must("input", "save", saved(t, strings.Replace(loadings, "type: whole, total: true", "type: whole", 1)), "-over", "1")
	s.Must("refresh", "loadings")
	compared := s.Must("compare", "3")
	assert.Contains(t, compared, "receipt 3 of loadings against receipt 2, by another definition\n")
	assert.Contains(t, compared, "passengers        148              -148\n")
	converse(t, s, []exchange{
		{"GET", "/receipts/2/comparison", "", 200, []string{`"counts":{"changed":1,"in":1,"moved":1,"out":1,"same":1}`, `"change":"moved","digest_after":`}},
		{"GET", "/receipts/2/comparison?with=9", "", 404, []string{"there is no receipt"}},
		{"GET", "/receipts/1/comparison?with=2", "", 200, []string{`"after":2,"before":1`}},
		{"GET", "/receipts/2/comparison?with=x", "", 400, []string{"with"}},
	})
}

// Which receipts a file fed, by its path, its bytes or a copy of it here; and
// which file and row the rows of a delivery come from.
func TestTrace(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	path := "loadings/Eskvik/loadings 2026-10-05.csv"
	first := table(header, "ES1,5,5", "ES2,6,6")
	s.Write(path, first)
	s.Write("loadings/Fennay/loadings 2026-10-05.csv", table(header, "FE1,1,1"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	s.Must("refresh", "loadings")
	s.Write(path, table(header, "ES1,5,5"))
	s.Must("look")
	s.Must("refresh", "loadings")
	lines := strings.Split(s.Must("trace", path), "\n")
	require.Len(t, lines, 4)
	assert.Regexp(t, `^loadings      3     3  [0-9a-f]{12}  `+path, lines[1])
	assert.Regexp(t, `^loadings      1     2  [0-9a-f]{12}  `+path, lines[2])

	copied := filepath.Join(t.TempDir(), "copy.csv")
	require.NoError(t, os.WriteFile(copied, []byte(first), 0o600))
	byCopy := s.Must("trace", copied, "-csv")
	assert.Regexp(t, `(?m)^loadings,1,2,[0-9a-f]{64},`+path, byCopy)
	digest := strings.Split(strings.Split(byCopy, "\n")[1], ",")[3]
	assert.Equal(t, byCopy, s.Must("trace", digest, "-csv"))
	r := s.Run("trace", strings.Repeat("0", 64))
	assert.Equal(t, client.NotFound, r.Code)
	assert.Contains(t, r.Err, "it fed no delivery")

	assert.Equal(t, strings.Join([]string{
		"terminal  day         sailing  passengers  freight_t  source_file              row  file",
		"Fennay    2026-10-05  FE1      1           1          loadings 2026-10-05.csv    2  loadings/Fennay/loadings 2026-10-05.csv", "",
	}, "\n"), s.Must("trace", "loadings", "-where", "passengers below 2"))
	assert.Contains(t, s.Run("trace", "loadings", "-where", "passengers above 500").Err, "no row of the last delivery fits the condition")
	assert.Contains(t, s.Run("trace", "loadings", "-where", "nonsense").Err, "nonsense")
}
