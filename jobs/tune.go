package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/bringup"
	"unlatch/store"
)

// TuneArgs sets the streams of one device to a plan, puts them back, or restarts it.
type TuneArgs struct {
	Run    uuid.UUID      `json:"run"`
	Device uuid.UUID      `json:"device"`
	Tuning bringup.Tuning `json:"tuning"`
}

// Kind implements river.JobArgs.
func (TuneArgs) Kind() string { return "tune" }

// A Tune is one device with what it shall be set to.
type Tune struct {
	Device uuid.UUID
	bringup.Tuning
}

// Tune begins a run that sets the streams of devices, one job each. They wait for encoders to settle, as those wait for restarts that are
// given addresses, and share their queue: more of them at once than of the jobs that try sign-ins, which learn from each other.
func (q *Queue) Tune(ctx context.Context, site uuid.UUID, title string, list []Tune) (store.Run, error) {
	return beginIn(ctx, q, moveQueueOf(site), site, "tune", title, int64(len(list)), list, func(run uuid.UUID, t Tune) river.JobArgs {
		return TuneArgs{Run: run, Device: t.Device, Tuning: t.Tuning}
	})
}

type tuneWorker struct {
	river.WorkerDefaults[TuneArgs]
	env *env
}

func (w *tuneWorker) Work(ctx context.Context, job *river.Job[TuneArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(d *deviceJob) error { return d.Tune(ctx, job.Args.Tuning) })
}
