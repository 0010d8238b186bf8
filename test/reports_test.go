package test

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/client"
	"jorvex/internal/testkit"
)

const monday = `report: monday
title: Every Monday
inputs: [loadings]
`

// A report is shown, edited and saved by two people: the second is told, and nothing
// of the first one's is lost.
func TestReportsAreEdited(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-01.csv", table(header, "E1,10,1.5"))
	s.Definition(loadings)
	assert.Equal(t, "monday saved as version 1: loadings\n", s.Must("report", "add", definitionFile(t, monday)))
	shown := s.Must("report", "show", "monday")
	require.Equal(t, "# monday, version 1\n"+monday, shown)

	mine := definitionFile(t, strings.Replace(shown, "Every Monday", "Mine", 1)+"refresh: {cron: \"0 6 * * mon\"}\n")
	saved := s.Must("report", "save", mine)
	assert.Contains(t, saved, "monday saved as version 2: loadings\nrefreshed next at ")
	theirs := s.Run("report", "save", definitionFile(t, strings.Replace(shown, "Every Monday", "Theirs", 1)))
	assert.Equal(t, client.Failed, theirs.Code)
	assert.Contains(t, theirs.Err, "version 1 is not the newest of monday; show the newest and edit that: jorvex report show monday")
	assert.Contains(t, s.Must("report", "show", "monday"), "title: Mine")

	for _, c := range []struct {
		args       []string
		definition string
		code       int
		says       string
	}{
		{[]string{"save"}, monday, client.Failed, "does not say which version it was made from; add -over VERSION"},
		{[]string{"save", "-over", "two"}, monday, client.Failed, "add -over VERSION"},
		{[]string{"save", "-over", "2"}, "report: monday\ninputs: [loadings]\ncolour: red\n", client.Failed, "the definition is not valid:\nline 3"},
		{[]string{"save", "-over", "1"}, strings.Replace(monday, "report: monday", "report: tuesday", 1), client.NotFound, "tuesday"},
		{[]string{"save", "-over", "2"}, strings.Replace(monday, "[loadings]", "[loadings, sailings]", 1), client.NotFound, "sailings"},
		{[]string{"add"}, monday, client.Failed, "monday"},
		{[]string{"add"}, strings.Replace(monday, "report: monday", "report: loadings", 1), client.Failed, "an input"},
	} {
		r := s.Run(append(append([]string{"report"}, c.args...), definitionFile(t, c.definition))...)
		assert.Equal(t, c.code, r.Code, "%s\n%s", c.args, c.definition)
		assert.Contains(t, r.Err, c.says, "%s\n%s", c.args, c.definition)
		assert.Empty(t, r.Out)
	}
	var kept api.Report
	require.NoError(t, json.Unmarshal([]byte(s.Must("report", "save", "-over", "2", "-json", definitionFile(t, monday))), &kept))
	assert.Equal(t, "monday 3 Every Monday [loadings]", fmt.Sprint(kept.Name, " ", kept.Version, " ", kept.Title, " ", kept.Inputs))
	assert.Zero(t, kept.NextRefresh, "its schedule is gone with the text")
	assert.Equal(t, "report,inputs,next_refresh,title\nmonday,loadings,,Every Monday\n", s.Must("report", "list", "-csv"))
	assert.Equal(t, client.NotFound, s.Run("report", "show", "friday").Code)
	assert.Contains(t, s.Must("refresh", "monday"), "receipt 1")
}

// contents reads the files below a directory.
func contents(t *testing.T, dir string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, fs.WalkDir(os.DirFS(dir), ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := os.ReadFile(filepath.Join(dir, path))
		files[path] = string(content)
		return err
	}))
	return files
}

// Colleagues are at work on the demo's files while somebody watches, and put back what
// they took when they are told to stop.
func TestDemoIsPlayed(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{Events: true})
	dir := filepath.Dir(s.Share)
	require.NoError(t, os.Remove(s.Share))
	s.Must("demo", "-dir", dir, "-end", "2026-10-09", "-history", "0")
	share := s.Share
	before := contents(t, share)
	require.NotEmpty(t, before)

	begin := func(args ...string) (out *lockedText, stop func() int) {
		ctx, cancel := context.WithCancel(t.Context())
		out = &lockedText{}
		ended := make(chan int, 1)
		env := client.Env{Stdout: out, Stderr: out, Version: "test", Getenv: func(name string) string {
			return map[string]string{"JORVEX_DATA": s.Data}[name]
		}}
		go func() { ended <- client.Main(ctx, env, args) }()
		stop = sync.OnceValue(func() int { cancel(); return <-ended })
		t.Cleanup(func() { stop() })
		return out, stop
	}
	watched, stopWatching := begin("watch", "daily-loadings")
	played, stopPlaying := begin("demo", "-dir", dir, "-history", "0", "-play", "-every", "100ms")
	require.Eventually(t, func() bool {
		return strings.Count(played.String(), "\n") > 12 && strings.Contains(watched.String(), "daily-loadings: ")
	}, 60*time.Second, 20*time.Millisecond, "%s", played)
	assert.Equal(t, client.Done, stopPlaying(), "%s", played)
	assert.Contains(t, played.String(), "colleagues are at work; watch with: jorvex watch\n")
	assert.Contains(t, played.String(), "they put back what they took away or broke\n")
	assert.Equal(t, client.Done, stopWatching(), "%s", watched)
	after := contents(t, share)
	for path := range before {
		assert.Contains(t, after, path, "%s", played)
	}

	wrong := s.Run("demo", "-play", "-every", "1ms")
	assert.Equal(t, client.WrongUse, wrong.Code)
	assert.Contains(t, wrong.Err, "-every is at least 100ms")
	wrong = s.Run("demo", "-end", "20.11.2026")
	assert.Contains(t, wrong.Err, `-end: "20.11.2026" is no day; write it as 2026-11-20`)
}
