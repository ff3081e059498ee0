package store

import "context"

type lazyKey struct{}

// Lazily has what is recorded under ctx wait for no disk. Where the database's machine fails, what was recorded in its last half second
// may be lost, and then everything that was recorded after it is lost too: a job whose end is on record has all that it found on record.
// It is for what is found again by whoever takes the job up.
//
// While the disk is written to, a transaction holds the lock by which PostgreSQL puts its notifications in order, so that otherwise all
// workers together could record no more than the disk takes writes one after the other.
func Lazily(ctx context.Context) context.Context { return context.WithValue(ctx, lazyKey{}, true) }

func lazy(ctx context.Context) bool { return ctx.Value(lazyKey{}) != nil }

// lazily is an expression that has the transaction which it is in wait for no disk when it is committed.
const lazily = "set_config('synchronous_commit', 'off', true)"
