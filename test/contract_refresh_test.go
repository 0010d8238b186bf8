package test

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/testkit"
)

// summed is an input with everything that a receipt tells of.
const summed = `input: loadings
place: share
folder: loadings
pick: ["<terminal>/loadings <day:yyyy-MM-dd>.csv"]
columns:
  - {name: terminal, capture: terminal, watch: true}
  - {name: day, capture: day}
  - {name: passengers, type: whole, total: true}
summaries:
  - {name: by terminal, rows: terminal, measures: sum passengers}
gate: {broken: wait}
deliver:
  - file: loadings.csv
`

// What a refresh leaves behind, asked for in every way there is: rightly, of what is
// not there, and wrongly.
func TestRefreshingOverHTTP(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	day := func(n int) string { return fmt.Sprintf("loadings/Eskvik/loadings 2026-10-%02d.csv", n) }
	s.Write(day(5), "passengers\n10\n")
	s.Write("loadings/Dunvara/loadings 2026-10-05.csv", "passengers\n7\n")
	s.Definition(summed)
	input := "/inputs/loadings"
	converse(t, s, []exchange{
		{"GET", input + "/figures", "", 404, []string{"no table of", "jorvex refresh loadings"}},
		{"GET", "/receipts/1/figures", "", 404, []string{"receipt"}},
		{"GET", "/refreshes?limit=0", "", 400, []string{"limit"}},
		{"GET", "/refreshes?input=nothing", "", 404, []string{"nothing"}},
		{"GET", "/refreshes?cursor=x", "", 400, []string{"cursor"}},
		{"POST", "/inputs/nothing/refreshes", `{}`, 404, []string{"nothing"}},
		{"POST", input + "/refreshes", `{"set":{"period":"2026-10"}}`, 422, []string{"period"}},
		{"POST", input + "/refreshes", `{"as_of":"yesterday"}`, 400, []string{"as_of"}},
		{"POST", input + "/refreshes", `{"accept":["broken"]}`, 400, []string{"accept"}},
		{"POST", "/refreshes/1/cancellation", "", 404, []string{"refresh"}},
		{"PUT", "/refreshes/1/answer", `{"go_on":true}`, 409, []string{"refresh 1 does not wait for an answer"}},
		{"PUT", "/refreshes/1/answer", `{}`, 400, []string{"go_on"}},
		{"GET", "/trace?digest=abc", "", 400, []string{"digest"}},
		{"GET", "/receipts/none", "", 400, []string{"receipt"}},
		{"POST", "/receipts/1/replay", "", 404, []string{"receipt"}},
		{"GET", "/verification", "", 200, []string{`"checked":0`, `"holds":true`}},
	})

	s.Must("rehearse", "loadings")
	converse(t, s, []exchange{
		{"GET", "/refreshes/1", "", 200, []string{`"outcome":"rehearsed"`, `!"receipt":`}},
		{"GET", "/refreshes/1/figures", "", 200, []string{`"by terminal"`, `Dunvara`}},
		{"GET", "/refreshes/1/comparison", "", 200, []string{`"path":"` + day(5)}},
		{"POST", "/refreshes/1/cancellation", "", 409, []string{"neither waits nor runs"}},
		{"PUT", "/refreshes/1/answer", `{"go_on":true}`, 409, []string{"does not wait for an answer"}},
		{"GET", "/receipts/1", "", 404, []string{"receipt"}},
	})

	s.Must("refresh", "loadings")
	s.Write(day(6), "passengers\n5\n")
	s.Must("refresh", "loadings")
	sum := sha256.Sum256([]byte("passengers\n10\n"))
	digest := hex.EncodeToString(sum[:])
	converse(t, s, []exchange{
		{"GET", "/receipts/2", "", 200, []string{`"number":2`, `"rows":3`, `"passengers"`}},
		{"GET", "/receipts/2/files?limit=2", "", 200, []string{`"next":"`, `"use":"current"`}},
		{"GET", "/receipts/2/files?cursor=x", "", 400, []string{"cursor"}},
		{"GET", "/receipts/2/comparison", "", 200, []string{`"path":"` + day(6), `!` + day(5)}},
		{"GET", "/receipts/2/comparison?with=1&limit=1", "", 200, []string{day(6)}},
		{"GET", "/receipts/2/comparison?with=9", "", 404, []string{"there is no receipt"}},
		{"GET", "/receipts/1/comparison?with=2", "", 200, []string{`"before":1`, `"after":2`}},
		{"GET", "/receipts/2/figures", "", 200, []string{`"by terminal"`, `"Eskvik"`}},
		{"GET", input + "/figures", "", 200, []string{`"by terminal"`}},
		{"GET", "/refreshes/3/figures", "", 409, []string{"has not been rehearsed"}},
		{"GET", "/refreshes/3/comparison", "", 409, []string{"has not been rehearsed"}},
		{"GET", "/trace?digest=" + digest, "", 200, []string{`"first":1`, `"last":2`}},
		{"GET", "/trace?digest=" + strings.Repeat("0", 64), "", 200, []string{`"items":[]`}},
		{"GET", "/trace?path=" + strings.ReplaceAll(day(6), " ", "%20"), "", 200, []string{`"first":2`, `"last":2`}},
		{"POST", "/receipts/2/replay", "", 200, []string{`"same":true`}},
		{"GET", "/verification?deep=true&deliveries=true", "", 200, []string{`"checked":2`, `"holds":true`}},
		{"GET", "/verification?deep=perhaps", "", 400, []string{"deep"}},
		{"GET", "/refreshes?input=loadings&limit=1", "", 200, []string{`"receipt":2`, `"next":"`, `!"receipt":1`}},
	})

	// A broken file makes the refresh ask; it is answered once.
	s.Write(day(7), "people\n5\n")
	r := s.Run("refresh", "loadings")
	require.Equal(t, 3, r.Code, r.Err)
	converse(t, s, []exchange{
		{"GET", "/refreshes/4", "", 200, []string{`"outcome":"asking"`, `"asks":["broken"]`}},
		{"PUT", "/refreshes/4/answer", `{"go_on":false}`, 200, []string{`"outcome":"stopped"`, "local answered: stop"}},
		{"PUT", "/refreshes/4/answer", `{"go_on":true}`, 409, []string{"does not wait for an answer"}},
	})
}

// Reports, connections and retention, each asked for rightly and wrongly.
func TestReportsOverHTTP(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", "passengers\n10\n")
	s.Definition(summed)
	report := func(name, more string) string {
		text, err := json.Marshal(fmt.Sprintf("report: %s\ninputs: [loadings]\n%s", name, more))
		require.NoError(t, err)
		return `{"definition":` + string(text) + `}`
	}
	converse(t, s, []exchange{
		{"GET", "/reports", "", 200, []string{`"items":[]`}},
		{"GET", "/reports/week", "", 404, []string{"week"}},
		{"POST", "/reports/week/refreshes", `{}`, 404, []string{"week"}},
		{"POST", "/reports", report("week", "colour: red\n"), 422, []string{"has no key", "line 3, column 1"}},
		{"POST", "/reports", report("week", "refresh: {cron: '99 * * * *'}\n"), 422, []string{"99"}},
		{"POST", "/reports", report("loadings", ""), 409, []string{"there is an input loadings already"}},
		{"POST", "/reports", report("week", ""), 201, []string{`"version":1`, `"inputs":["loadings"]`}},
		{"POST", "/reports", report("week", ""), 409, []string{"week"}},
		{"PUT", "/reports/week?over=2", report("week", "title: Week\n"), 412, []string{"version 2 is not the newest of week"}},
		{"PUT", "/reports/week", report("week", "title: Week\n"), 400, []string{"over"}},
		{"PUT", "/reports/week?over=1", report("week", "title: Week\n"), 200, []string{`"version":2`, `"title":"Week"`}},
		{"POST", "/reports/week/refreshes", `{"only":["x"]}`, 400, []string{"files are named for one input"}},
		{"GET", "/connections", "", 200, []string{`"items":[]`}},
		{"PUT", "/connections/elsewhere", `{"url":"ftp://x"}`, 422, []string{"PostgreSQL"}},
		{"DELETE", "/connections/elsewhere", "", 404, []string{"elsewhere"}},
	})
	named := definitionFile(t, strings.Replace(summed, "input: loadings", "input: week", 1))
	assert.Contains(t, s.Run("input", "add", named).Err, "there is a report week already")
	s.Must("refresh", "week")
	converse(t, s, []exchange{
		{"GET", "/receipts/1", "", 200, []string{`"input":"week"`, `"inputs":[{`, `\"report_id\":\"1\"`}},
		{"GET", "/retention", "", 200, []string{`"days":0`, `"count":0`}},
		{"GET", "/retention?count=-1", "", 400, []string{"count"}},
		{"PUT", "/retention", `{"days":-1,"count":0}`, 400, []string{"days"}},
		{"PUT", "/retention", `{"days":30,"count":4}`, 200, []string{`"days":30`, `"count":4`}},
		{"GET", "/retention", "", 200, []string{`"days":30`, `"count":4`}},
	})
	stranger, _ := ask(t, http.MethodPost, s.Base+"/api/v1/refreshes")
	assert.Equal(t, http.StatusUnauthorized, stranger.StatusCode, "nothing is refreshed for a stranger")
}
