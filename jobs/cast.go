package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/bringup"
	"unlatch/store"
)

// CastArgs measures or changes how one device sends its streams to groups.
type CastArgs struct {
	Run     uuid.UUID       `json:"run"`
	Device  uuid.UUID       `json:"device"`
	Casting bringup.Casting `json:"casting"`
}

// Kind implements river.JobArgs.
func (CastArgs) Kind() string { return "cast" }

// A Cast is one device with what is to be done about its groups.
type Cast struct {
	Device uuid.UUID
	bringup.Casting
}

// Cast begins a run about the groups of devices, one job each.
func (q *Queue) Cast(ctx context.Context, site uuid.UUID, title string, list []Cast) (store.Run, error) {
	return begin(ctx, q, site, "multicast", title, int64(len(list)), list, func(run uuid.UUID, x Cast) river.JobArgs {
		return CastArgs{Run: run, Device: x.Device, Casting: x.Casting}
	})
}

type castWorker struct {
	river.WorkerDefaults[CastArgs]
	env *env
}

func (w *castWorker) Work(ctx context.Context, job *river.Job[CastArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(d *deviceJob) error { return d.Multicast(ctx, job.Args.Casting) })
}
