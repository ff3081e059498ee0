package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/store"
)

// OpenArgs opens the latches of one device as far as they go.
type OpenArgs struct {
	Run    uuid.UUID `json:"run"`
	Device uuid.UUID `json:"device"`
	Again  bool      `json:"again"` // play streams again that are proven already
	// Unattended work was begun by nobody: it goes on by itself after a wait, and sends no sign-in so that it can be read.
	Unattended bool `json:"unattended,omitempty"`
	// Retry sends again what the device has refused: a person has mended something on it.
	Retry bool `json:"retry,omitempty"`
}

// Kind implements river.JobArgs.
func (OpenArgs) Kind() string { return "open" }

// Open begins a run that opens the latches of devices, one job each.
func (q *Queue) Open(ctx context.Context, site uuid.UUID, title string, devices []uuid.UUID, again bool) (store.Run, error) {
	return q.open(ctx, site, title, devices, OpenArgs{Again: again})
}

// Retry is Open for devices on which a person has mended something: what they refused before is sent once more, within the guard's bound.
func (q *Queue) Retry(ctx context.Context, site uuid.UUID, title string, devices []uuid.UUID) (store.Run, error) {
	return q.open(ctx, site, title, devices, OpenArgs{Retry: true})
}

func (q *Queue) open(ctx context.Context, site uuid.UUID, title string, devices []uuid.UUID, how OpenArgs) (store.Run, error) {
	return begin(ctx, q, site, "open", title, int64(len(devices)), devices, func(run uuid.UUID, d uuid.UUID) river.JobArgs {
		how.Run, how.Device = run, d
		return how
	})
}

type openWorker struct {
	river.WorkerDefaults[OpenArgs]
	env *env
}

func (w *openWorker) Work(ctx context.Context, job *river.Job[OpenArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(d *deviceJob) error {
		d.Unattended, d.Retry = job.Args.Unattended, job.Args.Retry
		if job.Args.Again {
			if err := d.ProveAgain(ctx); err != nil {
				return err
			}
		}
		return d.Open(ctx)
	})
}
