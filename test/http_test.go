package test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
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

// ask makes a request with some headers and returns status, headers and body.
func ask(t *testing.T, method, url string, headers ...string) (*http.Response, string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), method, url, nil)
	require.NoError(t, err)
	for i := 0; i < len(headers); i += 2 {
		if headers[i] == "Host" {
			request.Host = headers[i+1]
		}
		request.Header.Set(headers[i], headers[i+1])
	}
	response, err := http.DefaultTransport.RoundTrip(request)
	require.NoError(t, err)
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response, string(body)
}

func bearer(t *testing.T, s *testkit.Service) string {
	t.Helper()
	token, err := os.ReadFile(filepath.Join(s.Data, "token"))
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(s.Data, "token"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	return "Bearer " + strings.TrimSpace(string(token))
}

func TestAccess(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	token := bearer(t, s)
	inputs := s.Base + "/api/v1/inputs"
	for _, c := range []struct {
		what    string
		url     string
		headers []string
		status  int
	}{
		{"health needs no token", s.Base + "/health", nil, 200},
		{"nothing", inputs, nil, 401},
		{"a wrong token", inputs, []string{"Authorization", "Bearer x"}, 401},
		{"the token", inputs, []string{"Authorization", token}, 200},
		{"a wrong session", inputs, []string{"Cookie", "jorvex_session=x"}, 401},
		{"another host", inputs, []string{"Authorization", token, "Host", "evil.example"}, 403},
		{"another origin", inputs, []string{"Authorization", token, "Origin", "http://evil.example"}, 403},
		{"its own origin", inputs, []string{"Authorization", token, "Origin", s.Base}, 200},
		{"the contract", s.Base + "/api/v1/openapi.json", []string{"Authorization", token}, 200},
		{"the schema", s.Base + "/api/v1/definition-schema.json", []string{"Authorization", token}, 200},
		{"the contract needs a token", s.Base + "/api/v1/openapi.json", nil, 401},
		{"no such route", s.Base + "/api/v1/nothing", []string{"Authorization", token}, 404},
	} {
		response, body := ask(t, "GET", c.url, c.headers...)
		assert.Equal(t, c.status, response.StatusCode, c.what)
		if c.status >= 400 {
			assert.Equal(t, "application/problem+json", response.Header.Get("Content-Type"), c.what)
			var p api.Problem
			require.NoError(t, json.Unmarshal([]byte(body), &p))
			assert.Equal(t, c.status, p.Status)
			assert.True(t, strings.HasPrefix(p.Type, "urn:jorvex:problem:"), p.Type)
		}
	}
	response, _ := ask(t, "DELETE", inputs, "Authorization", token)
	assert.Equal(t, 405, response.StatusCode)
}

func TestSignInLinkWorksOnce(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	link := strings.TrimSpace(s.Must("sign-in"))
	require.True(t, strings.HasPrefix(link, s.Base+"/sign-in?code="), link)
	response, _ := ask(t, "GET", link)
	require.Equal(t, 200, response.StatusCode)
	cookie := response.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	response, _ = ask(t, "GET", s.Base+"/api/v1/inputs", "Cookie", cookie.Name+"="+cookie.Value)
	assert.Equal(t, 200, response.StatusCode)
	response, _ = ask(t, "GET", link)
	assert.Equal(t, 403, response.StatusCode)

	// The session outlives the service.
	s.Stop()
	again := testkit.Start(t, testkit.Options{Data: s.Data, Share: s.Share, URL: s.URL})
	response, _ = ask(t, "GET", again.Base+"/api/v1/inputs", "Cookie", cookie.Name+"="+cookie.Value)
	assert.Equal(t, 200, response.StatusCode)
}

func TestPages(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	want := []string{}
	for i := range 25 {
		path := fmt.Sprintf("loadings/berth %d/loadings 2026-10-05.csv", i)
		want = append(want, path)
		s.Write(path, table(header, "SK1,10,1"))
		s.Write(fmt.Sprintf("loadings/berth %d/notes.txt", i), "x")
	}
	s.Write("Loadings/berth 3/other letter case.csv", "x")
	s.Definition(loadings)
	pages := func(verdict api.Verdict, reason string) (paths []string) {
		var cursor *api.Cursor
		for {
			limit := 4
			params := &api.ListFilesParams{Limit: &limit, Cursor: cursor}
			if verdict != "" {
				params.Verdict = &verdict
			}
			if reason != "" {
				params.Reason = &reason
			}
			answer, err := s.API.ListFilesWithResponse(t.Context(), "loadings", params)
			require.NoError(t, err)
			require.NotNil(t, answer.JSON200, string(answer.Body))
			for _, f := range answer.JSON200.Items {
				paths = append(paths, f.Path)
			}
			if answer.JSON200.Next == "" {
				return paths
			}
			cursor = &answer.JSON200.Next
		}
	}
	assert.Equal(t, want, pages(api.VerdictPicked, ""), "in natural order, each once")
	assert.Len(t, pages("", ""), 50)
	assert.Len(t, pages(api.VerdictLeftOut, ""), 25)
	assert.Len(t, pages("", "no_pattern"), 25)
	assert.Len(t, pages("", "scratch_file"), 0)

	s.Must("refresh", "loadings")
	limit, cursor, seen := 10, (*api.Cursor)(nil), []string{}
	for {
		answer, err := s.API.ListReceiptFilesWithResponse(t.Context(), 1, &api.ListReceiptFilesParams{Limit: &limit, Cursor: cursor})
		require.NoError(t, err)
		for _, f := range answer.JSON200.Items {
			seen = append(seen, f.Path)
		}
		if answer.JSON200.Next == "" {
			break
		}
		cursor = &answer.JSON200.Next
	}
	assert.Equal(t, want, seen)

	bad := "not a cursor"
	answer, err := s.API.ListFilesWithResponse(t.Context(), "loadings", &api.ListFilesParams{Cursor: &bad})
	require.NoError(t, err)
	assert.Equal(t, http.StatusBadRequest, answer.StatusCode())
}

// events reads a stream of events into a channel until the test ends.
func events(t *testing.T, s *testkit.Service, last string) <-chan string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	request, err := http.NewRequestWithContext(ctx, "GET", s.Base+"/api/v1/events", nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", bearer(t, s))
	if last != "" {
		request.Header.Set("Last-Event-ID", last)
	}
	response, err := http.DefaultTransport.RoundTrip(request)
	require.NoError(t, err)
	lines := make(chan string, 1000)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for scanner := bufio.NewScanner(response.Body); scanner.Scan(); {
			lines <- scanner.Text()
		}
		close(lines)
	}()
	t.Cleanup(func() { cancel(); response.Body.Close(); <-done })
	return lines
}

// wait reads lines until one contains text, and returns the last id before it.
func wait(t *testing.T, lines <-chan string, text string) (id string) {
	t.Helper()
	for line := range lines {
		if after, ok := strings.CutPrefix(line, "id: "); ok {
			id = after
		}
		if strings.Contains(line, text) {
			return id
		}
	}
	t.Fatalf("no event with %q came", text)
	return ""
}

func TestLiveEvents(t *testing.T) {
	s := testkit.Start(t, testkit.Options{Interval: 100 * time.Millisecond})
	s.Definition(loadings)
	lines := events(t, s, "")
	wait(t, lines, "listening")
	// Nobody asks for a look: the timer finds the file.
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	id := wait(t, lines, `"new":1`)
	s.Must("refresh", "loadings")
	wait(t, lines, `"outcome":"delivered"`)
	// Another listener that saw only the look catches up.
	wait(t, events(t, s, id), `"outcome":"delivered"`)
	// One from another run is told to read everything anew.
	wait(t, events(t, s, "other-1"), "event: reset")
}

// Any number of requests for the same refresh: one runs, one waits.
func TestRequestsJoinTheWaitingRefresh(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	for i := range 60 {
		s.Write(fmt.Sprintf("loadings/Eskvik/loadings 20%02d-10-05.csv", i+10), table(header, strings.Repeat("SK1,10,1\n", 2000)+"SK2,1,1"))
	}
	s.Definition(loadings)
	ids := map[int64]bool{}
	for range 20 {
		answer, err := s.API.CreateRefreshWithResponse(t.Context(), "loadings", api.RefreshRequest{})
		require.NoError(t, err)
		require.NotNil(t, answer.JSON202)
		ids[answer.JSON202.Id] = true
	}
	assert.Less(t, len(ids), 20)
	for id := range ids {
		require.Eventually(t, func() bool {
			answer, err := s.API.GetRefreshWithResponse(t.Context(), id)
			return err == nil && answer.JSON200 != nil && answer.JSON200.Outcome == api.OutcomeDelivered
		}, 2*time.Minute, 20*time.Millisecond)
	}
	assert.Equal(t, fmt.Sprint(len(ids)), s.Query("SELECT max(number)::text FROM jorvex.receipts"))
}

// The console is one document for all its pages, needs no token itself, and may
// load nothing from elsewhere.
func TestConsoleIsServed(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	var index string
	for _, path := range []string{"/", "/inputs/daily-loadings?state=new", "/receipts/1", "/index.html"} {
		response, body := ask(t, "GET", s.Base+path)
		assert.Equal(t, 200, response.StatusCode, path)
		assert.Equal(t, "text/html; charset=utf-8", response.Header.Get("Content-Type"), path)
		assert.Equal(t, "no-cache", response.Header.Get("Cache-Control"), path)
		assert.Contains(t, response.Header.Get("Content-Security-Policy"), "default-src 'self'", path)
		if index == "" {
			index = body
		}
		assert.Equal(t, index, body, path)
	}
	for _, asset := range regexp.MustCompile(`/assets/[^"]+`).FindAllString(index, -1) {
		response, body := ask(t, "GET", s.Base+asset)
		assert.Equal(t, 200, response.StatusCode, asset)
		assert.Contains(t, response.Header.Get("Cache-Control"), "immutable", asset)
		assert.NotEmpty(t, body)
		assert.NotContains(t, body, `src="http`)
	}
	for _, path := range []string{"/../../etc/passwd", "/assets/../../go.mod", "/%2e%2e/%2e%2e/etc/passwd"} {
		response, body := ask(t, "GET", s.Base+path)
		assert.NotContains(t, body, "root:", path)
		assert.NotContains(t, body, "module jorvex", path)
		assert.Less(t, response.StatusCode, 500)
	}
}
