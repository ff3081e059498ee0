package main

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unlatch/core/ground/address"
	"unlatch/jobs"
	"unlatch/store"
	"unlatch/store/cluster"
)

// A line is a server with one site of 2,000 cameras on a database of its own, and the page of its owner.
type line struct {
	store   *store.Store
	site    uuid.UUID
	devices []uuid.UUID
	page    *page
	closers []func()
}

// layLine makes one. trace is told of each statement that is sent to the database; it may be nil.
func layLine(ctx context.Context, trace func(context.Context, *pgx.Conn, string)) (l *line, err error) {
	if l, err = bareLine(ctx, trace); err != nil {
		return l, err
	}
	if err := l.fill(ctx); err != nil {
		l.close()
		return l, err
	}
	return l, nil
}

// bareLine makes one of an empty store.
func bareLine(ctx context.Context, trace func(context.Context, *pgx.Conn, string)) (l *line, err error) {
	l = &line{}
	defer func() {
		if err != nil {
			l.close()
		}
	}()
	dir, err := os.MkdirTemp("", "unlatch-bench-*")
	if err != nil {
		return l, err
	}
	l.closers = append(l.closers, func() { os.RemoveAll(dir) })
	os.Chmod(dir, 0o755)
	pg, err := cluster.Start(ctx, cluster.Options{Dir: filepath.Join(dir, "pg"), Scratch: true})
	if err != nil {
		return l, err
	}
	l.closers = append(l.closers, pg.Stop)
	l.store, err = store.OpenWith(ctx, store.Options{URL: pg.URL, KeyFile: filepath.Join(dir, "key"), Log: quiet, Trace: trace})
	if err != nil {
		return l, err
	}
	l.closers = append(l.closers, l.store.Close)
	return l, nil
}

var quiet = slog.New(slog.DiscardHandler)

// fill makes the site and whoever looks at it.
func (l *line) fill(ctx context.Context) error {
	q, err := jobs.NewQueue(l.store, quiet)
	if err != nil {
		return err
	}
	site, err := l.store.Sites.Create(ctx, "Long line", address.MustParse("10.20.0.0/16"))
	if err != nil {
		return err
	}
	l.site = site.ID
	if l.devices, err = generate(ctx, l.store, site.ID, linedUp); err != nil {
		return err
	}
	page, stop, err := signedInPage(ctx, l.store, q)
	if err != nil {
		return err
	}
	l.page, l.closers = page, append(l.closers, stop)
	return nil
}

func (l *line) close() {
	for i := len(l.closers) - 1; i >= 0; i-- {
		l.closers[i]()
	}
}
