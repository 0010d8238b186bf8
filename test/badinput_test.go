package test

import (
	"net/http"
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

func TestBadDefinitionsAreTold(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Must("place", "add", "share", s.Share)
	for name, c := range map[string]struct{ text, says string }{
		"an unknown key":         {strings.Replace(loadings, "columns:", "colums:", 1), `line 5, column 1: the definition has no key "colums"; did you mean "columns"?`},
		"a bad pattern":          {strings.Replace(loadings, "yyyy-MM-dd", "yyyy-mm-dd", 1), `line 4, column 34: the pattern "<terminal>/loadings <day:yyyy-mm-dd>.csv": "mm" is no date field`},
		"a folder outside":       {strings.Replace(loadings, "folder: loadings", "folder: ../..", 1), `line 3, column 9: folder: "../.." climbs`},
		"an unknown place":       {strings.Replace(loadings, "place: share", "place: shore", 1), `the definition names the place "shore", which there is not`},
		"no YAML":                {"input: [", "this is not YAML"},
		"a delivery that climbs": {strings.Replace(loadings, "file: loadings.csv", "file: ../loadings.csv", 1), "leaves the delivery folder"},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "definition.yaml")
			require.NoError(t, os.WriteFile(file, []byte(c.text), 0o644))
			r := s.Run("input", "add", file)
			assert.Equal(t, client.Failed, r.Code)
			assert.Contains(t, r.Err, c.says)
			if strings.HasPrefix(c.says, "line") {
				r := s.Run("check-definition", file)
				assert.Equal(t, client.Failed, r.Code)
				line, message, _ := strings.Cut(strings.NewReplacer("line ", ":", ", column ", ":").Replace(c.says), ": ")
				assert.Contains(t, r.Out, file+line+": "+message)
			}
		})
	}
	assert.Equal(t, "0", s.Query("SELECT count(*)::text FROM jorvex.inputs"), "nothing was recorded")
}

func TestOnlyAllowedPlaces(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	for _, dir := range []string{"/etc", s.Share + "/../elsewhere", "relative"} {
		r := s.Run("place", "add", "other", dir)
		assert.Equal(t, client.Failed, r.Code, dir)
		assert.Regexp(t, "is not allowed|is no absolute path", r.Err)
	}
	assert.Contains(t, s.Run("place", "add", "Bad Name", s.Share).Err, "cannot name a place")
	s.Must("place", "add", "share", s.Share)
	assert.Contains(t, s.Run("place", "add", "share", s.Share).Err, `there is a place "share" already`)
}

func TestTwoEditorsAndTwoOwners(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Definition(loadings)
	read, err := s.API.GetInputWithResponse(t.Context(), "loadings")
	require.NoError(t, err)
	tag := read.HTTPResponse.Header.Get("ETag")
	save := func(text string) *api.SaveInputResponse {
		answer, err := s.API.SaveInputWithResponse(t.Context(), "loadings", &api.SaveInputParams{IfMatch: tag}, api.DefinitionText{Definition: text})
		require.NoError(t, err)
		return answer
	}
	assert.Equal(t, http.StatusOK, save(loadings+"title: First\n").StatusCode())
	second := save(loadings + "title: Second\n")
	assert.Equal(t, http.StatusPreconditionFailed, second.StatusCode())
	assert.Contains(t, second.ApplicationproblemJSONDefault.Detail, "loadings is at version 2, saved by local")
	assert.Contains(t, s.Must("input", "show", "loadings"), "title: First")

	file := filepath.Join(t.TempDir(), "definition.yaml")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(loadings, "input: loadings", "input: other", 1)), 0o644))
	assert.Contains(t, s.Run("input", "add", file).Err, "the file loadings.csv is delivered by the input loadings already")
	s.Exec("CREATE TABLE delivered.theirs (x int)")
	require.NoError(t, os.WriteFile(file, []byte("input: other\nplace: share\npick: [x]\ncolumns: [{name: a}]\ndeliver: [{table: theirs}]\n"), 0o644))
	assert.Contains(t, s.Run("input", "add", file).Err, "was not delivered by Jorvex; it is left alone")
}

// Whatever is wrong with a file, it is told of that file, in words, and the
// service and what it recorded go on.
func TestBadFilesAreTold(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ content, says string }{
		"no wanted column": {table("one,two", "1,2"), "no row holds the declared headers"},
		"no required one":  {table("saling,passengers", "SK1,2"), `a required column is not in the header: sailing has none of "sailing"; the nearest is "saling"`},
		"empty":            {"", "the file is empty"},
		"binary":           {"\x7fELF\x00\x00\x01\x00", "it is neither text nor"},
		"a NUL":            {header + "\nSK1,1\x00,1\n", "NUL bytes: the first is at offset"},
		"an open quote":    {header + "\n\"SK1,10,1\n", "the quote opened in row 2"},
		"two encodings":    {header + "\nSKé\xe9,10,1\n", "byte 0xE9 at offset 35"},
	} {
		t.Run(name, func(t *testing.T) {
			s := testkit.Start(t, testkit.Options{})
			s.Write("loadings/Eskvik/loadings 2026-10-05.csv", c.content)
			s.Definition(loadings)
			assert.Contains(t, s.Must("files", "loadings", "-state", "broken"), c.says)
			r := s.Run("refresh", "loadings")
			assert.Equal(t, client.GateStopped, r.Code)
			assert.Contains(t, r.Err, "loadings/Eskvik/loadings 2026-10-05.csv cannot be used")
			assert.Contains(t, r.Err, c.says)
			s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
			s.Must("refresh", "loadings")
		})
	}
}

func TestNothingPicked(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Definition(loadings)
	r := s.Run("refresh", "loadings")
	assert.Equal(t, client.GateStopped, r.Code)
	assert.Contains(t, r.Err, "no file is picked")
}

// A view on a delivered table keeps it from being replaced: the refresh fails
// with the reason, and the last delivery is whole.
func TestDependentViewKeepsTheTable(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	s.Exec("CREATE ROLE reader; GRANT SELECT ON delivered.loadings TO reader")
	s.Must("refresh", "loadings")
	assert.Equal(t, "true", s.Query("SELECT has_table_privilege('reader', 'delivered.loadings', 'SELECT')::text"), "grants are kept")
	s.Exec("CREATE VIEW delivered.theirs AS SELECT * FROM delivered.loadings")
	s.Write("loadings/Eskvik/loadings 2026-10-06.csv", table(header, "SK2,10,1"))
	file := s.Delivered("loadings.csv")
	r := s.Run("refresh", "loadings")
	assert.Equal(t, client.Failed, r.Code)
	assert.Contains(t, r.Err, "the table delivered.loadings cannot be replaced: other objects depend on it")
	assert.Equal(t, "1", s.Query("SELECT count(*)::text FROM delivered.loadings"))
	assert.Equal(t, file, s.Delivered("loadings.csv"), "none of the deliveries was made")
	assert.Equal(t, "0", s.Query("SELECT count(*)::text FROM pg_tables WHERE tablename LIKE 'jorvex_staged%'"))
	left, err := filepath.Glob(filepath.Join(s.Data, "deliveries", ".jorvex-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What Jorvex delivers among the sources is never picked.
func TestOwnDeliveryAmongTheSources(t *testing.T) {
	share := filepath.Join(t.TempDir(), "share")
	require.NoError(t, os.MkdirAll(share, 0o755))
	s := testkit.Start(t, testkit.Options{Data: t.TempDir(), Share: share, URL: testkit.Database(t), Deliveries: filepath.Join(share, "loadings")})
	s.Write("loadings/a.csv", table("sailing", "SK1"))
	s.Definition("input: own\nplace: share\nfolder: loadings\npick: [\"*.csv\"]\ncolumns: [{name: sailing, required: true}]\ndeliver: [{file: combined.csv}]\n")
	s.Must("refresh", "own")
	s.Must("look")
	assert.Equal(t, map[string]string{"loadings/a.csv": "picked same", "loadings/combined.csv": "left_out"}, states(t, s, "own"))
	assert.Contains(t, s.Must("why", "own", "combined.csv"), "a delivery of Jorvex lies here")
	assert.Regexp(t, `rows +1 +0`, s.Must("refresh", "own"))
}

func TestWrongUse(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"nonsense", client.WrongUse, `there is no command "nonsense"`},
		{"files", client.WrongUse, "write: jorvex files INPUT"},
		{"files x -colour red", client.WrongUse, "flag provided but not defined: -colour"},
		{"files nothing", client.NotFound, `there is no input "nothing"`},
		{"files nothing -state red", client.Failed, `parameter "state" in query`},
		{"place show nothing", client.NotFound, `there is no place "nothing"`},
		{"place drop it", client.WrongUse, "write: jorvex place list"},
		{"look nothing", client.NotFound, `there is no place "nothing"`},
		{"receipt 7", client.NotFound, `there is no receipt "7"`},
		{"receipt x", client.WrongUse, "is no receipt's number"},
		{"refreshes nothing", client.NotFound, `there is no input "nothing"`},
		{"check-definition nothing.yaml", client.Failed, "the definition cannot be read"},
		{"verify -server http://127.0.0.1:1", client.CannotReach, "the service cannot be reached"},
		{"verify -server " + s.Base + "/console", client.Failed, "the service answered something else: <!doctype html>"},
		{"verify -token wrong", client.Failed, "carries no valid token"},
		{"verify -data /nowhere", client.CannotReach, "no service runs here"},
	} {
		r := s.Run(strings.Fields(c.args)...)
		assert.Equal(t, c.code, r.Code, c.args)
		assert.Contains(t, r.Err, c.says, c.args)
	}
	for _, command := range client.Commands() {
		r := s.Run(command.Name, "-h")
		assert.Equal(t, client.Done, r.Code, command.Name)
		assert.Regexp(t, "Example: jorvex .*"+command.Name, r.Out)
	}
}
