package store

import (
	"context"
	"sync"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// keyed are the locks of this process. Without them every waiter would hold a connection of its own while it waits in the
// database, and the one that is not waiting would find none left.
var keyed sync.Map // uuid.UUID to chan struct{}

// Locked runs fn while no other worker, in this process or another, runs one for the same key.
func (s *Store) Locked(ctx context.Context, key uuid.UUID, fn func() error) error {
	slot, _ := keyed.LoadOrStore(key, make(chan struct{}, 1))
	local := slot.(chan struct{})
	select {
	case local <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-local }()
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(hashtextextended($1, 0))", key.String()); err != nil {
			return err
		}
		return fn()
	})
}
