package client

import (
	"bytes"
	"context"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
)

// command runs a command against a server that answers what the test says.
func command(t *testing.T, ctx context.Context, server string, args ...string) (code int, out, errs string) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	env := Env{Stdout: &stdout, Stderr: &stderr, Version: "test", Getenv: func(name string) string {
		return map[string]string{"JORVEX_SERVER": server, "JORVEX_TOKEN": "secret"}[name]
	}}
	code = Main(ctx, env, args)
	return code, stdout.String(), stderr.String()
}

// Whatever a server answers, a command says what happened and ends with its code.
func TestAnswersThatAreNone(t *testing.T) {
	const problem, html = "application/problem+json", "text/html"
	export := []string{"export", "loadings", "-as", "delimited"}
	for _, c := range []struct {
		name   string
		args   []string
		ours   bool // whether the answer says that it is of the contract
		status int
		kind   string
		body   string
		code   int
		says   string
	}{
		{"another server's page", []string{"input", "list"}, false, 200, html, "<h1>It works</h1>", Failed, "the service answered something else: <h1>It works</h1>"},
		{"a proxy's page", []string{"input", "list"}, false, 502, html, "<h1>Bad gateway</h1>", Failed, "the service answered something else: <h1>Bad gateway</h1>"},
		{"another service's JSON", []string{"input", "list"}, false, 200, "application/json", `{"items":[]}`, Failed, `the service answered something else: {"items":[]}`},
		{"nothing", []string{"input", "list"}, false, 200, "", "", Failed, "the service answered something else"},
		{"JSON that is no problem", []string{"input", "list"}, true, 500, "application/json", `{"error":"x"}`, Failed, `the service answered something else: {"error":"x"}`},
		{"JSON that is cut off", []string{"input", "list"}, true, 200, "application/json", `{"items":[{"name":"a"`, Failed, "unexpected end of JSON input"},
		{"a problem", []string{"connection", "drop", "x"}, true, 409, problem, `{"status":409,"title":"In use","detail":"x is used","next":"drop its deliveries first"}`, Failed, "jorvex: x is used; drop its deliveries first\n"},
		{"what is not there", []string{"place", "show", "x"}, true, 404, problem, `{"status":404,"title":"Not found","detail":"there is no place x"}`, NotFound, "jorvex: there is no place x\n"},
		{"a problem with lines", []string{"place", "add", "x", "/x"}, true, 400, problem, `{"status":400,"title":"Not valid","detail":"2 problems","problems":[{"line":3,"column":5,"message":"a"},{"line":4,"column":1,"message":"b"}]}`, Failed,
			"jorvex: Not valid:\n  line 3, column 5: a\n  line 4, column 1: b\n"},
		{"a problem instead of a table", export, true, 404, problem, `{"status":404,"detail":"loadings was never delivered"}`, NotFound, "jorvex: loadings was never delivered\n"},
		{"a problem instead of events", []string{"watch"}, true, 401, problem, `{"status":401,"detail":"sign in"}`, Failed, "jorvex: sign in\n"},
		{"nothing, as it should be", []string{"connection", "drop", "x"}, true, 204, "", "", Done, ""},
		{"a table", export, true, 200, "text/csv", "a;b\n1;2\n", Done, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				assert.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
				w.Header().Set("Content-Type", c.kind)
				if c.ours {
					w.Header().Set(api.ContractHeader, "1")
				}
				w.WriteHeader(c.status)
				_, _ = w.Write([]byte(c.body))
			}))
			defer server.Close()
			code, out, errs := command(t, t.Context(), server.URL, c.args...)
			assert.Equal(t, c.code, code)
			assert.Contains(t, errs, c.says)
			if c.kind == "text/csv" {
				assert.Equal(t, c.body, out)
			}
		})
	}
}

func TestServiceThatGoesAway(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(api.ContractHeader, "1")
		w.Header().Set("Content-Length", "1000")
		if strings.HasSuffix(r.URL.Path, "/inputs") {
			w.WriteHeader(http.StatusBadGateway)
		}
		_, _ = w.Write([]byte("a;b\n"))
		_ = http.NewResponseController(w).Flush()
		panic(http.ErrAbortHandler)
	}))
	code, _, errs := command(t, t.Context(), server.URL, "input", "list")
	assert.Equal(t, CannotReach, code)
	assert.Contains(t, errs, "the answer broke off: unexpected EOF")

	name := filepath.Join(t.TempDir(), "out.csv")
	code, _, errs = command(t, t.Context(), server.URL, "export", "loadings", "-o", name)
	assert.Equal(t, Failed, code)
	assert.Contains(t, errs, "the export broke off: unexpected EOF; nothing was written")
	list, err := filepath.Glob(filepath.Join(filepath.Dir(name), "*"))
	require.NoError(t, err)
	assert.Empty(t, list)

	server.Close()
	code, _, errs = command(t, t.Context(), server.URL, "input", "list")
	assert.Equal(t, CannotReach, code)
	assert.Contains(t, errs, "the service cannot be reached")
	assert.Contains(t, errs, "is it running?")
	given, cancel := context.WithCancel(t.Context())
	cancel()
	code, _, errs = command(t, given, server.URL, "input", "list")
	assert.Equal(t, Failed, code)
	assert.Equal(t, "jorvex: given up\n", errs)
}

func TestWordsBeforeAnyCall(t *testing.T) {
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"replay", "x"}, `"x" is no receipt's number; jorvex refreshes lists them`},
		{[]string{"receipt", "0"}, `"0" is no receipt's number`},
		{[]string{"compare", "1", "0"}, `"0" is no receipt's number`},
		{[]string{"cancel", "1.5"}, `"1.5" is no refresh's number`},
		{[]string{"answer", "x", "go"}, `"x" is no refresh's number`},
		{[]string{"vault", "-all", "-days", "3"}, "keep all, or say how many; not both"},
		{[]string{"vault", "-yes"}, "say what is to be kept: -days, -count or -all"},
		{[]string{"export", "a", "-as", "clay"}, `no format is named "clay"`},
		{[]string{"report", "paint"}, "jorvex: write: jorvex report list | show NAME | add FILE | save FILE"},
	} {
		code, out, errs := command(t, t.Context(), "http://127.0.0.1:1", c.args...)
		assert.Equal(t, WrongUse, code, c.args)
		assert.Empty(t, out, c.args)
		assert.Contains(t, errs, c.says, c.args)
	}
}
