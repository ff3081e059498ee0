package store

import (
	"context"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// Reach keeps which sites the worker of a lease reaches. A worker that has lost its lease is told so by ErrFenced.
func (s Workers) Reach(ctx context.Context, l Lease, sites []uuid.UUID) error {
	return s.tx(WithLease(ctx, l), func(tx *sqlx.Tx) error {
		if _, err := fenced(WithLease(ctx, l), tx); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM worker_sites WHERE worker = $1 AND site_id <> ALL(COALESCE($2::uuid[], '{}'))",
			l.Worker, sites); err != nil {
			return err
		}
		// Only what is new is told of: this is said every few seconds.
		var fresh []uuid.UUID
		if err := tx.SelectContext(ctx, &fresh, `INSERT INTO worker_sites (worker, site_id) SELECT $1, id FROM sites WHERE id = ANY($2)
			ON CONFLICT DO NOTHING RETURNING site_id`, l.Worker, sites); err != nil {
			return err
		}
		for _, site := range fresh {
			if err := s.notify(ctx, tx, Event{Site: site, What: "site", ID: site}); err != nil {
				return err
			}
		}
		return nil
	})
}

// Reached lists the sites that some worker reaches now.
func (s Workers) Reached(ctx context.Context) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.on(ctx).SelectContext(ctx, &ids, "SELECT DISTINCT site_id FROM worker_sites")
	out := map[uuid.UUID]bool{}
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}
