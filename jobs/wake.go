package jobs

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/latch"
)

// WakeArgs goes on with a device whose wait has ended: it was locked, or held back so that it does not lock.
type WakeArgs struct {
	Device uuid.UUID `json:"device"`
	Until  time.Time `json:"until"` // it stands for the wait: one job a wait
}

// Kind implements river.JobArgs.
func (WakeArgs) Kind() string { return "wake" }

type wakeWorker struct {
	river.WorkerDefaults[WakeArgs]
	env *env
}

// Work begins a run, where the device waits still: somebody may have opened it meanwhile.
func (w *wakeWorker) Work(ctx context.Context, job *river.Job[WakeArgs]) error {
	d, err := w.env.store.Devices.Get(ctx, job.Args.Device)
	if err != nil {
		return w.env.finish(ctx, uuid.Nil, err)
	}
	at := d.Status.At()
	if at == "" || at == latch.Heard {
		return nil
	}
	if why := d.Status.Latch(at).Diagnosis; why == nil || why.Until == nil || why.Until.After(time.Now()) {
		return nil
	}
	q := &Queue{store: w.env.store, client: river.ClientFromContext[pgxTx](ctx)}
	_, err = q.open(ctx, d.Site, fmt.Sprintf("Try %s again: its wait is over", d.Title()), []uuid.UUID{d.ID}, OpenArgs{Unattended: true})
	return err
}
