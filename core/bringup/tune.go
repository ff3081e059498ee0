package bringup

import (
	"context"
	"fmt"
	"maps"

	"unlatch/core/evidence"
	"unlatch/core/onvif"
	"unlatch/core/tuner"
	"unlatch/core/tuning"
)

// A Tuning sets streams to a plan by role, or puts back what they were before.
type Tuning struct {
	Plan map[string]tuning.Stream
	Undo bool
}

// Tune sets the streams of the device, reads them back, and proves them anew. What was before is recorded before anything is sent: a work
// that is killed in between can be gone on with, and undone.
func (w *Work) Tune(ctx context.Context, t Tuning) error {
	if t.Undo && w.d.Status.Tuning == nil {
		return w.Report.Problem(ctx, w.d.Title+": Unlatch has set no stream of this device that it could put back.")
	}
	c, in, err := w.signedClient(ctx)
	body := evidence.Tuned{Undone: t.Undo, Plan: t.Plan}
	if err == nil {
		err = w.setStreams(ctx, c.Client, t, &body)
	}
	body.Pending = false
	if body.Diagnosis, err = Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the device", in.User)); err != nil {
		return err
	}
	if err := w.Keep(ctx, Finding{Body: body}); err != nil {
		return err
	}
	if body.Diagnosis != nil {
		return w.Report.Problem(ctx, fmt.Sprintf("%s: %s %s", w.d.Title, body.Diagnosis.Summary, body.Diagnosis.Fix))
	}
	if w.OnlyChange {
		return nil
	}
	if err := w.locate(ctx); err != nil { // what it says of its streams is another thing now
		return err
	}
	if err := w.Read(ctx); err != nil {
		return err
	}
	w.d.Status.Proofs = nil // and what was proven was of other settings
	if err := w.prove(ctx); err != nil {
		return err
	}
	return w.Open(ctx)
}

// setStreams sends the plan. One that was begun before and not finished keeps what it found then: what the device says now may be its work
// already. So does one that stands on the device, as long as nobody has put it back.
func (w *Work) setStreams(ctx context.Context, c *onvif.Client, t Tuning, body *evidence.Tuned) error {
	was := w.d.Status.Tuning
	if t.Undo {
		body.Plan = map[string]tuning.Stream{}
		for role, e := range was.Before {
			body.Plan[role] = e.Plan()
		}
	}
	remember := func(before map[string]tuning.Encoder) {
		body.Before = before
		if was != nil {
			maps.Copy(body.Before, was.Before)
		}
	}
	told := false
	out, err := tuner.Tune(ctx, c, tuner.Request{Plan: body.Plan,
		Doing: func(what string) { w.Report.Doing(fmt.Sprintf("%s: %s", w.d.Title, what)) },
		Before: func(before map[string]tuning.Encoder) error {
			told, body.Pending = true, true
			remember(before)
			return w.keep(ctx, Finding{Body: *body})
		}})
	if err != nil {
		return err
	}
	if !told { // nothing had to be sent
		before := map[string]tuning.Encoder{}
		for role := range body.Plan {
			if e, ok := out.Before[role]; ok {
				before[role] = e
			}
		}
		remember(before)
	}
	body.Wanted, body.ReadBack, body.Changes = out.Wanted, out.ReadBack, out.Changes
	body.Refused, body.SideEffects = out.Refused, out.SideEffects
	return nil
}
