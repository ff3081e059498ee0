package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/bringup"
	"unlatch/core/fix"
	"unlatch/store"
)

// FixArgs mends one thing on one device, or takes that back.
type FixArgs struct {
	Run    uuid.UUID  `json:"run"`
	Device uuid.UUID  `json:"device"`
	Action fix.Action `json:"action"`
	SignIn uuid.UUID  `json:"sign_in"` // of a stream user: the keyring entry that the device shall take
	Undo   bool       `json:"undo"`
}

// Kind implements river.JobArgs.
func (FixArgs) Kind() string { return "fix" }

// A Fix is one device with what to do on it.
type Fix struct {
	Device uuid.UUID
	Action fix.Action
	SignIn uuid.UUID
	Undo   bool
}

// Fix begins a run that mends devices, one job each.
func (q *Queue) Fix(ctx context.Context, site uuid.UUID, title string, list []Fix) (store.Run, error) {
	return begin(ctx, q, site, "fix", title, int64(len(list)), list, func(run uuid.UUID, r Fix) river.JobArgs {
		return FixArgs{Run: run, Device: r.Device, Action: r.Action, SignIn: r.SignIn, Undo: r.Undo}
	})
}

type fixWorker struct {
	river.WorkerDefaults[FixArgs]
	env *env
}

func (w *fixWorker) Work(ctx context.Context, job *river.Job[FixArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(d *deviceJob) error {
		return d.Fix(ctx, bringup.Change{Action: job.Args.Action, SignIn: job.Args.SignIn, Undo: job.Args.Undo})
	})
}
