// Package testkit starts real services for tests: one PostgreSQL cluster for a
// package's tests, a database of its own for each, answers held against the
// contract.
package testkit

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"jorvex/internal/api"
	"jorvex/internal/client"
	"jorvex/internal/cluster"
	"jorvex/internal/records"
	"jorvex/internal/service"
)

var (
	shared    *cluster.Cluster
	databases atomic.Int64
)

// unsafe settings spare the disk: what the tests kill is the service, never the
// machine.
var unsafe = []string{"fsync=off", "full_page_writes=off", "synchronous_commit=off"}

// Main runs a package's tests with a cluster they share.
func Main(m *testing.M) int {
	dir, err := os.MkdirTemp("", "jorvex-test")
	if err == nil {
		defer os.RemoveAll(dir)
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		shared, err = cluster.Start(context.Background(), filepath.Join(dir, "postgres"), unsafe...)
	}
	if err == nil {
		defer func() { _ = shared.Stop() }()
		// Reckoning passwords takes longer than most of what is asked.
		err = os.WriteFile(filepath.Join(dir, "postgres", "data", "pg_hba.conf"), []byte("host all all 127.0.0.1/32 trust\n"), 0o644)
	}
	if err == nil {
		err = makeTemplate()
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "testkit:", err)
		return 1
	}
	http.DefaultTransport = &contract{next: http.DefaultTransport}
	return m.Run()
}

func makeTemplate() error {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, shared.URL)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for _, sql := range []string{"SELECT pg_reload_conf()", "CREATE DATABASE template_jorvex"} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return err
		}
	}
	store, err := records.Open(ctx, named("template_jorvex"))
	if err != nil {
		return err
	}
	store.Close()
	return nil
}

func named(database string) string {
	return strings.Replace(shared.URL, "/postgres?", "/"+database+"?", 1)
}

// Database returns the address of a fresh database with all tables.
func Database(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("test_%d", databases.Add(1))
	conn, err := pgx.Connect(t.Context(), shared.URL)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(t.Context(), "CREATE DATABASE "+name+" TEMPLATE template_jorvex")
	require.NoError(t, err)
	return named(name)
}

// Service is a running service with its client.
type Service struct {
	t     testing.TB
	Base  string
	Link  func() string
	Data  string
	Share string // an allowed directory
	URL   string // of the database
	API   *api.ClientWithResponses
	stop  func()
	pool  func() *pgxpool.Pool // of the test's own questions
}

// Options change how a service is started.
type Options struct {
	Data, Share, URL string // those of an earlier service; fresh if Data is empty. Without a URL a private cluster is started
	Deliveries       string
	Interval         time.Duration // an hour if 0: only what a test asks for
	Settle           time.Duration
	Events           bool // file events are heard
	Clock            func() time.Time
	Mail             string // address of a mail server
}

// Start starts a service in this process. It ends with the test.
func Start(t testing.TB, o Options) *Service {
	t.Helper()
	if o.Data == "" {
		o.Data, o.Share, o.URL = t.TempDir(), filepath.Join(t.TempDir(), "share"), Database(t)
		require.NoError(t, os.Mkdir(o.Share, 0o755))
	}
	if o.Interval == 0 {
		o.Interval = time.Hour
	}
	if o.Deliveries == "" {
		o.Deliveries = filepath.Join(o.Data, "deliveries")
	}
	ctx, cancel := context.WithCancel(context.Background())
	s := &Service{t: t, Data: o.Data, Share: o.Share, URL: o.URL}
	s.pool = sync.OnceValue(s.open)
	ready := make(chan struct{})
	ended := make(chan error, 1)
	var log lockedBuffer
	go func() {
		ended <- service.Serve(ctx, service.Config{
			Listen: "127.0.0.1:0", Data: o.Data, DatabaseURL: o.URL, Allowed: []string{o.Share}, Deliveries: o.Deliveries,
			Interval: o.Interval, Settle: o.Settle, Eventless: !o.Events, Mail: o.Mail, MailFrom: "jorvex@skerry.example", Gather: 300 * time.Millisecond, Patience: 50 * time.Millisecond, Version: "test", Clock: o.Clock, Log: slog.New(slog.NewTextHandler(&log, nil)),
			Ready: func(_ context.Context, base string, link func() string) error {
				s.Base, s.Link = base, link
				close(ready)
				return nil
			},
		})
	}()
	select {
	case <-ready:
	case err := <-ended:
		cancel()
		t.Fatalf("the service did not start: %v\n%s", err, log.String())
	}
	s.stop = sync.OnceFunc(func() {
		cancel()
		if err := <-ended; err != nil {
			t.Errorf("the service ended with: %v", err)
		}
		if t.Failed() {
			t.Logf("log of the service:\n%s", log.String())
		}
		for _, broken := range violations.take() {
			t.Errorf("an answer breaks the contract: %s", broken)
		}
	})
	t.Cleanup(s.stop)
	token, err := os.ReadFile(filepath.Join(o.Data, service.TokenFile))
	require.NoError(t, err)
	s.API, err = api.NewClientWithResponses(s.Base, api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
		return nil
	}))
	require.NoError(t, err)
	return s
}

// Stop stops the service.
func (s *Service) Stop() { s.stop() }

// Result is what a run of the command line came to.
type Result struct {
	Out, Err string
	Code     int
}

// Run runs a command of the client.
func (s *Service) Run(args ...string) Result {
	s.t.Helper()
	var out, errs bytes.Buffer
	env := client.Env{Stdout: &out, Stderr: &errs, Version: "test", Getenv: func(name string) string {
		return map[string]string{"JORVEX_DATA": s.Data}[name]
	}}
	code := client.Main(s.t.Context(), env, args)
	return Result{out.String(), errs.String(), code}
}

// Must runs a command that has to succeed, and returns what it printed.
func (s *Service) Must(args ...string) string {
	s.t.Helper()
	r := s.Run(args...)
	require.Equal(s.t, client.Done, r.Code, "jorvex %s\n%s%s", strings.Join(args, " "), r.Out, r.Err)
	return r.Out
}

// Write writes a file into the share, dated well in the past.
func (s *Service) Write(path, content string) {
	s.t.Helper()
	WriteFile(s.t, filepath.Join(s.Share, path), content)
}

// Age sets the time that a file of the share was modified, so long ago.
func (s *Service) Age(path string, ago time.Duration) {
	s.t.Helper()
	when := time.Now().Add(-ago)
	require.NoError(s.t, os.Chtimes(filepath.Join(s.Share, path), when, when))
}

// WriteFile writes a file and its folders, dated well in the past.
func WriteFile(t testing.TB, path, content string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(path, old, old))
}

// Definition adds a definition as an input of the place "share", which is added
// too if it is not there.
func (s *Service) Definition(text string) {
	s.t.Helper()
	if r := s.Run("place", "show", "share"); r.Code == client.NotFound {
		s.Must("place", "add", "share", s.Share)
	}
	file := filepath.Join(s.t.TempDir(), "definition.yaml")
	require.NoError(s.t, os.WriteFile(file, []byte(text), 0o644))
	s.Must("input", "add", file)
}

// open opens the service's database for the test, which may take it away.
func (s *Service) open() *pgxpool.Pool {
	config, err := pgxpool.ParseConfig(s.URL)
	require.NoError(s.t, err)
	config.MaxConns = 1
	config.ShouldPing = func(context.Context, pgxpool.ShouldPingParams) bool { return true }
	pool, err := pgxpool.NewWithConfig(context.Background(), config)
	require.NoError(s.t, err)
	s.t.Cleanup(pool.Close)
	return pool
}

// In returns the service with another database, to ask that.
func (s *Service) In(url string) *Service {
	other := &Service{t: s.t, Base: s.Base, Link: s.Link, Data: s.Data, Share: s.Share, URL: url, API: s.API, stop: s.stop}
	other.pool = sync.OnceValue(other.open)
	return other
}

// Query returns the only value of a query on the service's database.
func (s *Service) Query(sql string, args ...any) string {
	s.t.Helper()
	var value string
	require.NoError(s.t, s.pool().QueryRow(s.t.Context(), sql, args...).Scan(&value))
	return value
}

// Exec runs a statement on the service's database.
func (s *Service) Exec(sql string) {
	s.t.Helper()
	_, err := s.pool().Exec(s.t.Context(), sql)
	require.NoError(s.t, err)
}

// Delivered returns the content of a delivered file.
func (s *Service) Delivered(name string) string {
	s.t.Helper()
	content, err := os.ReadFile(filepath.Join(s.Data, "deliveries", name))
	require.NoError(s.t, err)
	return string(content)
}

// lockedBuffer takes a log from many goroutines.
type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}
