package deliver_test

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/shaping"
	"jorvex/internal/deliver"
	"jorvex/internal/records"
	"jorvex/internal/testkit"
)

func TestMain(m *testing.M) { os.Exit(testkit.Main(m)) }

var columns = []definition.Column{{Name: "note", Type: definition.Text}, {Name: "n", Type: definition.Whole}, {Name: "t", Type: definition.Decimal}, {Name: "d", Type: definition.Date}}

// odd values that must come through every delivery as they are.
var odd = []string{"plain", "a,b", `say "hi"`, "two\nlines", "tab\there", `\.`, `\N`, `back\slash`, "'; DROP TABLE x", "ünïcode", " spaces "}

// plain is delimited text as it is delivered unless more is said.
var plain = definition.Delivery{File: "notes.csv", Format: definition.Delimited}

func newTable(name string, refresh int64) *deliver.Table {
	return deliver.NewTable(definition.Delivery{Table: name}, refresh, 0, deliver.Before{})
}

// file is a file of a combined table: its path, and its rows, already written.
type file struct {
	path    string
	rows    int64
	content string
	entries []definition.Listed
}

// tableOf makes a combined table of files.
func tableOf(columns []definition.Column, files ...file) deliver.Combined {
	sources := make([]*deliver.Source, len(files))
	for i, f := range files {
		sources[i] = &deliver.Source{Path: f.path, Rows: f.rows, Size: int64(len(f.content)), Modified: time.Date(2026, 10, 5, 6, 7, 8, 0, time.UTC), Digest: "d" + f.content, Part: "p" + f.content, Entries: f.entries,
			Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("bytes of " + f.path)), nil }}
	}
	return deliver.Combined{Columns: columns, AsOf: time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC), Root: "/share", Parts: func(each func(*deliver.Source, io.Reader) error) error {
		for i, f := range files {
			if err := each(sources[i], strings.NewReader(f.content)); err != nil {
				return err
			}
		}
		return nil
	}}
}

// combined makes a table of two parts out of the values.
func combined(t *testing.T, values []string) deliver.Combined {
	t.Helper()
	var files []file
	for i, half := range [][]string{values[:len(values)/2], values[len(values)/2:]} {
		var b strings.Builder
		w := shaping.NewWriter(&b)
		for _, v := range half {
			w.Text([]byte(v))
			w.Plain([]byte("-7"))
			w.Plain([]byte("1.50"))
			if i == 0 {
				w.Null()
			} else {
				w.Plain([]byte("2026-10-05"))
			}
			require.NoError(t, w.EndRow())
		}
		require.NoError(t, w.Flush())
		files = append(files, file{path: fmt.Sprintf("half %d.csv", i), rows: int64(len(half)), content: b.String()})
	}
	return tableOf(columns, files...)
}

func TestFile(t *testing.T) {
	dir := t.TempDir()
	folder, err := deliver.OpenFolder(dir)
	require.NoError(t, err)
	defer folder.Close()
	name := "weekly/notes.csv"
	staged := deliver.StagedName(7, name)
	got, err := folder.Stage(staged, plain, combined(t, odd))
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(dir, name))
	require.NoError(t, folder.Put(staged, name))
	require.NoError(t, folder.Put(staged, name), "once more, as after a crash")
	assert.Error(t, folder.Put("weekly/.jorvex-8-other.csv", "weekly/other.csv"))

	content, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	assert.Equal(t, got.Bytes, int64(len(content)))
	rows, err := csv.NewReader(strings.NewReader(string(content))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"note", "n", "t", "d"}, rows[0])
	for i, row := range rows[1:] {
		assert.Equal(t, odd[i], row[0])
	}

	again, err := folder.Stage(staged, plain, combined(t, odd))
	require.NoError(t, err)
	assert.Equal(t, got, again, "the same rows, the same bytes")
	other, err := folder.Stage("weekly/.jorvex-9-notes.csv", plain, combined(t, odd[1:]))
	require.NoError(t, err)
	assert.NotEqual(t, got.Digest, other.Digest)
	require.NoError(t, folder.Clear(map[string]bool{staged: true}))
	assert.FileExists(t, filepath.Join(dir, staged))
	assert.NoFileExists(t, filepath.Join(dir, "weekly/.jorvex-9-notes.csv"))
	assert.FileExists(t, filepath.Join(dir, name))
}

func TestFileNeverLeavesItsFolder(t *testing.T) {
	base := t.TempDir()
	folder, err := deliver.OpenFolder(filepath.Join(base, "deliveries"))
	require.NoError(t, err)
	defer folder.Close()
	require.NoError(t, os.Symlink(base, filepath.Join(base, "deliveries", "out")))
	for _, name := range []string{"../x.csv", "out/x.csv", "/tmp/x.csv"} {
		_, err := folder.Stage(name, plain, combined(t, odd))
		assert.Error(t, err, name)
	}
	assert.NoFileExists(t, filepath.Join(base, "x.csv"))
}

func TestFailureWhileReadingIsPassedOn(t *testing.T) {
	folder, err := deliver.OpenFolder(t.TempDir())
	require.NoError(t, err)
	defer folder.Close()
	gone := errors.New("a part is gone")
	broken := deliver.Combined{Columns: columns, Parts: func(func(*deliver.Source, io.Reader) error) error { return gone }}
	_, err = folder.Stage(".jorvex-1-x.csv", plain, broken)
	assert.ErrorIs(t, err, gone)

	store, err := records.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer store.Close()
	table := newTable("x", 1)
	_, err = table.Stage(t.Context(), store.Pool, broken)
	assert.ErrorIs(t, err, gone)
	_, err = table.Stage(t.Context(), store.Pool, combined(t, odd))
	assert.NoError(t, err, "the connection serves on")
}

func TestTable(t *testing.T) {
	store, err := records.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer store.Close()
	publish := func(table *deliver.Table) error {
		return store.Tx(t.Context(), func(tx pgx.Tx) error { return table.Publish(t.Context(), tx) })
	}
	first := newTable("notes", 1)
	require.NoError(t, first.Check(t.Context(), store.Pool))
	staged, err := first.Stage(t.Context(), store.Pool, combined(t, odd))
	require.NoError(t, err)
	assert.Equal(t, int64(len(odd)), staged.Rows)
	require.NoError(t, publish(first))

	rows, err := store.Pool.Query(t.Context(), "SELECT note FROM delivered.notes WHERE n = -7 AND t = 1.50 ORDER BY ctid")
	require.NoError(t, err)
	notes, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	assert.Equal(t, odd, notes)
	var blank, dated int
	require.NoError(t, store.Pool.QueryRow(t.Context(), "SELECT count(*) FILTER (WHERE d IS NULL), count(*) FILTER (WHERE d = '2026-10-05') FROM delivered.notes").Scan(&blank, &dated))
	assert.Equal(t, []int{len(odd) / 2, len(odd) - len(odd)/2}, []int{blank, dated})

	// A transaction that is rolled back leaves the table before.
	second := newTable("notes", 2)
	_, err = second.Stage(t.Context(), store.Pool, combined(t, odd[:4]))
	require.NoError(t, err)
	rolledBack := errors.New("rolled back")
	assert.ErrorIs(t, store.Tx(t.Context(), func(tx pgx.Tx) error {
		require.NoError(t, second.Publish(t.Context(), tx))
		return rolledBack
	}), rolledBack)
	var count int
	require.NoError(t, store.Pool.QueryRow(t.Context(), "SELECT count(*) FROM delivered.notes").Scan(&count))
	assert.Equal(t, len(odd), count)

	// While somebody holds it locked, the refresh is told so in seconds.
	holder, err := store.Pool.Begin(t.Context())
	require.NoError(t, err)
	_, err = holder.Exec(t.Context(), "LOCK TABLE delivered.notes IN ACCESS SHARE MODE")
	require.NoError(t, err)
	var inUse *deliver.InUse
	require.ErrorAs(t, publish(second), &inUse)
	assert.Contains(t, inUse.Error(), "another session holds it locked")
	require.NoError(t, holder.Rollback(t.Context()))
	require.NoError(t, publish(second))
	require.NoError(t, store.Pool.QueryRow(t.Context(), "SELECT count(*) FROM delivered.notes").Scan(&count))
	assert.Equal(t, 4, count)

	left := newTable("left", 3)
	_, err = left.Stage(t.Context(), store.Pool, combined(t, odd))
	require.NoError(t, err)
	require.NoError(t, deliver.ClearStaged(t.Context(), store.Pool))
	require.NoError(t, store.Pool.QueryRow(t.Context(), "SELECT count(*) FROM pg_tables WHERE schemaname = 'delivered'").Scan(&count))
	assert.Equal(t, 1, count)

	_, err = store.Pool.Exec(t.Context(), "CREATE VIEW delivered.theirs AS SELECT 1 AS x")
	require.NoError(t, err)
	var notOurs *deliver.NotOurs
	assert.ErrorAs(t, newTable("theirs", 4).Check(t.Context(), store.Pool), &notOurs)
}

func TestTableDigest(t *testing.T) {
	one := deliver.TableDigest(columns, []string{"aa", "bb"})
	assert.Equal(t, one, deliver.TableDigest(columns, []string{"aa", "bb"}))
	assert.NotEqual(t, one, deliver.TableDigest(columns, []string{"bb", "aa"}))
	assert.NotEqual(t, one, deliver.TableDigest(columns[1:], []string{"aa", "bb"}))
}
