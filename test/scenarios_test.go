package test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/testkit"
)

// Each file of testdata/scenarios is a story, told to a service of its own. A
// line is a step, the lines after it that begin with a mark belong to it:
//
//	write PATH       a file of the share, with the lines after | as its content
//	append PATH      the same, added at its end
//	remove PATH
//	there PATH       must be in the share
//	gone PATH        must not
//	define           adds an input; its definition follows
//	redefine INPUT   saves another definition of it
//	report           adds a report; its definition follows
//	report-fails     it is refused
//	jorvex COMMAND   arguments with blanks stand in single quotes
//	delivered NAME   reads a file from the delivery folder
//	absent NAME      it must not be there
//	place NAME       puts a file there, with its content
//	lose DIGEST      takes an object of the vault away
//	query SQL        its only value, of the service's database
//	run SQL
//	database NAME    makes another database, and a connection to it
//	query-in NAME SQL, run-in NAME SQL
//
//	= CODE           how a command exits, 0 if it is not said
//	> TEXT           must be in what came back
//	! TEXT           must not be
//	$NAME REGEXP     names what its group takes from it; $NAME in later steps stands for that
func TestScenarios(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("testdata/scenarios/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			(&story{t: t, s: testkit.Start(t, testkit.Options{}), file: file, names: map[string]string{}, others: map[string]*testkit.Service{}}).tell(string(text))
		})
	}
}

type story struct {
	t      *testing.T
	s      *testkit.Service
	file   string
	names  map[string]string
	others map[string]*testkit.Service // addresses of other databases
}

// step is a line with those that belong to it.
type step struct {
	at             string
	verb, rest     string
	content        []string
	code           string
	wants, refuses []string
	takes          [][2]string
}

func (s *story) tell(text string) {
	var steps []*step
	for i, line := range strings.Split(text, "\n") {
		mark, rest, _ := strings.Cut(strings.TrimLeft(line, " "), " ")
		if len(steps) == 0 && mark != "" && mark != "#" || mark != "" && !strings.ContainsAny(mark[:1], "=>!|$#") {
			verb, rest, _ := strings.Cut(line, " ")
			steps = append(steps, &step{at: fmt.Sprintf("%s:%d: %s", filepath.Base(s.file), i+1, line), verb: verb, rest: rest, code: "0"})
			continue
		}
		if mark == "" || mark == "#" {
			continue
		}
		last := steps[len(steps)-1]
		switch {
		case mark == "|":
			last.content = append(last.content, rest)
		case mark == "=":
			last.code = rest
		case mark == ">":
			last.wants = append(last.wants, rest)
		case mark == "!":
			last.refuses = append(last.refuses, rest)
		case mark[0] == '$':
			last.takes = append(last.takes, [2]string{mark, rest})
		}
	}
	for _, step := range steps {
		s.take(step)
		if s.t.Failed() {
			return
		}
	}
}

// named puts what was named into a text.
func (s *story) named(text string) string {
	for name, value := range s.names {
		text = strings.ReplaceAll(text, name, value)
	}
	return text
}

func (s *story) take(step *step) {
	content := s.named(strings.Join(step.content, "\n") + "\n")
	rest := s.named(step.rest)
	got, code := "", "0"
	switch step.verb {
	case "write":
		s.s.Write(rest, content)
	case "append":
		before, err := os.ReadFile(filepath.Join(s.s.Share, rest))
		require.NoError(s.t, err, step.at)
		s.s.Write(rest, string(before)+content)
	case "there":
		assert.FileExists(s.t, filepath.Join(s.s.Share, rest), step.at)
	case "gone":
		assert.NoFileExists(s.t, filepath.Join(s.s.Share, rest), step.at)
	case "remove":
		require.NoError(s.t, os.Remove(filepath.Join(s.s.Share, rest)), step.at)
	case "define":
		s.s.Definition(content)
	case "redefine":
		file := filepath.Join(s.t.TempDir(), "definition.yaml")
		require.NoError(s.t, os.WriteFile(file, []byte(content), 0o644))
		version := s.s.Query("SELECT version::text FROM inputs WHERE name = $1", rest)
		got = s.s.Must("input", "save", file, "-over", version)
	case "report", "report-fails":
		file := filepath.Join(s.t.TempDir(), "report.yaml")
		require.NoError(s.t, os.WriteFile(file, []byte(content), 0o644))
		r := s.s.Run("report", "add", file)
		got, code = r.Out+r.Err, fmt.Sprint(r.Code)
		if step.verb == "report-fails" {
			assert.NotEqual(s.t, "0", code, step.at)
			code = step.code
		}
	case "jorvex":
		r := s.s.Run(arguments(rest)...)
		got, code = r.Out+r.Err, fmt.Sprint(r.Code)
	case "delivered":
		got = s.s.Delivered(rest)
	case "absent":
		assert.NoFileExists(s.t, filepath.Join(s.s.Data, "deliveries", rest), step.at)
	case "place":
		testkit.WriteFile(s.t, filepath.Join(s.s.Data, "deliveries", rest), content)
	case "lose":
		require.NoError(s.t, os.Remove(filepath.Join(s.s.Data, "vault", rest[:2], rest[2:]+".zst")), step.at)
	case "query":
		got = s.s.Query(rest)
	case "run":
		s.s.Exec(rest)
	case "database":
		s.others[rest] = s.s.In(testkit.Database(s.t))
		s.s.Must("connection", "set", rest, "-url", s.others[rest].URL)
	case "query-in", "run-in":
		name, sql, _ := strings.Cut(rest, " ")
		if step.verb == "run-in" {
			s.others[name].Exec(sql)
		} else {
			got = s.others[name].Query(sql)
		}
	default:
		require.Fail(s.t, "no such step", step.at)
	}
	assert.Equal(s.t, step.code, code, "%s\n%s", step.at, got)
	plain := blanks.ReplaceAllString(strings.ReplaceAll(got, "\r\n", "\n"), " ")
	for _, want := range step.wants {
		assert.Contains(s.t, plain, blanks.ReplaceAllString(s.named(want), " "), "%s\n%s", step.at, got)
	}
	for _, not := range step.refuses {
		assert.NotContains(s.t, plain, s.named(not), "%s\n%s", step.at, got)
	}
	for _, take := range step.takes {
		m := regexp.MustCompile(take[1]).FindStringSubmatch(plain)
		require.Len(s.t, m, 2, "%s: %s in\n%s", step.at, take[1], plain)
		s.names[take[0]] = m[1]
	}
}

// blanks are compared as one: columns are as wide as their cells.
var blanks = regexp.MustCompile(" +")

// arguments splits a command at its blanks.
func arguments(command string) (list []string) {
	for i, part := range strings.Split(command, "'") {
		if i%2 == 1 {
			list = append(list, part)
		} else {
			list = append(list, strings.Fields(part)...)
		}
	}
	return list
}
