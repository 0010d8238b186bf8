// Package service is the long-running service: it opens what the product is
// made of, serves the HTTP contract and the console, and stops all of it in
// order.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"jorvex/internal/cluster"
	"jorvex/internal/deliver"
	"jorvex/internal/events"
	"jorvex/internal/notice"
	"jorvex/internal/parts"
	"jorvex/internal/places"
	"jorvex/internal/records"
	"jorvex/internal/refresh"
	"jorvex/internal/vault"
	"jorvex/internal/watch"
)

// AddressFile is the file, below the data directory, that holds the address of
// the running service.
const AddressFile = "address"

// mostParts is how many bytes of shaped parts are kept for refreshes to come.
const mostParts = 8 << 30

// DefaultListen is where the service listens if nothing is said.
const DefaultListen = "127.0.0.1:8420"

// Config says how the service runs.
type Config struct {
	Listen      string // host:port on loopback; empty for DefaultListen, or a free port if that is taken
	Data        string // directory of token, vault and database
	DatabaseURL string // empty for a private cluster
	Allowed     []string
	Deliveries  string // directory of delivered files
	Interval    time.Duration
	Settle      time.Duration // how long a file must be left alone for to be read; 0 is not at all
	Eventless   bool          // changes are seen by timed looks alone
	// Mail is the server that notices are handed to, as smtp://host:port; none if
	// empty. MailFrom is the address they come from.
	Mail, MailFrom string
	// Gather is how long a mail waits for more to tell; Patience is the time
	// before a notice that failed is sent again.
	Gather, Patience time.Duration
	Version          string
	Log              *slog.Logger
	Clock            func() time.Time
	// Ready is called once the service answers, with its address.
	Ready func(ctx context.Context, base string, link func() string) error
}

// A StartError is why the service cannot start, in words for the operator.
type StartError struct{ Message string }

func (e *StartError) Error() string { return e.Message }

// Serve runs the service until ctx ends.
func Serve(ctx context.Context, c Config) (err error) {
	if c.Clock == nil {
		// The database keeps microseconds; nothing may differ once it is read back.
		c.Clock = func() time.Time { return time.Now().Truncate(time.Microsecond) }
	}
	unlock, err := prepareData(c.Data)
	if err != nil {
		return err
	}
	defer unlock()
	listener, err := listen(c)
	if err != nil {
		return err
	}
	defer listener.Close()

	url := c.DatabaseURL
	if url == "" {
		private, err := cluster.Start(ctx, filepath.Join(c.Data, "postgres"))
		if err != nil {
			return err
		}
		if private.Adopted {
			c.Log.Info("took over the database that an earlier run left running")
		}
		defer func() { err = errors.Join(err, private.Stop()) }()
		url = private.URL
	}
	store, err := openStore(ctx, url)
	if err != nil {
		return err
	}
	defer store.Close()
	return serveOn(ctx, c, store, listener)
}

// hooks posts to web hooks: it follows no redirect, which could lead anywhere.
var hooks = &http.Client{
	Timeout:       20 * time.Second,
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// openStore waits for the lease a moment: a service that was killed may not
// have been noticed by the database yet.
func openStore(ctx context.Context, url string) (*records.Store, error) {
	for range 40 {
		store, err := records.Open(ctx, url)
		if !errors.Is(err, records.ErrInUse) {
			return store, err
		}
		time.Sleep(250 * time.Millisecond)
	}
	return nil, &StartError{"another Jorvex service is active on this database; stop it first"}
}

func serveOn(ctx context.Context, c Config, store *records.Store, listener net.Listener) error {
	kept, err := vault.Open(filepath.Join(c.Data, "vault"))
	if err != nil {
		return err
	}
	shaped, err := parts.Open(filepath.Join(c.Data, "parts"), mostParts)
	if err != nil {
		return &StartError{err.Error()}
	}
	folder, err := deliver.OpenFolder(c.Deliveries)
	if err != nil {
		return err
	}
	defer folder.Close()
	token, err := loadToken(c.Data)
	if err != nil {
		return err
	}
	machine, _ := os.Hostname()
	base := "http://" + listener.Addr().String()
	broker := events.NewBroker(strconv.FormatInt(time.Now().UnixNano(), 36))
	desk := &notice.Desk{Store: store, Events: broker, Clock: c.Clock, Log: c.Log, Base: base, Gather: c.Gather, Patience: c.Patience, HTTP: hooks}
	if c.Mail != "" {
		if desk.Mail, err = notice.ParseMail(c.Mail, c.MailFrom); err != nil {
			return &StartError{err.Error()}
		}
	}
	watcher := &watch.Watcher{Store: store, Vault: kept, Desk: desk, Allowed: places.Allowed(c.Allowed), Deliveries: c.Deliveries, Events: broker, Clock: c.Clock, Log: c.Log,
		Every: c.Interval, Settle: c.Settle, Eventless: c.Eventless}
	runner := &refresh.Runner{Store: store, Watcher: watcher, Vault: kept, Folder: folder, Parts: shaped,
		Events: broker, Clock: c.Clock, Log: c.Log, Machine: machine, Program: c.Version}

	closing, closeStreams := context.WithCancel(context.Background())
	defer closeStreams()
	s := &server{Store: store, Watcher: watcher, Desk: desk, Runner: runner, Folder: folder, Events: broker, Allowed: watcher.Allowed, Clock: c.Clock,
		Log: c.Log, Version: c.Version, Base: base, access: access{token: token, codes: map[string]time.Time{}}, closing: closing}
	handler, err := s.handler()
	if err != nil {
		return err
	}
	if err := runner.Start(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	addressFile := filepath.Join(c.Data, AddressFile)
	if err := os.WriteFile(addressFile, []byte(base+"\n"), 0o644); err != nil {
		return err
	}
	defer os.Remove(addressFile)

	web := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, ErrorLog: slog.NewLogLogger(c.Log.Handler(), slog.LevelDebug)}
	group, groupCtx := errgroup.WithContext(ctx)
	group.Go(func() error {
		if err := web.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			return err
		}
		return nil
	})
	group.Go(func() error { return watcher.Run(groupCtx) })
	group.Go(func() error { desk.Run(groupCtx); return nil })
	group.Go(func() error {
		if err := store.KeepLease(groupCtx, c.Log); err != nil {
			return &StartError{"another Jorvex service has taken the database over while it was away; this one ends"}
		}
		return nil
	})
	group.Go(func() error {
		if c.Ready == nil {
			return nil
		}
		if err := c.Ready(groupCtx, base, s.newLink); err != nil && groupCtx.Err() == nil {
			return err
		}
		return nil
	})
	group.Go(func() error {
		<-groupCtx.Done()
		grace, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		closeStreams()
		_ = web.Shutdown(grace)
		if err := runner.Stop(grace); err != nil {
			c.Log.Warn("running refreshes were interrupted", "error", err)
		}
		return nil
	})
	return group.Wait()
}

// prepareData makes the data directory, and locks it.
func prepareData(dir string) (unlock func(), err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, &StartError{fmt.Sprintf("the data directory cannot be made: %v; choose another with -data", err)}
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, &StartError{fmt.Sprintf("the data directory cannot be written to: %v; choose another with -data", err)}
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		where := ""
		if base, err := os.ReadFile(filepath.Join(dir, AddressFile)); err == nil {
			where = " at " + string(base[:max(0, len(base)-1)])
		}
		return nil, &StartError{fmt.Sprintf("Jorvex runs already on the data directory %s%s; stop it first, or choose another with -data", dir, where)}
	}
	return func() { lock.Close() }, nil
}

func listen(c Config) (net.Listener, error) {
	address := c.Listen
	if address == "" {
		address = DefaultListen
	}
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, &StartError{fmt.Sprintf("%q is no address to listen on; write host:port, as in %s", address, DefaultListen)}
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, &StartError{fmt.Sprintf("%s is not on loopback; beyond it TLS is needed: listen on %s and put a TLS proxy before it", host, DefaultListen)}
	}
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) && c.Listen == "" {
		c.Log.Warn("the usual port is in use by another program; taking a free one", "port", address)
		return net.Listen("tcp", "127.0.0.1:0")
	}
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, &StartError{fmt.Sprintf("%s is in use by another program; stop it, or choose another with -listen", address)}
	}
	if err != nil {
		return nil, &StartError{fmt.Sprintf("cannot listen on %s: %v", address, err)}
	}
	return l, nil
}
