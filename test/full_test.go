package test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/testkit"
)

// small mounts a disk of so many megabytes on a directory, where that is allowed.
func small(t *testing.T, dir string, megabytes int) {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir, 0o777))
	err := syscall.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%dm,mode=777", megabytes))
	if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EACCES) {
		t.Skip("mounting is not allowed here")
	}
	require.NoError(t, err)
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
}

// fill takes all room of a disk but for so many bytes, and returns what frees it.
func fill(t *testing.T, dir string, leave int64) (free func()) {
	t.Helper()
	var disk syscall.Statfs_t
	require.NoError(t, syscall.Statfs(dir, &disk))
	size := int64(disk.Bavail)*disk.Bsize - leave
	filler := filepath.Join(dir, "filler")
	require.NoError(t, os.WriteFile(filler, make([]byte, size), 0o666))
	return func() { require.NoError(t, os.Remove(filler)) }
}

// figures is text that does not compress well.
func figures(rows, seed int) string {
	var b strings.Builder
	b.WriteString(header + "\n")
	x := uint64(seed)*2654435761 + 1
	for range rows {
		x ^= x << 13
		x ^= x >> 7
		x ^= x << 17
		fmt.Fprintf(&b, "S%x,%d,%d.%d\n", x, x%1000, x>>40, x%10)
	}
	return b.String()
}

// A disk that is full, wherever it is: the refresh fails with that reason, the last
// delivery stands, and once there is room the next one passes.
func TestDiskFull(t *testing.T) {
	t.Parallel()
	for _, full := range []string{"vault", "deliveries", "database"} {
		t.Run(full, func(t *testing.T) {
			data := t.TempDir()
			at := filepath.Join(data, full)
			small(t, at, 24)
			share := filepath.Join(t.TempDir(), "share")
			require.NoError(t, os.Mkdir(share, 0o755))
			s := testkit.Start(t, testkit.Options{Data: data, Share: share, URL: testkit.Database(t)})
			if full == "database" {
				room := filepath.Join(at, "tables")
				require.NoError(t, os.Mkdir(room, 0o777))
				if out, err := exec.Command("chown", "postgres", room).CombinedOutput(); err != nil {
					t.Skipf("there is no user postgres here: %s", out)
				}
				for dir := at; dir != "/" && dir != "."; dir = filepath.Dir(dir) {
					info, err := os.Stat(dir)
					require.NoError(t, err)
					if info.Mode().Perm()&0o001 == 0 {
						require.NoError(t, os.Chmod(dir, info.Mode().Perm()|0o011))
					}
				}
				s.Exec("CREATE TABLESPACE small_database LOCATION '" + room + "'")
				s.Exec("DO $$ BEGIN EXECUTE format('ALTER DATABASE %I SET default_tablespace = small_database', current_database()); END $$")
				defer func() {
					s.Exec("DO $$ BEGIN EXECUTE format('ALTER DATABASE %I RESET default_tablespace', current_database()); END $$")
					s.Exec("DROP TABLE IF EXISTS delivered.loadings")
					s.Exec("DROP TABLESPACE small_database")
				}()
				s.Stop() // its connections know the old place
				s = testkit.Start(t, testkit.Options{Data: data, Share: share, URL: s.URL})
			}
			s.Write("loadings/Eskvik/loadings 2026-10-01.csv", figures(100, 1))
			s.Definition(loadings)
			s.Must("refresh", "loadings")
			old := s.Delivered("loadings.csv")

			s.Write("loadings/Eskvik/loadings 2026-10-02.csv", figures(60_000, 2))
			free := fill(t, at, 500_000)
			r := s.Run("refresh", "loadings")
			assert.Equal(t, 1, r.Code, r.Out+r.Err)
			assert.Regexp(t, `(?i)no space left on device`, r.Err)
			assert.Contains(t, r.Err, "the last delivery stands")
			assert.Equal(t, old, s.Delivered("loadings.csv"))
			assert.Equal(t, "100", s.Query("SELECT count(*)::text FROM delivered.loadings"))
			assert.Contains(t, s.Must("verify", "-deliveries"), "the deliveries hold")

			free()
			assert.Contains(t, s.Must("refresh", "loadings"), "60,100 rows from 2 files, receipt 2")
			assert.Contains(t, s.Must("verify", "-deep", "-deliveries"), "the deliveries hold")
		})
	}
}

// A place that goes away in the middle of a refresh: it delivers nothing, and what
// was delivered stands.
func TestPlaceGoneHalfway(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, testkit.Options{})
	for i := range 60 {
		s.Write(fmt.Sprintf("loadings/Eskvik/loadings 20%02d-10-05.csv", i+10), figures(3000, i))
	}
	s.Definition(loadings)
	s.Must("refresh", "loadings")
	old := s.Delivered("loadings.csv")
	for i := range 60 {
		s.Write(fmt.Sprintf("loadings/Eskvik/loadings 20%02d-10-05.csv", i+10), figures(3000, i+100))
	}
	went := make(chan error)
	go func() {
		for s.Query("SELECT stage FROM jorvex.refreshes ORDER BY id DESC LIMIT 1") == "done" {
			continue
		}
		went <- os.Rename(s.Share, s.Share+"-away")
	}()
	r := s.Run("refresh", "loadings")
	require.NoError(t, <-went)
	if r.Code == 0 {
		t.Skip("it was delivered before the place was gone")
	}
	assert.Regexp(t, `cannot be reached|cannot be used`, r.Err)
	assert.Equal(t, old, s.Delivered("loadings.csv"))
	require.NoError(t, os.Rename(s.Share+"-away", s.Share))
	assert.Contains(t, s.Must("refresh", "loadings"), "180,000 rows from 60 files")
}
