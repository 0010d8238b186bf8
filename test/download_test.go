package test

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/testkit"
)

// A download has an ETag that changes with its content, and with nothing else.
func TestDownload(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-01.csv", table(header, "E1,10,1.5", "E2,20,2.5"))
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	get := func(params api.GetTableContentParams) (int, string, string) {
		answer, err := s.API.GetTableContent(t.Context(), "loadings", &params)
		require.NoError(t, err)
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		if answer.StatusCode == http.StatusOK {
			assert.Equal(t, `attachment; filename="loadings.csv"`, answer.Header.Get("Content-Disposition"))
			assert.True(t, strings.HasPrefix(answer.Header.Get("Content-Type"), "text/csv"))
		}
		return answer.StatusCode, answer.Header.Get("ETag"), string(body)
	}
	code, tag, body := get(api.GetTableContentParams{})
	assert.Equal(t, http.StatusOK, code)
	assert.Equal(t, s.Delivered("loadings.csv"), body)
	code, again, body := get(api.GetTableContentParams{IfNoneMatch: tag})
	assert.Equal(t, []any{http.StatusNotModified, tag, ""}, []any{code, again, body})

	s.Must("refresh", "loadings")
	code, _, _ = get(api.GetTableContentParams{IfNoneMatch: tag})
	assert.Equal(t, http.StatusNotModified, code, "another receipt, the same rows")
	_, filtered, _ := get(api.GetTableContentParams{Where: "passengers above 10"})
	assert.NotEqual(t, tag, filtered)

	s.Write("loadings/Eskvik/loadings 2026-10-01.csv", table(header, "E1,10,1.5", "E2,21,2.5"))
	s.Must("refresh", "loadings")
	code, newer, body := get(api.GetTableContentParams{IfNoneMatch: tag})
	assert.Equal(t, http.StatusOK, code)
	assert.NotEqual(t, tag, newer)
	assert.Contains(t, body, "E2,21,2.5")

	// So has a page of the rows.
	page, err := s.API.GetTableWithResponse(t.Context(), "loadings", &api.GetTableParams{Limit: 1})
	require.NoError(t, err)
	require.NotNil(t, page.JSON200)
	same, err := s.API.GetTableWithResponse(t.Context(), "loadings", &api.GetTableParams{Limit: 1, IfNoneMatch: page.HTTPResponse.Header.Get("ETag")})
	require.NoError(t, err)
	assert.Equal(t, http.StatusNotModified, same.StatusCode())
	next, err := s.API.GetTableWithResponse(t.Context(), "loadings", &api.GetTableParams{Limit: 1, Cursor: page.JSON200.Next, IfNoneMatch: page.HTTPResponse.Header.Get("ETag")})
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, next.StatusCode())

	// A file is written whole or not at all.
	out := filepath.Join(t.TempDir(), "rows.csv")
	s.Must("export", "loadings", "-o", out)
	content, err := os.ReadFile(out)
	require.NoError(t, err)
	assert.Equal(t, body, string(content))
	assert.NotEqual(t, 0, s.Run("export", "loadings", "-o", filepath.Join(t.TempDir(), "none", "rows.csv")).Code)
}
