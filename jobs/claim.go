package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/store"
)

// ClaimArgs gives a factory-fresh device its first account, or the account that it has from the factory a password of its own. The password
// is on the keyring before the job exists: a crash between saving and sending locks nobody out.
type ClaimArgs struct {
	Run    uuid.UUID `json:"run"`
	Device uuid.UUID `json:"device"`
	SignIn uuid.UUID `json:"sign_in"`
}

// Kind implements river.JobArgs.
func (ClaimArgs) Kind() string { return "claim" }

// A Claim is one device with the keyring entry that it shall take.
type Claim struct{ Device, SignIn uuid.UUID }

// Claim begins a run that claims devices.
func (q *Queue) Claim(ctx context.Context, site uuid.UUID, title string, claims []Claim) (store.Run, error) {
	return begin(ctx, q, site, "claim", title, int64(len(claims)), claims, func(run uuid.UUID, c Claim) river.JobArgs {
		return ClaimArgs{Run: run, Device: c.Device, SignIn: c.SignIn}
	})
}

type claimWorker struct {
	river.WorkerDefaults[ClaimArgs]
	env *env
}

func (w *claimWorker) Work(ctx context.Context, job *river.Job[ClaimArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(d *deviceJob) error { return d.Claim(ctx, job.Args.SignIn) })
}
