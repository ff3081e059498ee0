package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/bringup"
	"unlatch/core/remedy"
	"unlatch/store"
)

// RemedyArgs mends one thing on one device, or takes that back.
type RemedyArgs struct {
	Run    uuid.UUID     `json:"run"`
	Device uuid.UUID     `json:"device"`
	Action remedy.Action `json:"action"`
	SignIn uuid.UUID     `json:"sign_in"` // of a stream user: the keyring entry that the device shall take
	Undo   bool          `json:"undo"`
}

// Kind implements river.JobArgs.
func (RemedyArgs) Kind() string { return "remedy" }

// A Remedy is one device with what to do on it.
type Remedy struct {
	Device uuid.UUID
	Action remedy.Action
	SignIn uuid.UUID
	Undo   bool
}

// Remedy begins a run that mends devices, one job each.
func (q *Queue) Remedy(ctx context.Context, site uuid.UUID, title string, list []Remedy) (store.Run, error) {
	return begin(ctx, q, site, "remedy", title, int64(len(list)), list, func(run uuid.UUID, r Remedy) river.JobArgs {
		return RemedyArgs{Run: run, Device: r.Device, Action: r.Action, SignIn: r.SignIn, Undo: r.Undo}
	})
}

type remedyWorker struct {
	river.WorkerDefaults[RemedyArgs]
	env *env
}

func (w *remedyWorker) Work(ctx context.Context, job *river.Job[RemedyArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(d *deviceJob) error {
		return d.Remedy(ctx, bringup.Change{Action: job.Args.Action, SignIn: job.Args.SignIn, Undo: job.Args.Undo})
	})
}
