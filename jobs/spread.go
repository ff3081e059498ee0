package jobs

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"unlatch/core/decide/command"
)

// spread carries out command.Spread. That the commands are queued and that this job is done is one transaction, so that a worker that is
// killed leaves none or all of them.
func (e *env) spread(ctx context.Context, job *river.Job[siteArgs]) error {
	err := pgx.BeginFunc(ctx, e.store.Pool, func(tx pgx.Tx) error {
		var stopped sql.NullTime
		// Whoever stops the run waits for this transaction, and then finds its jobs; or this one waits, and queues nothing.
		err := tx.QueryRow(ctx, "SELECT stopped_at FROM runs WHERE id = $1 FOR SHARE", job.Args.Run).Scan(&stopped)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		mine, err := tx.Exec(ctx, "SELECT 1 FROM river_job WHERE id = $1 AND state = 'running' AND attempt = $2 FOR UPDATE", job.ID, job.Attempt)
		if err != nil || mine.RowsAffected() == 0 { // another worker has taken it over
			return err
		}
		if _, err := river.JobCompleteTx[*riverpgxv5.Driver](ctx, tx, job); err != nil || stopped.Valid {
			return err
		}
		var work command.Work
		for _, g := range job.Args.Do.Spread.Devices {
			work.Devices = append(work.Devices, command.Each(g.Devices, g.Do)...)
		}
		_, err = river.ClientFromContext[pgx.Tx](ctx).InsertManyTx(ctx, tx, jobsOf(job.Args.Site, job.Args.Run, work))
		return err
	})
	return e.finish(ctx, job.Args.Run, err)
}
