package refresh_test

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/schedule"
	"jorvex/internal/places"
	"jorvex/internal/records"
	"jorvex/internal/refresh"
	"jorvex/internal/testkit"
	"jorvex/internal/vault"
)

func TestMain(m *testing.M) { os.Exit(testkit.Main(m)) }

var now = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)

// runner is a runner on a database and a vault of its own.
func runner(t *testing.T) *refresh.Runner {
	t.Helper()
	store, err := records.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	t.Cleanup(store.Close)
	kept, err := vault.Open(t.TempDir())
	require.NoError(t, err)
	return &refresh.Runner{Store: store, Vault: kept, Clock: func() time.Time { return now }, Log: slog.New(slog.DiscardHandler)}
}

// put puts bytes in a runner's vault.
func put(t *testing.T, r *refresh.Runner, content string) string {
	t.Helper()
	batch := r.Vault.Batch()
	object, err := batch.Put(strings.NewReader(content))
	require.NoError(t, err)
	require.NoError(t, batch.Commit())
	return object.Digest
}

// One file is handed over, from whatever state a crash may have left it in: what the
// share holds before, whether a name was aimed at, and what it must hold after.
func TestHandOne(t *testing.T) {
	const fed, other = "fed", "changed since"
	from, aside, target := "in/a.csv", "in/.jorvex-aside-1-a.csv", "done/a.csv"
	for _, c := range []struct {
		name, action string
		before       map[string]string
		linked       bool // aside and target are one file
		aimed        string
		after        map[string]string
		problem      string
	}{
		{"moved", "move", map[string]string{from: fed}, false, "", map[string]string{target: fed}, ""},
		{"cut off after it was set aside", "move", map[string]string{aside: fed}, false, "", map[string]string{target: fed}, ""},
		{"cut off after a name was aimed at", "move", map[string]string{aside: fed}, false, target, map[string]string{target: fed}, ""},
		{"cut off between link and removal", "move", map[string]string{aside: fed}, true, target, map[string]string{target: fed}, ""},
		{"cut off after it was copied there", "move", map[string]string{aside: fed, target: fed}, false, target, map[string]string{target: fed}, ""},
		{"cut off after the last step", "move", map[string]string{target: fed}, false, target, map[string]string{target: fed}, ""},
		{"cut off after the last step, and another came", "move", map[string]string{target: fed, from: other}, false, target, map[string]string{target: fed, from: other}, ""},
		{"the name is taken", "move", map[string]string{from: fed, target: other}, false, "", map[string]string{"done/a (2).csv": fed, target: other}, ""},
		{"two names are taken", "move", map[string]string{from: fed, target: other, "done/a (2).csv": other}, false, "", map[string]string{"done/a (3).csv": fed, target: other, "done/a (2).csv": other}, ""},
		{"changed since it was read", "move", map[string]string{from: other}, false, "", map[string]string{from: other}, "it was changed after it was read"},
		{"changed, and its name is taken by now", "move", map[string]string{aside: other, from: "a third"}, false, "", map[string]string{from: "a third", "in/a (2).csv": other}, "it was changed after it was read"},
		{"gone", "move", map[string]string{}, false, "", map[string]string{}, "it was gone"},
		{"deleted", "delete", map[string]string{from: fed}, false, "", map[string]string{}, ""},
		{"cut off before the deletion", "delete", map[string]string{aside: fed}, false, from, map[string]string{}, ""},
		{"cut off after the deletion", "delete", map[string]string{}, false, from, map[string]string{}, ""},
		{"changed, so not deleted", "delete", map[string]string{from: other}, false, "", map[string]string{from: other}, "it was changed after it was read"},
		{"copied", "copy", map[string]string{from: fed}, false, "", map[string]string{from: fed, target: fed}, ""},
		{"copied as it fed, though it changed", "copy", map[string]string{from: other}, false, "", map[string]string{from: other, target: fed}, ""},
		{"cut off after it was copied", "copy", map[string]string{from: fed, target: fed}, false, target, map[string]string{from: fed, target: fed}, ""},
		{"copied beside another", "copy", map[string]string{from: fed, target: other}, false, "", map[string]string{from: fed, target: other, "done/a (2).csv": fed}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := runner(t)
			dir := t.TempDir()
			for path, content := range c.before {
				testkit.WriteFile(t, filepath.Join(dir, path), content)
			}
			if c.linked {
				require.NoError(t, os.MkdirAll(filepath.Join(dir, "done"), 0o755))
				require.NoError(t, os.Link(filepath.Join(dir, aside), filepath.Join(dir, target)))
			}
			place, err := places.Allowed{dir}.Local(dir)
			require.NoError(t, err)
			h := records.Handover{ID: 1, Path: []byte(from), Digest: put(t, r, fed), Action: c.action, Folder: []byte("done"), Target: []byte(c.aimed)}
			for range 2 { // again, as after a crash before it was noted
				problem, err := refresh.HandOne(r, t.Context(), place, h)
				require.NoError(t, err)
				if c.problem == "" {
					assert.Empty(t, problem)
				} else {
					assert.Contains(t, problem, c.problem)
				}
				after := map[string]string{}
				require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
					if err == nil && !d.IsDir() {
						content, errRead := os.ReadFile(path)
						below, _ := filepath.Rel(dir, path)
						after[below], err = string(content), errRead
					}
					return err
				}))
				assert.Equal(t, c.after, after)
				if c.problem != "" || c.aimed == "" {
					return // what was aimed at is in the records, which this journal is not in
				}
			}
		})
	}
}

// Without a sound copy in the vault nothing is touched.
func TestHandOneNeedsTheVault(t *testing.T) {
	r := runner(t)
	dir := t.TempDir()
	testkit.WriteFile(t, filepath.Join(dir, "in/a.csv"), "fed")
	place, err := places.Allowed{dir}.Local(dir)
	require.NoError(t, err)
	for _, action := range []string{"move", "delete", "copy"} {
		problem, err := refresh.HandOne(r, t.Context(), place, records.Handover{ID: 1, Path: []byte("in/a.csv"), Digest: receipt.Digest([]byte("fed")), Action: action, Folder: []byte("done")})
		require.NoError(t, err)
		assert.Contains(t, problem, "its copy in the vault cannot be relied on")
		assert.FileExists(t, filepath.Join(dir, "in/a.csv"))
		assert.NoDirExists(t, filepath.Join(dir, "done"))
	}
}

// What called for a refresh is told in words; runs that were missed are one.
func TestAskedBy(t *testing.T) {
	hourly, err := schedule.Parse(time.UTC, "0 * * * *")
	require.NoError(t, err)
	when := definition.Refresh{Schedule: hourly}
	at := func(ago time.Duration) *time.Time { due := now.Add(-ago); return &due }
	for want, due := range map[string]records.Due{
		"schedule": {NextDue: at(0)},
		"schedule, for 1 run missed since 2026-11-23 05:59 UTC":  {NextDue: at(time.Minute)},
		"schedule, for 5 runs missed since 2026-11-23 02:00 UTC": {NextDue: at(4 * time.Hour)},
		"arrival":                                  {Arrived: at(0)},
		"all files of 2026-W46, 2026-W47":          {Complete: []string{"2026-W46", "2026-W47"}},
		"schedule; arrival; all files of 2026-W47": {NextDue: at(0), Arrived: at(time.Hour), Complete: []string{"2026-W47"}},
	} {
		if strings.Contains(want, "1 run missed") {
			when := definition.Refresh{Schedule: mustParse(t, "59 5 * * *")}
			assert.Equal(t, want, refresh.AskedBy(due, when, now))
			continue
		}
		assert.Equal(t, want, refresh.AskedBy(due, when, now))
	}
}

func mustParse(t *testing.T, cron string) *schedule.Schedule {
	t.Helper()
	s, err := schedule.Parse(time.UTC, cron)
	require.NoError(t, err)
	return s
}

// What no receipt and no rehearsal names goes after a week; what they name stays.
func TestStraysGo(t *testing.T) {
	r := runner(t)
	stray, young := put(t, r, "a stray"), put(t, r, "young")
	list, figures := put(t, r, "[]"), put(t, r, "{}")
	header, err := receipt.Canonical(receipt.Header{Form: receipt.Version, Section: receipt.Section{FilesDigest: list, FiguresDigest: figures}})
	require.NoError(t, err)
	_, err = r.Store.Pool.Exec(t.Context(), `WITH p AS (INSERT INTO places (name, kind, directory) VALUES ('p', 'local', '/p') RETURNING id),
		i AS (INSERT INTO inputs (name, place_id, version, layout) SELECT 'a', id, 1, '' FROM p RETURNING id)
		INSERT INTO refreshes (input_id, outcome, asked_by, asked_at, as_of, stage, rehearsal) SELECT id, 'rehearsed', '', now(), now(), 'done', $1 FROM i`, header)
	require.NoError(t, err)
	age := func(digest string, days int) {
		at := now.AddDate(0, 0, -days)
		found := false
		require.NoError(t, filepath.WalkDir(r.Vault.Dir(), func(path string, d os.DirEntry, err error) error {
			if err == nil && strings.HasPrefix(filepath.Base(filepath.Dir(path))+filepath.Base(path), digest) {
				found = true
				return os.Chtimes(path, at, at)
			}
			return err
		}))
		require.True(t, found)
	}
	for _, digest := range []string{stray, list, figures} {
		age(digest, 8)
	}
	age(young, 6)
	freed, err := r.Retain(t.Context(), records.Retention{}, false)
	require.NoError(t, err)
	assert.Equal(t, int64(1), freed.Objects)
	assert.True(t, r.Vault.Has(stray), "it was only told")
	freed, err = r.Retain(t.Context(), records.Retention{}, true)
	require.NoError(t, err)
	assert.Positive(t, freed.Bytes)
	held := fmt.Sprint(r.Vault.Has(stray), r.Vault.Has(young), r.Vault.Has(list), r.Vault.Has(figures))
	assert.Equal(t, "false true true true", held)
}
