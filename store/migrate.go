package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

// An Update is what a start will do to the tables of a database that an older version has made.
type Update struct {
	From, To int64 // numbers of migrations
	// Bytes is the size of the database, and About how long the update may take: what it writes anew, at a speed that a slow disk has.
	Bytes int64
	About time.Duration
}

// rewritten are the tables that a migration writes anew, or reads as a whole, by its number: they make it take long.
var rewritten = map[int64][]string{16: {"evidence"}, 21: {"evidence"}, 24: {"audit"}, 29: {"evidence"}, 33: {"evidence"}}

// slowDisk is how much a migration gets done in a second, in bytes.
const slowDisk = 20 << 20

// A RightsError means that the role may not do with its database what the product needs.
type RightsError struct{ Detail string }

func (e *RightsError) Error() string {
	return "the role may not make tables in this database (" + e.Detail + "); make it the owner: ALTER DATABASE name OWNER TO role, and " +
		"ALTER SCHEMA public OWNER TO role"
}

// Migrate brings the tables of a store that was opened as they are (Options.AsIs) up to date, and does nothing else that a start does.
func (s *Store) Migrate(ctx context.Context) error { return s.migrate(ctx, nil) }

// migrate brings the tables up to date. Each migration is one transaction, so that a start which is cut off changes nothing, or one
// migration more; the next goes on there.
func (s *Store) migrate(ctx context.Context, before func(context.Context, Update) error) error {
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
	knows := Schema()
	has, err := p.GetDBVersion(ctx)
	if err == nil && has == knows { // reading all migrations to find that none is missing takes longer than the rest of a start
		return s.migrateQueue(ctx, conn)
	}
	switch {
	case err != nil:
		return rightsError(err)
	case has > knows:
		return &NewerError{Has: has, Knows: knows}
	case has > 0 && has < knows:
		if err := s.announceUpdate(ctx, has, knows, before); err != nil {
			return err
		}
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing the tables up to date: %w", rightsError(err))
	}
	return s.migrateQueue(ctx, conn)
}

// migrateQueue brings the tables of the queue up to date.
func (s *Store) migrateQueue(ctx context.Context, conn *pgxpool.Conn) error {
	m, err := rivermigrate.New(riverpgxv5.New(s.Pool), &rivermigrate.Config{Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return err
	}
	// River's table is River's; that its jobs are counted by run is ours. Nothing looks into arguments otherwise, and River's index over all
	// that stands in them costs more than the jobs themselves.
	_, err = conn.Exec(ctx, "CREATE INDEX IF NOT EXISTS river_job_run ON river_job ((args->>'run')); "+
		"DROP INDEX IF EXISTS river_job_args_index")
	if err != nil {
		return err
	}
	return s.keepQueueFromFar(ctx)
}

// rightsError says so where a role lacks rights (PostgreSQL error 42501).
func rightsError(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "42501" {
		return &RightsError{pg.Message}
	}
	return err
}

// announceUpdate says what an update will do, and has before called, which may refuse it.
func (s *Store) announceUpdate(ctx context.Context, has, knows int64, before func(context.Context, Update) error) error {
	u := Update{From: has, To: knows}
	if err := s.on(ctx).GetContext(ctx, &u.Bytes, "SELECT pg_database_size(current_database())"); err != nil {
		return err
	}
	var writes int64
	for n := has + 1; n <= knows; n++ {
		for _, table := range rewritten[n] {
			var size int64
			if err := s.on(ctx).GetContext(ctx, &size, "SELECT COALESCE(pg_total_relation_size(to_regclass($1)), 0)", table); err != nil {
				return err
			}
			writes += size
		}
	}
	u.About = time.Duration(writes/slowDisk)*time.Second + time.Duration(knows-has)*100*time.Millisecond
	s.log.Warn("the tables are brought up to date; a start that is cut off meanwhile goes on the next time", "from", u.From, "to", u.To,
		"database MB", u.Bytes>>20, "takes about", u.About.Round(time.Second))
	if before == nil {
		return nil
	}
	return before(ctx, u)
}
