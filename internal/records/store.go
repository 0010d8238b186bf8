// Package records keeps what the service knows in PostgreSQL: places and their
// files, inputs and their rosters, refreshes and receipts. Its tables lie in
// the schema "jorvex", delivered tables in "delivered".
package records

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors that callers tell apart with errors.Is.
var (
	ErrNotFound  = errors.New("not found")
	ErrExists    = errors.New("exists already")
	ErrConflict  = errors.New("changed meanwhile")
	ErrLostLease = errors.New("another service took the refresh over")
	ErrInUse     = errors.New("another Jorvex service is active on this database")
)

// Store is the records. It may be used by many goroutines.
type Store struct {
	Pool *pgxpool.Pool

	mu    sync.Mutex
	lease *pgx.Conn
}

// leaseKey is the advisory lock that the one active service holds.
const leaseKey = 0x4a6f72766578

// Open connects, takes the lease that makes this service the only one on the
// database, and brings the tables up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database's address: %w", err)
	}
	config.ConnConfig.RuntimeParams["search_path"] = "jorvex"
	config.ConnConfig.RuntimeParams["application_name"] = "jorvex"
	config.MaxConns = 16
	s := &Store{}
	if s.lease, err = pgx.ConnectConfig(ctx, config.ConnConfig.Copy()); err != nil {
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	if err := s.prepare(ctx, config); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// takeLease locks the database for this service. What a service held that ended just
// now is free only a moment later, when the database has noticed.
func takeLease(ctx context.Context, conn *pgx.Conn) error {
	for wait := time.After(2 * time.Second); ; {
		var free bool
		err := conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1)", leaseKey).Scan(&free)
		if free || err != nil {
			return err
		}
		select {
		case <-wait:
			return ErrInUse
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// KeepLease sees that the lease is held until ctx ends, and takes it again
// after the database was away. It fails with ErrInUse if another service has
// taken it meanwhile.
func (s *Store) KeepLease(ctx context.Context, log *slog.Logger) error {
	const beat = 2 * time.Second
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(beat):
		}
		s.mu.Lock()
		lease := s.lease
		s.mu.Unlock()
		if lease.Ping(ctx) == nil || ctx.Err() != nil {
			continue
		}
		log.Warn("the database is away; trying again until it is back")
		for ctx.Err() == nil {
			again, err := pgx.ConnectConfig(ctx, lease.Config().Copy())
			if err == nil {
				if err = takeLease(ctx, again); err == nil {
					s.mu.Lock()
					s.lease = again
					s.mu.Unlock()
					_ = lease.Close(context.WithoutCancel(ctx))
					log.Info("the database is back")
					break
				}
				_ = again.Close(ctx)
			}
			if errors.Is(err, ErrInUse) {
				return err
			}
			select {
			case <-ctx.Done():
			case <-time.After(beat / 4):
			}
		}
	}
}

func (s *Store) prepare(ctx context.Context, config *pgxpool.Config) error {
	if err := takeLease(ctx, s.lease); err != nil {
		return err
	}
	if _, err := s.lease.Exec(ctx, "CREATE SCHEMA IF NOT EXISTS jorvex"); err != nil {
		return fmt.Errorf("make the schema jorvex: %w", err)
	}
	var err error
	if s.Pool, err = pgxpool.NewWithConfig(ctx, config); err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(s.Pool)
	defer db.Close()
	if err := migrate(ctx, db); err != nil {
		return fmt.Errorf("bring the tables up to date: %w", err)
	}
	river, err := rivermigrate.New(riverpgxv5.New(s.Pool), &rivermigrate.Config{Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	if _, err := river.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("bring the job tables up to date: %w", err)
	}
	return nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// Close gives the lease back and closes all connections.
func (s *Store) Close() {
	if s.Pool != nil {
		s.Pool.Close()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lease != nil {
		_ = s.lease.Close(context.Background())
	}
}

// Tx runs f in a transaction.
func (s *Store) Tx(ctx context.Context, f func(tx pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, s.Pool, f)
}

// isUnique reports whether err is a violation of a unique index.
func isUnique(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23505"
}

// one maps a query's only row, and its absence to ErrNotFound.
func one[T any](rows pgx.Rows, err error) (T, error) {
	if err != nil {
		var none T
		return none, err
	}
	row, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByNameLax[T])
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return row, err
}

func all[T any](rows pgx.Rows, err error) ([]T, error) {
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByNameLax[T])
}
