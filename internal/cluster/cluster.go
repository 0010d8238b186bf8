// Package cluster runs a private PostgreSQL server in a data directory of its
// own: on loopback, with a generated password, in its own process group. It
// knows nothing of what is stored there.
package cluster

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Cluster is a running server.
type Cluster struct {
	URL     string
	Adopted bool // it ran already: left by a service that was killed
	pid     int
	done    chan struct{} // closed when a server started here has ended
}

// Binaries returns the directory of PostgreSQL's server programs.
func Binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	slices.SortFunc(found, func(a, b string) int { return version(b) - version(a) })
	if len(found) > 0 {
		return filepath.Dir(found[0]), nil
	}
	if path, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(path), nil
	}
	return "", errors.New("PostgreSQL's server programs are missing; install them (Debian: apt-get install postgresql), or set JORVEX_DATABASE_URL to a server that runs")
}

func version(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4])
	return n
}

// Start starts the cluster in dir, made anew if there is none, and waits until
// it answers. One that runs already is adopted. Settings, as name=value, come
// before the server's own.
func Start(ctx context.Context, dir string, settings ...string) (*Cluster, error) {
	bin, err := Binaries()
	if err != nil {
		return nil, err
	}
	owner, err := serverUser()
	if err != nil {
		return nil, err
	}
	if err := prepare(dir, owner); err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	password, err := initialise(ctx, bin, dir, data, owner)
	if err != nil {
		return nil, err
	}
	switch pid, port, alive := running(data); {
	case alive:
		c := &Cluster{URL: address(password, port), Adopted: true, pid: pid}
		if err := c.wait(ctx); err != nil {
			return nil, fmt.Errorf("a PostgreSQL left running in %s (process %d) does not answer: %w; end that process and start again", data, pid, err)
		}
		return c, nil
	case pid != 0:
		// A lock whose process is gone, or is another program by now.
		if err := os.Remove(filepath.Join(data, "postmaster.pid")); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("remove the stale lock of PostgreSQL: %w", err)
		}
	}
	return launch(ctx, bin, dir, data, password, owner, settings)
}

// serverUser returns the user the server runs as: ourselves, or postgres if we
// are root, as PostgreSQL will not.
func serverUser() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, errors.New("PostgreSQL does not run as root, and the user postgres is missing; install PostgreSQL from Debian's packages")
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// prepare makes dir and sees to it that the server's user reaches it.
func prepare(dir string, owner *syscall.Credential) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("make the directory of the database: %w", err)
	}
	if owner == nil {
		return nil
	}
	if err := os.Chown(dir, int(owner.Uid), int(owner.Gid)); err != nil {
		return err
	}
	probe := exec.Command("test", "-w", dir)
	probe.SysProcAttr = &syscall.SysProcAttr{Credential: owner}
	if probe.Run() != nil {
		return fmt.Errorf("the user postgres cannot reach %s; choose a data directory outside closed ones such as /root", dir)
	}
	return nil
}

func command(owner *syscall.Credential, dir, name string, args ...string) *exec.Cmd {
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C.UTF-8", "TZ=UTC"}
	// Its own group: Ctrl-C must not reach the server before the service ended.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: owner}
	return cmd
}

// initialise makes the data directory if there is none, and returns the
// password, which lies beside it.
func initialise(ctx context.Context, bin, dir, data string, owner *syscall.Credential) (string, error) {
	secret := filepath.Join(dir, "password")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err == nil {
		if err := sameMajor(bin, data); err != nil {
			return "", err
		}
		password, err := os.ReadFile(secret)
		if err != nil {
			return "", fmt.Errorf("the password of the database is missing: %w", err)
		}
		return strings.TrimSpace(string(password)), nil
	}
	random := make([]byte, 24)
	_, _ = rand.Read(random)
	password := hex.EncodeToString(random)
	if err := os.WriteFile(secret, []byte(password+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("write the password of the database: %w", err)
	}
	if owner != nil {
		if err := os.Chown(secret, int(owner.Uid), int(owner.Gid)); err != nil {
			return "", err
		}
	}
	// Made beside and renamed, so that a killed initdb leaves nothing half done.
	fresh := data + ".new"
	if err := os.RemoveAll(fresh); err != nil {
		return "", err
	}
	cmd := command(owner, dir, filepath.Join(bin, "initdb"), "-D", fresh, "-E", "UTF8", "--locale=C.UTF-8",
		"-A", "scram-sha-256", "-U", "jorvex", "--pwfile", secret, "--no-instructions")
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("make the database: %w\n%s", err, bytes.TrimSpace(out))
	}
	if err := ctx.Err(); err != nil {
		return "", err
	}
	return password, os.Rename(fresh, data)
}

func sameMajor(bin, data string) error {
	made, err := os.ReadFile(filepath.Join(data, "PG_VERSION"))
	if err != nil {
		return err
	}
	out, err := exec.Command(filepath.Join(bin, "postgres"), "--version").Output()
	if err != nil {
		return err
	}
	words := strings.Fields(string(out))
	if have, _, _ := strings.Cut(words[2], "."); have != strings.TrimSpace(string(made)) {
		return fmt.Errorf("the database in %s was made by PostgreSQL %s, and installed is %s; install version %s or upgrade it with pg_upgrade", data, bytes.TrimSpace(made), have, bytes.TrimSpace(made))
	}
	return nil
}

// running reads the lock of the server. pid is 0 if there is none; alive tells
// that the process is a server on this very directory, wherever it was when it
// started.
func running(data string) (pid, port int, alive bool) {
	lock, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return 0, 0, false
	}
	lines := strings.Split(string(lock), "\n")
	pid, _ = strconv.Atoi(strings.TrimSpace(lines[0]))
	if pid <= 0 || len(lines) < 4 {
		return -1, 0, false
	}
	port, _ = strconv.Atoi(strings.TrimSpace(lines[3]))
	here, err := os.Stat(data)
	if err != nil {
		return pid, port, false
	}
	cwd, err := os.Stat(fmt.Sprintf("/proc/%d/cwd", pid))
	return pid, port, err == nil && os.SameFile(here, cwd)
}

func address(password string, port int) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword("jorvex", password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), Path: "/postgres", RawQuery: "sslmode=disable"}
	return u.String()
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func launch(ctx context.Context, bin, dir, data, password string, owner *syscall.Credential, settings []string) (*Cluster, error) {
	var last error
	for range 3 { // another program may take the port first
		port, err := freePort()
		if err != nil {
			return nil, err
		}
		logPath := filepath.Join(dir, "postgresql.log")
		log, err := os.OpenFile(logPath, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
		if err != nil {
			return nil, err
		}
		args := []string{"-D", data, "-p", strconv.Itoa(port)}
		for _, setting := range append([]string{"listen_addresses=127.0.0.1", "unix_socket_directories=", "max_connections=60",
			"timezone=UTC", "log_timezone=UTC"}, settings...) {
			args = append(args, "-c", setting)
		}
		cmd := command(owner, dir, filepath.Join(bin, "postgres"), args...)
		cmd.Stdout, cmd.Stderr = log, log
		err = cmd.Start()
		log.Close()
		if err != nil {
			return nil, fmt.Errorf("start PostgreSQL: %w", err)
		}
		c := &Cluster{URL: address(password, port), pid: cmd.Process.Pid, done: make(chan struct{})}
		go func() { _ = cmd.Wait(); close(c.done) }()
		if last = c.wait(ctx); last == nil {
			return c, nil
		}
		_ = c.Stop()
		said, _ := os.ReadFile(logPath)
		last = fmt.Errorf("PostgreSQL did not start: %w\n%s", last, bytes.TrimSpace(said))
		if !bytes.Contains(said, []byte("Address already in use")) {
			return nil, last
		}
	}
	return nil, last
}

// wait waits until the server answers.
func (c *Cluster) wait(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, c.URL)
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-ctx.Done():
			return err
		case <-c.done:
			return errors.New("the server ended")
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Stop ends the server and waits until it is gone.
func (c *Cluster) Stop() error {
	if err := syscall.Kill(c.pid, syscall.SIGINT); err != nil {
		if errors.Is(err, syscall.ESRCH) {
			return nil
		}
		return fmt.Errorf("stop PostgreSQL: %w", err)
	}
	for range 600 {
		select {
		case <-c.done:
			return nil
		case <-time.After(50 * time.Millisecond):
		}
		if c.done == nil && syscall.Kill(c.pid, 0) != nil {
			return nil
		}
	}
	return fmt.Errorf("PostgreSQL (process %d) does not stop", c.pid)
}
