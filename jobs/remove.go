package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/store"
)

// RemoveArgs takes one camera off one target.
type RemoveArgs struct {
	Run    uuid.UUID `json:"run"`
	Device uuid.UUID `json:"device"`
	Target uuid.UUID `json:"target"`
}

// Kind implements river.JobArgs.
func (RemoveArgs) Kind() string { return "remove" }

// Remove begins a run that takes cameras off a target: the undo of placing them.
func (q *Queue) Remove(ctx context.Context, site uuid.UUID, title string, devices []uuid.UUID, from uuid.UUID) (store.Run, error) {
	return begin(ctx, q, site, "remove", title, int64(len(devices)), devices, func(run uuid.UUID, d uuid.UUID) river.JobArgs {
		return RemoveArgs{Run: run, Device: d, Target: from}
	})
}

type removeWorker struct {
	river.WorkerDefaults[RemoveArgs]
	env *env
}

func (w *removeWorker) Work(ctx context.Context, job *river.Job[RemoveArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(d *deviceJob) error {
		// The wish goes once the camera has.
		if err := d.Remove(ctx, job.Args.Target); err != nil {
			return err
		}
		return w.env.store.Targets.Unwant(ctx, job.Args.Device, job.Args.Target)
	})
}
