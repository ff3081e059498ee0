package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/bringup"
	"unlatch/core/tuning"
	"unlatch/store"
)

// TuneArgs sets the streams of one device to a plan, or puts them back.
type TuneArgs struct {
	Run    uuid.UUID                `json:"run"`
	Device uuid.UUID                `json:"device"`
	Plan   map[string]tuning.Stream `json:"plan"`
	Undo   bool                     `json:"undo"`
}

// Kind implements river.JobArgs.
func (TuneArgs) Kind() string { return "tune" }

// Tune begins a run that sets the streams of devices to one plan, one job each.
func (q *Queue) Tune(ctx context.Context, site uuid.UUID, title string, devices []uuid.UUID, t bringup.Tuning) (store.Run, error) {
	return begin(ctx, q, site, "tune", title, int64(len(devices)), devices, func(run, device uuid.UUID) river.JobArgs {
		return TuneArgs{Run: run, Device: device, Plan: t.Plan, Undo: t.Undo}
	})
}

type tuneWorker struct {
	river.WorkerDefaults[TuneArgs]
	env *env
}

func (w *tuneWorker) Work(ctx context.Context, job *river.Job[TuneArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(d *deviceJob) error {
		return d.Tune(ctx, bringup.Tuning{Plan: job.Args.Plan, Undo: job.Args.Undo})
	})
}
