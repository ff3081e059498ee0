package jobs

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/netconfig"
	"unlatch/store"
)

// AddressArgs gives one device another address.
type AddressArgs struct {
	Run    uuid.UUID         `json:"run"`
	Device uuid.UUID         `json:"device"`
	To     netconfig.Setting `json:"to"`
}

// Kind implements river.JobArgs.
func (AddressArgs) Kind() string { return "address" }

// An Address is one device's line of an address plan.
type Address struct {
	Device uuid.UUID
	To     netconfig.Setting
}

// SetAddresses begins a run that applies an address plan, one job a device: they restart at the same time, and one that fails does not
// hold the others up.
func (q *Queue) SetAddresses(ctx context.Context, site uuid.UUID, title string, plan []Address) (store.Run, error) {
	// Two steps a device: it is moved, and its latches are opened anew.
	return beginIn(ctx, q, moveQueueOf(site), site, "address", title, 2*int64(len(plan)), plan, func(run uuid.UUID,
		a Address) river.JobArgs {
		return AddressArgs{Run: run, Device: a.Device, To: a.To}
	})
}

type addressWorker struct {
	river.WorkerDefaults[AddressArgs]
	env *env
}

// Timeout leaves room for the slowest restart.
func (w *addressWorker) Timeout(*river.Job[AddressArgs]) time.Duration {
	return netconfig.Wait + jobTimeout/2
}

func (w *addressWorker) Work(ctx context.Context, job *river.Job[AddressArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(d *deviceJob) error {
		moved, err := d.SetAddress(ctx, job.Args.To)
		switch {
		case err != nil:
			return err
		case moved:
			return d.openLater(ctx) // so that the recorder gets the new URL too
		}
		return w.env.store.Runs.StepDone(ctx, d.run) // the second step of it falls away
	})
}

// openLater adds the job that opens the device's latches to the same run, once.
func (d *deviceJob) openLater(ctx context.Context) error {
	_, err := river.ClientFromContext[pgxTx](ctx).Insert(ctx, OpenArgs{Run: d.run, Device: d.Device().ID},
		&river.InsertOpts{Queue: queueOf(d.site.ID), UniqueOpts: river.UniqueOpts{ByArgs: true}})
	return err
}
