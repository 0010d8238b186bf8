package test

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/testkit"
)

// exchange is a request and what its answer must say. The path is below
// /api/v1; a body that begins with a brace is JSON. Every part of says must be
// in the answer, one that begins with an exclamation mark must not.
type exchange struct {
	method, path, body string
	status             int
	says               []string
}

// converse makes the exchanges one after the other, each seeing what those
// before it did.
func converse(t *testing.T, s *testkit.Service, exchanges []exchange) {
	t.Helper()
	token := bearer(t, s)
	var first, tag string // of the first and the newest answer, sent where a request says @first and @tag
	for _, e := range exchanges {
		method, match, _ := strings.Cut(e.method, " ")
		request, err := http.NewRequestWithContext(t.Context(), method, s.Base+"/api/v1"+e.path, strings.NewReader(e.body))
		require.NoError(t, err)
		request.Header.Set("Authorization", token)
		if match != "" {
			request.Header.Set("If-Match", strings.NewReplacer("@first", first, "@tag", tag).Replace(match))
		}
		switch {
		case strings.HasPrefix(e.body, "{"):
			request.Header.Set("Content-Type", "application/json")
		case e.body != "":
			request.Header.Set("Content-Type", "application/octet-stream")
		}
		response, err := http.DefaultTransport.RoundTrip(request)
		require.NoError(t, err)
		content, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		if given := response.Header.Get("ETag"); given != "" {
			tag = given
			if first == "" {
				first = given
			}
		}
		about := method + " " + e.path + " " + e.body + "\n" + string(content)
		if !assert.Equal(t, e.status, response.StatusCode, about) {
			continue
		}
		if response.StatusCode >= 400 {
			var p api.Problem
			require.NoError(t, json.Unmarshal(content, &p), about)
			assert.Equal(t, "application/problem+json", response.Header.Get("Content-Type"), about)
			assert.Equal(t, e.status, p.Status, about)
			assert.NotEmpty(t, p.Title, about)
		}
		for _, part := range e.says {
			if without, ok := strings.CutPrefix(part, "!"); ok {
				assert.NotContains(t, string(content), without, about)
			} else {
				assert.Contains(t, string(content), part, about)
			}
		}
	}
}

// path is a query that names a file.
func path(name string) string { return "?path=" + strings.ReplaceAll(name, " ", "%20") }

// What a person decides about files: holds, with what they may not be.
func TestHoldsOverHTTP(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1.5"))
	s.Write("loadings/Eskvik/notes.txt", "x")
	s.Write("other/notes.txt", "x")
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	holds := "/inputs/loadings/holds"
	converse(t, s, []exchange{
		{"GET", holds, "", 200, []string{`"items":[]`, `"ended":[]`}},
		{"POST", holds, `{"path":"Eskvik/notes.txt","in":true,"note":"asked for"}`, 201, []string{`"id":1`, `"path":"loadings/Eskvik/notes.txt"`, `"in":true`, `"by":"local"`, `"note":"asked for"`}},
		{"POST", holds, `{"path":"loadings/Eskvik/notes.txt","in":false}`, 409, []string{"held-already", "release it first"}},
		{"POST", holds, `{"path":"loadings/Eskvik/gone.csv","in":false}`, 404, []string{"jorvex files loadings"}},
		{"POST", holds, `{"path":"other/notes.txt","in":true}`, 422, []string{"outside-folder", "other/notes.txt does not lie below loadings"}},
		{"POST", holds, `{"path":"../other/notes.txt","in":true}`, 400, []string{"climbs or doubles back"}},
		{"POST", holds, `{"path":"Eskvik/loadings 2026-10-05.csv","in":false,"until":"2020-01-01T00:00:00Z"}`, 422, []string{"hold-over", "2020-01-01 00:00Z is past"}},
		{"POST", holds, `{"path":`, 400, nil},
		{"POST", "/inputs/nothing/holds", `{"path":"x","in":true}`, 404, []string{"nothing"}},
		{"GET", "/inputs/loadings/why" + path("Eskvik/notes.txt"), "", 200, []string{`"verdict":"picked"`, `"reason":"held_in"`, "asked for"}},
		{"POST", holds, `{"path":"Eskvik/loadings 2026-10-05.csv","in":false,"while_same":true}`, 201, []string{`"while_same":true`}},
		{"GET", "/inputs/loadings/files?reason=held_out", "", 200, []string{"loadings 2026-10-05.csv", "!notes.txt"}},
		{"DELETE", holds + "/1", "", 204, nil},
		{"DELETE", holds + "/1", "", 404, []string{"jorvex hold list loadings"}},
		{"DELETE", holds + "/0", "", 400, nil},
		{"GET", holds, "", 200, []string{`"items":[{`, `"ended":[{`, "released by local"}},
		{"GET", "/inputs/loadings/why" + path("Eskvik/notes.txt"), "", 200, []string{`"verdict":"left_out"`, `"reason":"no_pattern"`}},
	})
	// A hold that binds to the bytes ends with them.
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,11,1.5"))
	s.Must("look", "share")
	converse(t, s, []exchange{{"GET", holds, "", 200, []string{`"items":[]`, "the file's bytes changed"}}})
}

// Definitions: the second editor, versions, differences, copies and trials.
func TestDefinitionsOverHTTP(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1.5"))
	s.Write("loadings/Eskvik/loadngs 2026-10-06.csv", table(header, "SK2,20,2.5"))
	s.Definition(loadings)
	s.Must("look", "share")
	titled := strings.Replace(loadings, "place: share", "title: Loadings\nplace: share", 1)
	wider := strings.Replace(loadings, "pick: [", "pick: [\"<terminal>/loadngs <day:yyyy-MM-dd>.csv\", ", 1)
	broken := strings.Replace(loadings, "place: share", "plaice: share", 1)
	try := func(text, more string) string {
		quoted, err := json.Marshal(text)
		require.NoError(t, err)
		return `{"definition":` + string(quoted) + more + `}`
	}
	text := func(definition string) string { return try(definition, "") }
	input := "/inputs/loadings"
	converse(t, s, []exchange{
		{"GET", input, "", 200, []string{`"version":1`}},
		{"PUT @tag", input, text(titled), 200, []string{`"version":2`, `"title":"Loadings"`}},
		{"PUT @first", input, text(loadings), 412, []string{"version 2", "saved by local"}},
		{"PUT", input, text(loadings), 400, []string{"If-Match is required"}},
		{"PUT @tag", input, text(broken), 422, []string{"plaice", "line 2", `did you mean`}},
		{"PUT @tag", input, text(strings.Replace(loadings, "input: loadings", "input: others", 1)), 422, []string{"others"}},
		{"GET", input, "", 200, []string{`"version":2`}},
		{"PUT @tag", input, text(titled), 200, []string{`"version":2`}}, // the same text makes no version
		{"POST", "/inputs", text(loadings), 409, []string{"loadings"}},
		{"GET", input + "/versions?limit=1", "", 200, []string{`"version":2`, `!"version":1`, `"next":"`}},
		{"GET", input + "/versions?cursor=nonsense", "", 400, []string{"cursor"}},
		{"GET", input + "/differences?from=1", "", 200, []string{`"to":2`, `{"sign":"+","text":"title: Loadings"}`}},
		{"GET", input + "/differences?from=7", "", 404, []string{"loadings has no version 7", "jorvex input versions loadings"}},
		{"GET", input + "/differences", "", 400, []string{"from"}},
		{"POST", input + "/copies", `{"name":"loadings"}`, 409, []string{"loadings"}},
		{"POST", input + "/copies", `{"name":"no name!"}`, 422, []string{"no name!"}},
		{"POST", input + "/copies", `{"name":"copied"}`, 201, []string{`"name":"copied"`, "copied"}},

		{"POST", "/trials", try(wider, `,"input":"loadings"`), 200, []string{`"gained":{"files":1`, `"lost":{"files":0`, "loadngs 2026-10-06.csv"}},
		{"POST", "/trials", try(loadings, `,"show":"left_out","limit":1`), 200, []string{`"gained":{"files":0`, "loadngs"}},
		{"POST", "/trials", try(broken, ""), 422, []string{"line 2", "plaice"}},
		{"POST", "/trials", try(strings.Replace(loadings, "place: share", "place: quayside", 1), ""), 422, []string{"no-such-place", "jorvex place add"}},
		{"POST", "/trials", try(loadings, `,"input":"nothing"`), 404, []string{"nothing"}},
		{"POST", "/trials", try(loadings, `,"cursor":"nonsense"`), 400, []string{"cursor"}},
		{"POST", "/trials", try(loadings, `,"show":"everything"`), 400, []string{"show"}},

		{"POST", input + "/trials" + path("Eskvik/loadings 2026-10-07.csv"), table(header, "SK1,7,0.5", "SK2,8,0.25"), 200, []string{`"verdict":"picked"`, `"rows":2`, `{"column":"passengers","sum":"15"}`}},
		{"POST", input + "/trials" + path("Eskvik/loadings 2026-10-07.csv"), table("sailing,people", "SK1,7"), 200, []string{`"verdict":"picked"`, `column_absent`}},
		{"POST", input + "/trials" + path("Eskvik/loadings 2026-02-30.csv"), table(header, "SK1,7,1"), 200, []string{`"verdict":"left_out"`, "2026-02-30"}},
		{"POST", input + "/trials" + path("../loadings 2026-10-07.csv"), "x", 400, []string{"climbs or doubles back"}},
		{"GET", input + "/files", "", 200, []string{"!2026-10-07"}}, // nothing was recorded
		{"GET", input + "/rows" + path("Eskvik/loadings 2026-10-05.csv"), "", 200, []string{`"columns":["terminal","day","sailing"`, `"became":"header"`, `"became":"kept"`, `"values":["Eskvik","2026-10-05","SK1","10","1.5"`, `"rows_kept":1`}},
		{"GET", input + "/rows" + path("Eskvik/loadings 2026-10-05.csv") + "&limit=1", "", 200, []string{`!"became":"kept"`, `"rows_kept":1`}},
		{"GET", input + "/rows" + path("Eskvik/loadings 2026-10-09.csv"), "", 404, []string{"jorvex files loadings"}},
		{"GET", "/vocabulary", "", 200, []string{`"name":"modified"`, `"verbs":{`, `"pattern":"~$*"`}},
	})
	assert.Equal(t, "2", s.Query("SELECT count(*)::text FROM jorvex.definitions d JOIN jorvex.inputs i ON i.id = d.input_id WHERE i.name = 'loadings'"))
}

// What is expected, what became of files, and what may be excused.
func TestTrustOverHTTP(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	for _, day := range []string{"05", "06", "08"} {
		s.Write("loadings/Eskvik/loadings 2026-10-"+day+".csv", table(header, "SK1,10,1.5"))
	}
	s.Write("loadings/days.ics", "BEGIN:VCALENDAR\nEND:VCALENDAR\n")
	s.Definition(expected)
	s.Definition(cards)
	s.Must("look", "share")
	input := "/inputs/loadings"
	converse(t, s, []exchange{
		{"GET", input + "/coverage?from=2026-10-05&to=2026-10-08", "", 200, []string{`"columns":["2026-10-05","2026-10-06","2026-10-07","2026-10-08"]`, `"member":"Eskvik"`, `"counts":{"late":3,"missing":5}`, `"states":["late","late","missing","late"]`}},
		{"GET", input + "/coverage?from=yesterday", "", 400, []string{"from"}},
		{"GET", "/inputs/cards/coverage", "", 422, []string{"nothing-expected", "add expect"}},
		{"GET", "/inputs/nothing/coverage", "", 404, nil},
		{"POST", input + "/excuses", `{"member":"","period":"","note":"x"}`, 400, []string{"name the slot"}},
		{"POST", input + "/excuses", `{"member":"Eskvik","period":"2026-10-07","note":"storm"}`, 204, nil},
		{"GET", input + "/coverage?from=2026-10-05&to=2026-10-08", "", 200, []string{`"counts":{"excused":1,"late":3,"missing":4}`, `"note":"storm`, `"states":["late","late","excused","late"]`}},
		{"DELETE", input + "/excuses?member=Eskvik&period=2026-10-07", "", 204, nil},
		{"DELETE", input + "/excuses?member=Eskvik&period=2026-10-07", "", 404, []string{"excuse", "jorvex coverage loadings"}},
		{"POST", input + "/confirmation", "", 409, []string{"no-doubt"}},
		{"GET", input + "/log?limit=2", "", 200, []string{`"state":"new"`, `"next":"`}},
		{"GET", input + "/log?cursor=x", "", 400, []string{"cursor"}},
		{"GET", input + "/log" + path("Eskvik/loadings 2026-10-06.csv"), "", 200, []string{"loadings 2026-10-06.csv", `!"id":1`, "the same content as"}},
		{"GET", input + "/story" + path("Eskvik/loadings 2026-10-06.csv"), "", 200, []string{`"fed":[]`, `"state":"new"`, `"day":"2026-10-06"`}},
		{"GET", input + "/story" + path("Eskvik/loadings 2026-10-09.csv"), "", 404, []string{"jorvex files loadings"}},
		{"GET", "/changes?limit=1", "", 200, []string{`"state":"new"`, `"input":"loadings"`}},
		{"GET", "/changes?limit=0", "", 400, []string{"limit"}},
		{"GET", "/places/share", "", 200, []string{`"name":"share"`}},
		{"GET", "/places/quayside", "", 404, []string{"quayside"}},
		{"PUT", "/places/share/pace", `{"every_seconds":30,"settle_seconds":2.5}`, 200, []string{`"every_seconds":30`, `"settle_seconds":2.5`}},
		{"PUT", "/places/share/pace", `{"every_seconds":0,"settle_seconds":0}`, 200, []string{`"every_seconds":3600`, `"settle_seconds":0`}},
		{"PUT", "/places/share/pace", `{"every_seconds":0.01,"settle_seconds":0}`, 422, []string{"bad-pace", "every_seconds is 0.01"}},
		{"PUT", "/places/share/pace", `{"every_seconds":-1,"settle_seconds":0}`, 400, []string{"every_seconds"}},
		{"PUT", "/places/quayside/pace", `{"every_seconds":1,"settle_seconds":1}`, 404, []string{"quayside"}},
		{"GET", "/refreshes/99", "", 404, nil},
		{"GET", "/receipts/99", "", 404, nil},
	})
	// It fed a delivery and went: its story is kept.
	s.Must("refresh", "loadings")
	require.NoError(t, removeAll(s, "loadings/Eskvik/loadings 2026-10-06.csv"))
	story := input + "/story" + path("Eskvik/loadings 2026-10-06.csv")
	require.Eventually(t, func() bool {
		s.Must("look", "share")
		_, body := ask(t, "GET", s.Base+"/api/v1"+story, "Authorization", bearer(t, s))
		return regexp.MustCompile(`"log":\[\{[^}]*"state":"removed"`).MatchString(body)
	}, time.Minute, 100*time.Millisecond)
	converse(t, s, []exchange{{"GET", story, "", 200, []string{`"first":1`, `"last":1`, `"state":"removed"`}}})
}

func removeAll(s *testkit.Service, names ...string) error {
	for _, name := range names {
		if err := os.Remove(filepath.Join(s.Share, name)); err != nil {
			return err
		}
	}
	return nil
}
