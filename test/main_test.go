// Package test tries the product as its users do: the service on loopback with
// a real PostgreSQL, through its client, its HTTP interface and its console.
package test

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"testing"
	"time"

	"jorvex/internal/service"
	"jorvex/internal/testkit"
)

func TestMain(m *testing.M) {
	if os.Getenv("JORVEX_TEST_SERVE") != "" {
		os.Exit(serveAlone())
	}
	os.Exit(testkit.Main(m))
}

// serveAlone runs a service as a process of its own, which can be killed.
func serveAlone() int {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	err := service.Serve(ctx, service.Config{
		Listen: "127.0.0.1:0", Data: os.Getenv("JORVEX_DATA"), DatabaseURL: os.Getenv("JORVEX_DATABASE_URL"),
		Allowed: []string{os.Getenv("JORVEX_TEST_SERVE")}, Deliveries: os.Getenv("JORVEX_DATA") + "/deliveries",
		Interval: time.Hour, Version: "test", Log: slog.New(slog.NewTextHandler(os.Stderr, nil)),
		Ready: func(_ context.Context, base string, _ func() string) error {
			fmt.Println("ready", base)
			return nil
		},
	})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}

// loadings is the definition most tests use.
const loadings = `input: loadings
place: share
folder: loadings
pick: ["<terminal>/loadings <day:yyyy-MM-dd>.csv"]
columns:
  - {name: terminal, capture: terminal}
  - {name: day, capture: day}
  - {name: sailing, required: true}
  - {name: passengers, type: whole, total: true}
  - {name: freight_t, type: decimal, headers: ["Freight (t)"], total: true}
  - {name: source_file, file: name}
deliver:
  - file: loadings.csv
  - table: loadings
`

// table makes the text of a file from a header and rows.
func table(lines ...string) string { return strings.Join(lines, "\n") + "\n" }

const header = "sailing,passengers,Freight (t)"
