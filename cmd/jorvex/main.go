// Command jorvex is the Jorvex service and its command-line client.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"
	_ "time/tzdata"

	"golang.org/x/term"

	"jorvex/internal/client"
	"jorvex/internal/demo"
	"jorvex/internal/service"
	"jorvex/internal/standin"
)

// version is set when the program is built for others.
var version = "0.1.0"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	env := client.Env{Stdout: os.Stdout, Stderr: os.Stderr, Getenv: os.Getenv, Terminal: term.IsTerminal(int(os.Stderr.Fd())), Version: version}
	serve := client.Command{Name: "serve", Purpose: "Run the service until it is told to stop.", Example: "jorvex serve -demo", Run: serve}
	os.Exit(client.Main(ctx, env, os.Args[1:], serve))
}

// directories is a flag that may be given several times.
type directories []string

func (d *directories) String() string { return strings.Join(*d, " ") }

func (d *directories) Set(dir string) error {
	full, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	*d = append(*d, full)
	return nil
}

func serve(ctx context.Context, c *client.Call) error {
	var allowed directories
	data := c.Flags.String("data", client.DataDir(c.Getenv), "`directory` for token, vault and database")
	listen := c.Flags.String("listen", "", "`address` to listen on, on loopback (default "+service.DefaultListen+", or a free port if that is taken)")
	deliveries := c.Flags.String("deliveries", "", "`directory` for delivered files; DATA/deliveries if empty")
	interval := c.Flags.Duration("interval", 10*time.Second, "`time` between two looks at a place; file events make it prompt between them")
	settle := c.Flags.Duration("settle", 2*time.Second, "`time` a file must be left alone for to be read, and missed for to be gone")
	withDemo := c.Flags.Bool("demo", false, "allow the demo's directory and load the demo")
	gather := c.Flags.Duration("gather", time.Minute, "`time` a mail waits for more to tell, so that one letter tells of much")
	verbose := c.Flags.Bool("verbose", false, "log more")
	c.Flags.Var(&allowed, "allow", "`directory` that places may lie in or below; may be given several times")
	if _, err := c.Parse(0, 0); err != nil {
		return err
	}
	if *interval < 100*time.Millisecond {
		return client.Usage("-interval is at least 100ms")
	}
	dir, err := filepath.Abs(*data)
	if err != nil {
		return err
	}
	if *deliveries == "" {
		*deliveries = filepath.Join(dir, "deliveries")
	} else if *deliveries, err = filepath.Abs(*deliveries); err != nil {
		return err
	}
	if *withDemo {
		allowed = append(allowed, client.DemoDir(dir))
	}
	level := slog.LevelInfo
	if *verbose {
		level = slog.LevelDebug
	}
	mail, from := c.Getenv("JORVEX_SMTP"), c.Getenv("JORVEX_MAIL_FROM")
	var outbox *standin.Outbox
	if *withDemo {
		if outbox, err = standin.Open(filepath.Join(client.DemoDir(dir), "outbox"), nil); err != nil {
			return err
		}
		defer outbox.Close()
		if mail == "" {
			mail, from = outbox.SMTP, "jorvex@skerry.example"
		}
	}
	err = service.Serve(ctx, service.Config{
		Listen: *listen, Data: dir, DatabaseURL: c.Getenv("JORVEX_DATABASE_URL"), Allowed: allowed, Deliveries: *deliveries,
		Interval: *interval, Settle: *settle, Mail: mail, MailFrom: from, Gather: *gather, Patience: time.Minute, Version: c.Version, Log: slog.New(slog.NewTextHandler(c.Stderr, &slog.HandlerOptions{Level: level})),
		Ready: func(ctx context.Context, base string, link func() string) error {
			if *withDemo {
				if err := loadDemo(ctx, base, dir, outbox.Hook); err != nil {
					return err
				}
			}
			greet(c.Stdout, base, link(), dir)
			return nil
		},
	})
	var start *service.StartError
	if errors.As(err, &start) {
		return errors.New(start.Message)
	}
	return err
}

func loadDemo(ctx context.Context, base, data, hook string) error {
	token, err := os.ReadFile(filepath.Join(data, service.TokenFile))
	if err != nil {
		return err
	}
	asking, err := client.Connect(base, strings.TrimSpace(string(token)))
	if err != nil {
		return err
	}
	return client.LoadDemo(ctx, asking, client.DemoDir(data), demo.Options{Seed: 1, End: demo.LastDay(time.Now())}, 8, hook)
}

func greet(w io.Writer, base, link, data string) {
	fmt.Fprintf(w, "\nJorvex runs at %s\nSign in:       %s\n               (works once; jorvex sign-in prints another)\nData:          %s\nStop it with Ctrl-C.\n\n", base, link, data)
}
