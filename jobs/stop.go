package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"
)

// open are the states of a job that is still to be done.
var open = []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRetryable,
	rivertype.JobStateRunning, rivertype.JobStateScheduled}

// mostListed is how many jobs are listed in one go.
const mostListed = 1000

// Stop ends a run: what waits is taken out, what is under way is cut short. It belongs to the transaction that ctx carries.
func (q *Queue) Stop(ctx context.Context, run uuid.UUID) error {
	return q.store.Acts().Together(ctx, func(ctx context.Context) error {
		if err := q.store.Runs.Stop(ctx, run); err != nil {
			return err
		}
		return q.cancel(ctx, river.NewJobListParams().Where("args->>'run' = @run", river.NamedArgs{"run": run.String()}))
	})
}

// DropSite takes the jobs of a site that is no more out of the queue.
func (q *Queue) DropSite(ctx context.Context, site uuid.UUID) error {
	return q.store.Acts().Together(ctx, func(ctx context.Context) error {
		return q.cancel(ctx, river.NewJobListParams().Queues(queueOf(site), moveQueueOf(site), outsideQueueOf(site)))
	})
}

// cancel cancels the jobs that a list names and that are still to be done, in the transaction of ctx.
func (q *Queue) cancel(ctx context.Context, list *river.JobListParams) error {
	tx := q.store.Tx(ctx)
	page := func(list *river.JobListParams) (*river.JobListResult, error) {
		return q.client.JobListTx(ctx, tx, list)
	}
	return eachOpenJob(list, page, func(j *rivertype.JobRow) error {
		_, err := q.client.JobCancelTx(ctx, tx, j.ID)
		return err
	})
}

// Left counts the jobs that are still to be done, by their state.
func (q *Queue) Left(ctx context.Context) (map[string]int, error) {
	out := map[string]int{}
	for _, state := range open {
		out[string(state)] = 0
	}
	page := func(list *river.JobListParams) (*river.JobListResult, error) { return q.client.JobList(ctx, list) }
	return out, eachOpenJob(river.NewJobListParams(), page, func(j *rivertype.JobRow) error {
		out[string(j.State)]++
		return nil
	})
}

// eachOpenJob calls do for the jobs that a list names and that are still to be done, page by page.
func eachOpenJob(list *river.JobListParams, next func(*river.JobListParams) (*river.JobListResult, error),
	do func(*rivertype.JobRow) error) error {
	list = list.States(open...).First(mostListed)
	for {
		page, err := next(list)
		if err != nil {
			return err
		}
		for _, j := range page.Jobs {
			if err := do(j); err != nil {
				return err
			}
		}
		if len(page.Jobs) < mostListed {
			return nil
		}
		list = list.After(page.LastCursor)
	}
}
