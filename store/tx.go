package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// txKey is the context key of the transaction that statements belong to.
type txKey struct{}

// A querier runs statements: a database, or a transaction on it.
type querier interface {
	GetContext(ctx context.Context, dest any, query string, args ...any) error
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	NamedExecContext(ctx context.Context, query string, arg any) (sql.Result, error)
}

// on returns what the statements of ctx run on: the transaction that ctx carries, else the database. So each method of the store is
// one transaction where it is called alone, and part of a larger one where an act calls several.
func (s *database) on(ctx context.Context) querier {
	if tx, ok := ctx.Value(txKey{}).(*sqlx.Tx); ok {
		return tx
	}
	return s.db
}

// planned is on for statements about a single thing, whose plan does not depend on which it is.
func (s *database) planned(ctx context.Context) querier {
	if tx, ok := ctx.Value(txKey{}).(*sqlx.Tx); ok {
		return tx
	}
	return s.single
}

// tx runs fn in the transaction that ctx carries, and in one of its own where ctx carries none.
func (s *database) tx(ctx context.Context, fn func(*sqlx.Tx) error) error {
	if tx, ok := ctx.Value(txKey{}).(*sqlx.Tx); ok {
		return fn(tx)
	}
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	if err := fn(tx); err != nil {
		return errors.Join(notGone(ctx, err), notGone(ctx, tx.Rollback()))
	}
	return notGone(ctx, tx.Commit())
}

// notGone tells a transaction that database/sql has cancelled, since its connection was lost or its time was up, from one whose caller has
// gone: it becomes what Away knows, or the deadline.
func notGone(ctx context.Context, err error) error {
	switch {
	case !errors.Is(err, context.Canceled) || errors.Is(ctx.Err(), context.Canceled):
		return err
	case ctx.Err() != nil:
		return ctx.Err()
	}
	return fmt.Errorf("the transaction was ended: %w", sql.ErrConnDone)
}

// together runs fn with a context that carries one transaction: all that the store writes with it is kept, or nothing of it.
func (s *database) together(ctx context.Context, fn func(context.Context, *sqlx.Tx) error) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error { return fn(context.WithValue(ctx, txKey{}, tx), tx) })
}

// Tx returns the transaction that ctx carries, for the queue; nil where it carries none.
func (s *Store) Tx(ctx context.Context) *sql.Tx {
	if tx, ok := ctx.Value(txKey{}).(*sqlx.Tx); ok {
		return tx.Tx
	}
	return nil
}
