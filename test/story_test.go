package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/client"
	"jorvex/internal/testkit"
)

// states returns the shown state of every file of an input, as the client tells
// it.
func states(t *testing.T, s *testkit.Service, input string, flags ...string) map[string]string {
	t.Helper()
	var page api.FilePage
	require.NoError(t, json.Unmarshal([]byte(s.Must(append([]string{"files", input, "-json"}, flags...)...)), &page))
	got := map[string]string{}
	for _, f := range page.Items {
		got[f.Path] = strings.TrimSpace(string(f.Verdict) + " " + string(f.State))
	}
	return got
}

// The whole story: files in nested folders, a refresh, one more file, a refresh
// in which rows and totals move by exactly that file.
func TestDropRefreshAndAnswer(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1.5", "SK2,20,2.25"))
	// Columns in another order, a byte-order mark, quotes.
	s.Write("loadings/Dunvara/loadings 2026-10-05.csv", "\ufeff"+table("Freight (t),captain,sailing,passengers", `0.5,"Nobody, really","SK ""3""",30`))
	s.Write("loadings/Eskvik/~$loadings 2026-10-05.csv", "lock")
	s.Write("loadings/Berthing rules.pdf", "%PDF-1.4")
	s.Write("elsewhere/loadings 2026-10-05.csv", "not below the folder")
	s.Definition(loadings)
	assert.Equal(t, map[string]string{
		"loadings/Eskvik/loadings 2026-10-05.csv":   "picked new",
		"loadings/Dunvara/loadings 2026-10-05.csv":  "picked new",
		"loadings/Eskvik/~$loadings 2026-10-05.csv": "left_out",
		"loadings/Berthing rules.pdf":               "left_out",
	}, states(t, s, "loadings"))

	out := s.Must("refresh", "loadings")
	assert.Contains(t, out, "3 rows from 2 files, receipt 1")
	first := s.Delivered("loadings.csv")
	assert.Equal(t, strings.ReplaceAll(`terminal,day,sailing,passengers,freight_t,source_file
Dunvara,2026-10-05,"SK ""3""",30,0.5,loadings 2026-10-05.csv
Eskvik,2026-10-05,SK1,10,1.5,loadings 2026-10-05.csv
Eskvik,2026-10-05,SK2,20,2.25,loadings 2026-10-05.csv
`, "\n", "\r\n"), first)
	assert.Equal(t, "3 60 4.25", s.Query("SELECT concat_ws(' ', count(*), sum(passengers), sum(freight_t)) FROM delivered.loadings"))
	assert.Equal(t, "bigint date numeric text text text", s.Query(`SELECT string_agg(data_type, ' ' ORDER BY data_type)
		FROM information_schema.columns WHERE table_schema = 'delivered' AND table_name = 'loadings'`))
	assert.Equal(t, "no file differs from the last delivery\n", s.Must("changes", "loadings"))

	// The same files again: the same bytes.
	s.Must("refresh", "loadings")
	assert.Equal(t, first, s.Delivered("loadings.csv"))

	s.Write("loadings/Fennay/loadings 2026-10-06.csv", table(header, "SK9,5,100"))
	assert.Contains(t, s.Must("look", "share"), "1 new, 0 changed, 0 gone")
	assert.Equal(t, "picked new", states(t, s, "loadings")["loadings/Fennay/loadings 2026-10-06.csv"])
	out = s.Must("refresh", "loadings")
	assert.Regexp(t, `rows +4 +\+1\n`, out)
	assert.Regexp(t, `passengers +65 +\+5\n`, out)
	assert.Regexp(t, `freight_t +104.25 +\+100.00\n`, out)
	assert.Equal(t, "4", s.Query("SELECT count(*)::text FROM delivered.loadings"))

	// One changed, one taken out, one touched with the same bytes.
	s.Write("loadings/Fennay/loadings 2026-10-06.csv", table(header, "SK9,6,100"))
	require.NoError(t, os.Remove(filepath.Join(s.Share, "loadings/Dunvara/loadings 2026-10-05.csv")))
	eskvik := filepath.Join(s.Share, "loadings/Eskvik/loadings 2026-10-05.csv")
	info, err := os.Stat(eskvik)
	require.NoError(t, err)
	require.NoError(t, os.Chtimes(eskvik, info.ModTime(), info.ModTime().Add(1e9)))
	s.Must("look")
	got := states(t, s, "loadings")
	assert.Equal(t, "picked changed", got["loadings/Fennay/loadings 2026-10-06.csv"])
	assert.Equal(t, "left_out removed", got["loadings/Dunvara/loadings 2026-10-05.csv"])
	assert.Equal(t, "picked same", got["loadings/Eskvik/loadings 2026-10-05.csv"])
	assert.Regexp(t, `rows +3 +-1\n`, s.Must("refresh", "loadings"))

	receipt := s.Must("receipt", "4", "-files")
	for _, want := range []string{"loadings, definition version 1", "files      2", "left out   1 file: no pattern", "left out   1 file: scratch file", "Eskvik/loadings 2026-10-05.csv"} {
		assert.Contains(t, receipt, want)
	}
	assert.NotContains(t, receipt, "Dunvara")
	assert.Contains(t, s.Must("verify"), "the chain holds: 4 receipts")
	s.Exec("UPDATE jorvex.receipts SET header = convert_to(replace(convert_from(header, 'UTF8'), '\"rows\":\"3\"', '\"rows\":\"9\"'), 'UTF8') WHERE number = 2")
	r := s.Run("verify")
	assert.Equal(t, client.Failed, r.Code)
	assert.Contains(t, r.Err, "receipt 2 does not hold")
}

func TestNamesThatAreNotUTF8SurviveTheWholeWay(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Br\xe5nn\n/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	shown := `loadings/Br\xE5nn\u{A}/loadings 2026-10-05.csv`
	assert.Equal(t, map[string]string{shown: "picked new"}, states(t, s, "loadings"))
	assert.Contains(t, s.Must("why", "loadings", shown), "picked: matches")
	s.Must("refresh", "loadings")
	assert.Contains(t, s.Delivered("loadings.csv"), `Br\xE5nn ,2026-10-05`)
	assert.Contains(t, s.Must("receipt", "1", "-files"), shown)
	assert.Equal(t, map[string]string{shown: "picked same"}, states(t, s, "loadings"))
}

// What an unreachable place or an unlistable folder held is unknown, never
// removed, and a refresh stops.
func TestUnreachableRemovesNothing(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	before := s.Delivered("loadings.csv")

	require.NoError(t, os.Rename(s.Share, s.Share+"-away"))
	r := s.Run("look", "share")
	assert.Equal(t, client.Failed, r.Code)
	assert.Contains(t, r.Out, "share cannot be reached: it is not there; its files are unknown, not removed")
	assert.Equal(t, map[string]string{"loadings/Eskvik/loadings 2026-10-05.csv": "held_back unknown"}, states(t, s, "loadings"))
	r = s.Run("refresh", "loadings")
	assert.Equal(t, client.GateStopped, r.Code)
	assert.Contains(t, r.Err, "the place share cannot be reached")
	assert.Equal(t, before, s.Delivered("loadings.csv"))
	assert.Contains(t, s.Must("place", "list"), "no: it is not there")

	require.NoError(t, os.Rename(s.Share+"-away", s.Share))
	s.Must("look", "share")
	assert.Equal(t, map[string]string{"loadings/Eskvik/loadings 2026-10-05.csv": "picked same"}, states(t, s, "loadings"))

	if os.Geteuid() == 0 {
		return // root lists every folder
	}
	require.NoError(t, os.Chmod(filepath.Join(s.Share, "loadings/Eskvik"), 0))
	defer os.Chmod(filepath.Join(s.Share, "loadings/Eskvik"), 0o755)
	assert.Contains(t, s.Must("look", "share"), "skipped loadings/Eskvik: the folder cannot be listed")
	assert.Equal(t, map[string]string{"loadings/Eskvik/loadings 2026-10-05.csv": "held_back unknown"}, states(t, s, "loadings"))
	assert.Equal(t, client.GateStopped, s.Run("refresh", "loadings").Code)
}

func TestGate(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	before := s.Delivered("loadings.csv")
	s.Write("loadings/Fennay/loadings 2026-10-05.csv", "")
	s.Write("loadings/Dunvara/loadings 2026-10-05.csv", "PK\x03\x04 a workbook in disguise")
	s.Must("look")
	assert.Equal(t, "picked broken", states(t, s, "loadings")["loadings/Fennay/loadings 2026-10-05.csv"])

	r := s.Run("refresh", "loadings")
	assert.Equal(t, client.GateStopped, r.Code)
	assert.Contains(t, r.Err, "2 files cannot be used; the first is loadings/Dunvara/loadings 2026-10-05.csv: the file is cut short: the directory at its end is missing")
	assert.Contains(t, r.Err, "loadings/Fennay/loadings 2026-10-05.csv: the file is empty")
	assert.Contains(t, r.Err, "what would let it pass: ")
	assert.Equal(t, before, s.Delivered("loadings.csv"), "the last delivery stands")

	file := filepath.Join(t.TempDir(), "definition.yaml")
	require.NoError(t, os.WriteFile(file, []byte(loadings+"gate: {broken: leave_out}\n"), 0o644))
	assert.Contains(t, s.Must("input", "save", file, "-over", "1"), "saved as version 2")
	out := s.Must("refresh", "loadings")
	assert.Contains(t, out, "1 row from 1 file, receipt 2")
	assert.Contains(t, out, "2 files picked and not used")
	receipt := s.Must("receipt", "2", "-files")
	assert.Regexp(t, `not used +0 +0 B .* loadings/Fennay/loadings 2026-10-05.csv +the file is empty`, receipt)
	assert.Equal(t, "picked broken", states(t, s, "loadings")["loadings/Fennay/loadings 2026-10-05.csv"])
}

// A gate may wait for a person: the refresh asks, delivers nothing, is told, and
// goes on without the broken file or stops as somebody says.
func TestGateAsks(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Write("loadings/Fennay/loadings 2026-10-05.csv", "")
	s.Definition(loadings + "gate: {broken: wait}\n")
	ask := func() {
		t.Helper()
		r := s.Run("refresh", "loadings")
		assert.Equal(t, client.GateStopped, r.Code)
		assert.Contains(t, r.Err, "asking: loadings/Fennay/loadings 2026-10-05.csv cannot be used: the file is empty")
	}
	ask()
	eventually(t, func() bool {
		return strings.Contains(s.Must("notices"), "a refresh waits for somebody to decide: loadings/Fennay/")
	})
	assert.Equal(t, client.WrongUse, s.Run("answer", "1", "maybe").Code)
	assert.Equal(t, client.WrongUse, s.Run("answer", "one", "go").Code)
	assert.Contains(t, s.Must("answer", "1", "stop"), "refresh 1 is stopped; the last delivery stands")
	assert.Contains(t, s.Run("answer", "1", "go").Err, "refresh 1 does not wait for an answer")
	ask()
	assert.Contains(t, s.Must("answer", "2", "go"), "1 row from 1 file, receipt 1")
	assert.Contains(t, s.Must("receipt", "1", "-json"), "local, answering refresh 2")
	assert.Contains(t, s.Must("receipt", "1", "-files"), "the file is empty")

	// A newer refresh overtakes the question.
	ask()
	s.Write("loadings/Fennay/loadings 2026-10-05.csv", table(header, "SK2,20,1"))
	assert.Contains(t, s.Must("refresh", "loadings"), "2 rows from 2 files, receipt 2")
	assert.Contains(t, s.Run("answer", "4", "go").Err, "does not wait for an answer")
	assert.Contains(t, s.Must("refreshes", "-json"), "overtook the question")
}
