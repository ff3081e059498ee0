package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"
)

// Workers are the processes that work the queues, with their leases and the sites that they reach.
type Workers struct{ *database }

// A Lease says that a worker holds its lock. It ends when the worker's connection to the database is lost: whoever takes its jobs up
// gives them another epoch, and what the old one still does is refused.
type Lease struct {
	Worker string
	Epoch  int64
}

// ErrFenced means that a worker has lost its lease: another may be at its work, and it must stop.
var ErrFenced = errors.New("this worker has lost its lease: another may have taken up its work")

type leaseKey struct{}

// WithLease makes every write and every try under ctx a part of the lease.
func WithLease(ctx context.Context, l Lease) context.Context {
	return context.WithValue(ctx, leaseKey{}, l)
}

// leaseQuery asks whether a lease holds.
const leaseQuery = "SELECT EXISTS (SELECT 1 FROM workers WHERE name = $1 AND epoch = $2 FOR SHARE)"

// fenced refuses a transaction of a worker whose lease has ended. It keeps the lease from ending before the transaction does.
func fenced(ctx context.Context, tx *sqlx.Tx) (worker string, err error) {
	l, ok := ctx.Value(leaseKey{}).(Lease)
	if !ok {
		return "", nil
	}
	var held bool
	if err := tx.GetContext(ctx, &held, leaseQuery, l.Worker, l.Epoch); err != nil {
		return "", err
	}
	if !held {
		return "", ErrFenced
	}
	return l.Worker, nil
}

// askLease asks in a transaction whether the lease of ctx holds, and keeps it from ending before the transaction does. Without a lease
// held is true.
func askLease(ctx context.Context, b *pgx.Batch, held *bool) {
	if l, ok := ctx.Value(leaseKey{}).(Lease); ok {
		b.Queue(leaseQuery, l.Worker, l.Epoch).QueryRow(scan(held))
	} else {
		*held = true
	}
}

// Rescue ends the leases of workers that have died, and gives their jobs back to the queue. A worker holds an advisory lock by its name
// for as long as its connection lives. What came of a try that a dead worker had begun nobody has seen: the device may have judged it, so
// that it counts as refused until one opens.
func (s Workers) Rescue(ctx context.Context) (jobs int64, err error) {
	const alive = `EXISTS (SELECT 1 FROM pg_locks l WHERE l.locktype = 'advisory' AND l.classid = $1
		AND l.objid = (hashtext(%s)::bigint & 4294967295)::oid AND l.granted)`
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		var dead []string
		if err := tx.SelectContext(ctx, &dead, "DELETE FROM workers WHERE NOT "+fmt.Sprintf(alive, "name")+" RETURNING name",
			workerLock); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			"UPDATE tries SET result = 'unseen' WHERE result = 'pending' AND (worker = ANY($1) OR worker <> "+
				"'' AND worker NOT IN (SELECT name FROM workers))", dead); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, `UPDATE river_job SET state = 'available', attempt = greatest(attempt - 1, 0), scheduled_at = now()
			WHERE state = 'running' AND NOT `+fmt.Sprintf(alive, "attempted_by[array_upper(attempted_by, 1)]"), workerLock)
		if err != nil {
			return err
		}
		jobs, err = res.RowsAffected()
		return err
	})
	return jobs, err
}

const workerLock = 7306002

// Hold marks a worker as alive until ctx ends. held is called with each lease, and its context ends with the lease: when the database
// has gone away, or the lock was lost. When the database is back a new lease begins, with another epoch.
func (s Workers) Hold(ctx context.Context, worker string, held func(context.Context, Lease)) {
	for ctx.Err() == nil {
		if err := s.holdOnce(ctx, worker, held); err != nil && ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-time.After(300 * time.Millisecond):
			}
		}
	}
}

func (s Workers) holdOnce(ctx context.Context, worker string, held func(context.Context, Lease)) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	// The connection carries the lock and must not go back to the pool with it.
	raw := conn.Hijack()
	defer raw.Close(context.WithoutCancel(ctx))
	if _, err := raw.Exec(ctx, "SELECT pg_advisory_lock($1, hashtext($2))", workerLock, worker); err != nil {
		return err
	}
	l := Lease{Worker: worker}
	if err := raw.QueryRow(ctx, `INSERT INTO workers (name, epoch) VALUES ($1, nextval('worker_epochs'))
		ON CONFLICT (name) DO UPDATE SET epoch = excluded.epoch RETURNING epoch`, worker).Scan(&l.Epoch); err != nil {
		return err
	}
	lease, end := context.WithCancel(ctx)
	defer end()
	held(lease, l)
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(2 * time.Second):
			ping, cancel := context.WithTimeout(ctx, 5*time.Second)
			err := raw.Ping(ping)
			cancel()
			if err != nil {
				return err
			}
		}
	}
}
