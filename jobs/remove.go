package jobs

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/diagnose"
	"unlatch/core/evidence"
	"unlatch/core/target"
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
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(o *deviceWork) error { return o.remove(ctx, job.Args.Target) })
}

// remove takes the camera off its slot and the wish with it. A recorder that does not answer keeps the camera, and so does
// the record.
func (o *deviceWork) remove(ctx context.Context, from uuid.UUID) error {
	for _, p := range o.d.Status.Placements {
		if p.Target != from {
			continue
		}
		if p.Slot == "" {
			return o.env.store.Unwant(ctx, o.d.ID, from)
		}
		o.env.store.Progress(ctx, o.run, fmt.Sprintf("%s: taking it off %s", o.d.Title(), p.Name), -1)
		log := o.newLog()
		rec, user, err := o.recorderOf(ctx, from, log)
		if err != nil {
			return err
		}
		if rec == nil {
			return fmt.Errorf("%s is not signed in to, so the camera stays on it", p.Name)
		}
		defer rec.Client.Close()
		if err := rec.Remove(ctx, target.Placement{Slot: p.Slot, Receiver: p.Receiver, Job: p.Job}); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return errors.New(diagnose.Explain(err, o.facts("", "the recorder", user)).Summary)
		}
		if err := o.record(ctx, store.Finding{Subject: from.String(), Exchange: log.String(), Body: evidence.Placed{Removed: true}}); err != nil {
			return err
		}
		return o.env.store.Unwant(ctx, o.d.ID, from)
	}
	return nil
}
