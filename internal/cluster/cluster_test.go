package cluster_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/cluster"
)

// open makes a directory that the server's user can reach.
func open(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "jorvex-cluster")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func query(t *testing.T, url, sql string) string {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	var text string
	require.NoError(t, conn.QueryRow(t.Context(), sql).Scan(&text))
	return text
}

func serverPID(t *testing.T, dir string) int {
	t.Helper()
	lock, err := os.ReadFile(filepath.Join(dir, "data", "postmaster.pid"))
	require.NoError(t, err)
	pid := 0
	for _, c := range strings.SplitN(string(lock), "\n", 2)[0] {
		pid = pid*10 + int(c-'0')
	}
	return pid
}

// One life of a cluster: made, left running, adopted, killed, started over its
// stale lock, moved.
func TestLife(t *testing.T) {
	dir := filepath.Join(open(t), "first")
	first, err := cluster.Start(t.Context(), dir)
	require.NoError(t, err)
	assert.False(t, first.Adopted)
	assert.Equal(t, "C.UTF-8", query(t, first.URL, "SELECT datcollate FROM pg_database WHERE datname = 'postgres'"))
	conn, err := pgx.Connect(t.Context(), first.URL)
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), "CREATE TABLE kept AS SELECT 'yes'::text AS word")
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))

	adopted, err := cluster.Start(t.Context(), dir)
	require.NoError(t, err)
	assert.True(t, adopted.Adopted)
	assert.Equal(t, first.URL, adopted.URL)
	require.NoError(t, adopted.Stop())

	again, err := cluster.Start(t.Context(), dir)
	require.NoError(t, err)
	assert.False(t, again.Adopted)
	require.NoError(t, syscall.Kill(serverPID(t, dir), syscall.SIGKILL))
	time.Sleep(200 * time.Millisecond)
	require.FileExists(t, filepath.Join(dir, "data", "postmaster.pid"), "the lock is stale now")

	// The lock names a process that lives and is no server.
	lock, err := os.ReadFile(filepath.Join(dir, "data", "postmaster.pid"))
	require.NoError(t, err)
	_, rest, _ := strings.Cut(string(lock), "\n")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data", "postmaster.pid"), []byte("1\n"+rest), 0o600))
	restarted, err := cluster.Start(t.Context(), dir)
	require.NoError(t, err)
	require.NoError(t, restarted.Stop())

	moved := dir + "-moved"
	require.NoError(t, os.Rename(dir, moved))
	there, err := cluster.Start(t.Context(), moved)
	require.NoError(t, err)
	assert.Equal(t, "yes", query(t, there.URL, "SELECT word FROM kept"))

	// Moved again while it runs: the server is found by its directory.
	require.NoError(t, os.Rename(moved, dir))
	back, err := cluster.Start(t.Context(), dir)
	require.NoError(t, err)
	assert.True(t, back.Adopted)
	require.NoError(t, there.Stop())
}

func TestClosedDirectoryIsTold(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root runs the server as another user")
	}
	closed := filepath.Join(open(t), "closed")
	require.NoError(t, os.Mkdir(closed, 0o700))
	_, err := cluster.Start(t.Context(), filepath.Join(closed, "db"))
	assert.ErrorContains(t, err, "the user postgres cannot reach")
}

// What lies in the data directory is told when no server can be started on it, and
// stays as it is.
func TestStartsThatAreRefused(t *testing.T) {
	dir := filepath.Join(open(t), "db")
	first, err := cluster.Start(t.Context(), dir)
	require.NoError(t, err)
	require.NoError(t, first.Stop())
	require.NoError(t, first.Stop(), "it is gone already")
	version, password := filepath.Join(dir, "data", "PG_VERSION"), filepath.Join(dir, "password")
	for path, c := range map[string]struct{ content, says string }{
		version:  {"9\n", "was made by PostgreSQL 9, and installed is"},
		password: {"", "the password of the database is missing"},
		filepath.Join(dir, "data", "postgresql.conf"): {"port = high\n", "PostgreSQL did not start"},
	} {
		had, err := os.ReadFile(path)
		require.NoError(t, err)
		if c.content == "" {
			require.NoError(t, os.Remove(path))
		} else {
			require.NoError(t, os.WriteFile(path, []byte(c.content), 0o600))
		}
		_, err = cluster.Start(t.Context(), dir)
		assert.ErrorContains(t, err, c.says, path)
		require.NoError(t, os.WriteFile(path, had, 0o644))
	}
	given, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = cluster.Start(given, dir+"-new")
	assert.ErrorIs(t, err, context.Canceled)
	assert.NoDirExists(t, filepath.Join(dir+"-new", "data"), "nothing half made is taken for a database")

	again, err := cluster.Start(t.Context(), dir)
	require.NoError(t, err)
	assert.Equal(t, first.URL[:20], again.URL[:20])
	require.NoError(t, again.Stop())
}
