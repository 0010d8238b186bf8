package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/testkit"
)

// gated saves a definition of loadings with a gate.
func gated(t *testing.T, s *testkit.Service, gate string) {
	t.Helper()
	file := definitionFile(t, loadings+"gate: "+gate+"\n")
	s.Must("input", "save", file, "-over", "newest")
}

// uses counts the files of a receipt by their use.
func uses(t *testing.T, s *testkit.Service, receipt string) map[string]int {
	t.Helper()
	var r struct {
		List []api.ReceiptFile `json:"list"`
	}
	require.NoError(t, json.Unmarshal([]byte(s.Must("receipt", receipt, "-files", "-json")), &r))
	got := map[string]int{}
	for _, f := range r.List {
		got[string(f.Use)]++
	}
	return got
}

// Files that are gone, which is not believed: the gate stops, leaves them out, or has
// their last good versions feed.
func TestGateOfFilesInDoubt(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	at := func(n int) string { return fmt.Sprintf("loadings/Eskvik/loadings 2026-10-%02d.csv", n) }
	for n := 1; n <= 25; n++ {
		s.Write(at(n), table(header, fmt.Sprintf("E%d,%d,1.5", n, n)))
	}
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	whole := s.Delivered("loadings.csv")
	for n := 1; n <= 12; n++ {
		require.NoError(t, os.Remove(filepath.Join(s.Share, at(n))))
	}
	r := s.Run("refresh", "loadings")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, "12 files gone, which is not believed, the first is "+at(1))

	gated(t, s, "{in_doubt: last_good}")
	out := s.Must("refresh", "loadings")
	assert.Contains(t, out, "25 rows from 25 files, receipt 2")
	assert.Contains(t, out, "passed (last good): 12 files gone, which is not believed")
	assert.Equal(t, map[string]int{"current": 13, "last_good": 12}, uses(t, s, "2"))
	assert.Equal(t, whole, s.Delivered("loadings.csv"), "the rows are in their places")
	assert.Contains(t, s.Must("receipt", "2", "-files"), "its version of receipt 1 stands in")
	assert.Contains(t, s.Must("replay", "2"), "the same")

	gated(t, s, "{in_doubt: wait}")
	r = s.Run("refresh", "loadings")
	assert.Equal(t, 3, r.Code)
	require.Contains(t, r.Err, "jorvex answer ")
	id := strings.Fields(r.Err[strings.Index(r.Err, "jorvex answer ")+len("jorvex answer "):])[0]
	out = s.Must("answer", id, "go")
	assert.Contains(t, out, "13 rows from 13 files, receipt 3")
	assert.Equal(t, map[string]int{"current": 13, "not_used": 12}, uses(t, s, "3"))
	s.Must("look")
	assert.Contains(t, s.Must("changes", "loadings"), "no file differs", "what was left out is no baseline")
}

// A place that cannot be reached, for which last week's bytes stand in.
func TestGateOfAnUnreachablePlace(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	for n := 1; n <= 3; n++ {
		s.Write(fmt.Sprintf("loadings/Eskvik/loadings 2026-10-%02d.csv", n), table(header, fmt.Sprintf("E%d,%d,1.5", n, n)))
	}
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	whole := s.Delivered("loadings.csv")
	require.NoError(t, os.Rename(s.Share, s.Share+"-away"))
	r := s.Run("refresh", "loadings")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, "the place share cannot be reached: it is not there")

	gated(t, s, "{unreachable: last_good}")
	out := s.Must("refresh", "loadings")
	assert.Contains(t, out, "3 rows from 3 files, receipt 2")
	assert.Contains(t, out, "passed (last good): the place share cannot be reached")
	assert.Equal(t, map[string]int{"last_good": 3}, uses(t, s, "2"))
	assert.Equal(t, whole, s.Delivered("loadings.csv"))

	require.NoError(t, os.Rename(s.Share+"-away", s.Share))
	s.Must("look")
	assert.Contains(t, s.Must("changes", "loadings"), "no file differs")
	assert.Equal(t, map[string]int{"last_good": 3}, uses(t, s, "2"))
	s.Must("refresh", "loadings")
	assert.Equal(t, map[string]int{"current": 3}, uses(t, s, "3"))
}

// Files that are still being written: left out, or as they were before.
func TestGateOfArrivingFiles(t *testing.T) {
	s := testkit.Start(t, testkit.Options{Settle: 3 * time.Second})
	old, young := "loadings/Eskvik/loadings 2026-10-01.csv", "loadings/Eskvik/loadings 2026-10-02.csv"
	s.Write(old, table(header, "E1,10,1.5"))
	s.Definition(loadings)
	require.EventuallyWithT(t, func(t *assert.CollectT) {
		assert.Zero(t, s.Run("refresh", "loadings").Code)
	}, 20*time.Second, 500*time.Millisecond)
	for _, path := range []string{old, young} {
		s.Write(path, table(header, "X,99,1.5"))
		s.Age(path, 0)
	}
	r := s.Run("refresh", "loadings")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, "2 files still arriving")

	gated(t, s, "{arriving: leave_out}")
	s.Age(old, 0)
	s.Age(young, 0)
	r = s.Run("refresh", "loadings")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, "every picked file is left out by the gate")

	gated(t, s, "{arriving: last_good}")
	s.Age(old, 0)
	s.Age(young, 0)
	r = s.Run("refresh", "loadings")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, young+": still arriving, and no version of it that the vault keeps fed a delivery before")

	require.NoError(t, os.Remove(filepath.Join(s.Share, young)))
	var out string
	require.EventuallyWithT(t, func(t *assert.CollectT) {
		s.Age(old, 0)
		r := s.Run("refresh", "loadings")
		out = r.Out
		assert.Zero(t, r.Code, r.Err)
	}, 20*time.Second, 500*time.Millisecond)
	assert.Contains(t, out, "1 row from 1 file, receipt 2")
	assert.Contains(t, s.Delivered("loadings.csv"), "E1,10,1.5")
	assert.Equal(t, map[string]int{"last_good": 1}, uses(t, s, "2"))
}

// A folder that the service has no right to list: its files are not taken for gone.
func TestGateOfAFolderThatCannotBeListed(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	for _, terminal := range []string{"Eskvik", "Fennay"} {
		s.Write("loadings/"+terminal+"/loadings 2026-10-01.csv", table(header, terminal[:1]+"1,10,1.5"))
	}
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	whole := s.Delivered("loadings.csv")
	s.Stop()
	var by []string
	if os.Geteuid() == 0 { // for whom no folder is closed
		by = []string{"setpriv", "--bounding-set=-dac_override,-dac_read_search", "--inh-caps=-dac_override,-dac_read_search"}
	}
	alone(t, s, by...)
	closed := filepath.Join(s.Share, "loadings/Fennay")
	require.NoError(t, os.Chmod(closed, 0))
	t.Cleanup(func() { assert.NoError(t, os.Chmod(closed, 0o755)) })
	s.Must("look")
	r := s.Run("refresh", "loadings")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, "1 file cannot be looked at, the first is loadings/Fennay/loadings 2026-10-01.csv")
	assert.Contains(t, r.Err, "give the service the right to list their folders")
	assert.Equal(t, whole, s.Delivered("loadings.csv"))

	gated(t, s, "{unknown: last_good}")
	assert.Contains(t, s.Must("refresh", "loadings"), "2 rows from 2 files, receipt 2")
	assert.Equal(t, map[string]int{"current": 1, "last_good": 1}, uses(t, s, "2"))
	assert.Equal(t, whole, s.Delivered("loadings.csv"))

	gated(t, s, "{unknown: leave_out}")
	assert.Contains(t, s.Must("refresh", "loadings"), "1 row from 1 file, receipt 3")
	assert.Equal(t, map[string]int{"current": 1, "not_used": 1}, uses(t, s, "3"))

	require.NoError(t, os.Chmod(closed, 0o755))
	s.Must("look")
	assert.Contains(t, s.Must("refresh", "loadings"), "2 rows from 2 files, receipt 4")
}
