// Package store keeps everything in PostgreSQL: evidence, intent, sign-ins, people. Nothing else knows SQL.
//
// How a device stands is not stored: it is derived from its evidence by core/latch.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned for an ID that names nothing.
var ErrNotFound = errors.New("not found")

// A Store is one database. It is safe for concurrent use.
type Store struct {
	Pool *pgxpool.Pool // for River, which shares the connections
	db   *sqlx.DB
	seal *Sealer
	log  *slog.Logger
}

// Open connects to a database, brings its tables up to date and returns the store. The key file seals the sign-ins; it is
// made when it does not exist.
func Open(ctx context.Context, url, keyFile string, log *slog.Logger) (*Store, error) {
	if log == nil {
		log = slog.New(slog.DiscardHandler)
	}
	seal, err := OpenSealer(keyFile)
	if err != nil {
		return nil, err
	}
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database address cannot be read; write it like postgres://user@127.0.0.1:5432/unlatch: %w", err)
	}
	cfg.MaxConns = 40
	// A connection that outlived a restart of the database is found out before it is used.
	cfg.ShouldPing = func(_ context.Context, p pgxpool.ShouldPingParams) bool { return p.IdleDuration > 50*time.Millisecond }
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	s := &Store{Pool: pool, db: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx"), seal: seal, log: log}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Close gives the connections back.
func (s *Store) Close() {
	s.db.Close()
	s.Pool.Close()
}

func (s *Store) migrate(ctx context.Context) error {
	// Two processes may start at once: the lock lets one of them migrate and the other find it done.
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("the database does not answer: %w", err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock(7306001)"); err != nil {
		return err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock(7306001)")
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, s.db.DB, dir)
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing the tables up to date: %w", err)
	}
	m, err := rivermigrate.New(riverpgxv5.New(s.Pool), &rivermigrate.Config{Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return err
	}
	// River's table is River's; that its jobs are counted by run is ours.
	_, err = conn.Exec(ctx, "CREATE INDEX IF NOT EXISTS river_job_run ON river_job ((args->>'run'))")
	return err
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

func newID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// Away reports whether err means that the database is not there, rather than that it refused something.
func Away(err error) bool {
	var connect *pgconn.ConnectError
	var pg *pgconn.PgError
	var op *net.OpError
	switch {
	case errors.As(err, &pg):
		return pg.Code[:2] == "57" || pg.Code[:2] == "08" // operator intervention, connection exception
	case errors.As(err, &connect), errors.As(err, &op), errors.Is(err, net.ErrClosed), pgconn.SafeToRetry(err):
		return true
	}
	return errors.Is(err, sql.ErrConnDone) || err != nil && (err.Error() == "conn closed" || err.Error() == "unexpected EOF")
}

// Keep runs a write until the database takes it. While the database is away it waits and tries again, so that what a long
// job has found is not lost; it gives up only when ctx ends or the database refuses.
func (s *Store) Keep(ctx context.Context, what string, write func(context.Context) error) error {
	for wait := 100 * time.Millisecond; ; wait = min(wait*2, 3*time.Second) {
		err := write(ctx)
		if err == nil || !Away(err) {
			return err
		}
		s.log.Warn("the database is away; keeping the result until it is back", "what", what)
		select {
		case <-ctx.Done():
			return errors.Join(err, ctx.Err())
		case <-time.After(wait):
		}
	}
}

// An Event tells that something of a site changed; readers ask for it again.
type Event struct {
	Site uuid.UUID `json:"site"`
	What string    `json:"what" enum:"device,run,site"`
	ID   uuid.UUID `json:"id"`
}

const channel = "unlatch"

func (s *Store) notify(ctx context.Context, q sqlx.ExecerContext, e Event) error {
	raw, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = q.ExecContext(ctx, "SELECT pg_notify($1, $2)", channel, string(raw))
	return err
}

// Listen hands on every event until ctx ends. It reconnects by itself; back is called after each gap, since
// events may have been missed.
func (s *Store) Listen(ctx context.Context, on func(Event), back func()) {
	for first := true; ctx.Err() == nil; first = false {
		if !first {
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Second):
			}
		}
		if err := s.listenOnce(ctx, on, func() {
			if !first {
				back()
			}
		}); err != nil && ctx.Err() == nil {
			s.log.Warn("the database is away; events will follow when it is back", "err", err)
		}
	}
}

func (s *Store) listenOnce(ctx context.Context, on func(Event), ready func()) error {
	conn, err := pgx.ConnectConfig(ctx, s.Pool.Config().ConnConfig.Copy())
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
		return err
	}
	ready()
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var e Event
		if json.Unmarshal([]byte(n.Payload), &e) == nil {
			on(e)
		}
	}
}

// tx runs fn in a transaction.
func (s *Store) tx(ctx context.Context, fn func(*sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	if err := fn(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// found turns "no rows" into ErrNotFound.
func found(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// one reports ErrNotFound where a statement touched no row.
func one(res sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err == nil && n == 0 {
		return ErrNotFound
	}
	return nil
}
