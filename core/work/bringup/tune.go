package bringup

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/core/stream/tuning"
	"unlatch/core/work/prove"
	"unlatch/core/work/tuner"
)

// Tune sets the streams of the device, reads them back, and proves them anew. What was before is recorded before anything is sent: a work
// that is killed in between can be gone on with, and undone. One device is set by one work at a time.
func (w *Work) Tune(ctx context.Context, t command.Tune) error {
	slot, _ := underTuning.LoadOrStore(w.d.ID, make(chan struct{}, 1))
	mine := slot.(chan struct{})
	select {
	case mine <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-mine }()
	if err := w.Read(ctx); err != nil { // another may have set it while this waited
		return err
	}
	return tuneChange{w}.tune(ctx, t)
}

// underTuning has a channel for each device that was set, full while it is. It is one process's: Record.Alone would hold a connection to
// the database for as long as a stream is measured.
var underTuning sync.Map

// A tuneChange sets the streams of a device, reads them back and measures them.
type tuneChange struct{ *Work }

func (w tuneChange) tune(ctx context.Context, t command.Tune) error {
	if t.Undo && w.d.Status.Tuning == nil && w.d.Status.PutBack.Tuning {
		mine, err := w.mine(ctx, evidence.KindTuned, "")
		if err != nil {
			return err
		}
		if mine {
			return w.measureAnew(ctx) // it was put back before the work was killed
		}
	}
	if t.Undo && w.d.Status.Tuning == nil {
		return w.Report.Problem(ctx, w.d.Title+": Unlatch has set no stream of this device that it could put back.")
	}
	if t.Restart {
		return w.restart(ctx)
	}
	c, in, err := w.signedClient(ctx)
	body := evidence.Tuned{Undone: t.Undo, Plan: t.Plan.Streams, Overlay: t.Plan.Overlay}
	if err == nil {
		err = w.setStreams(ctx, c, t, &body)
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
	return w.measureAnew(ctx)
}

// measureAnew asks the device what its streams are now, and proves them: what was proven before was of other settings.
func (w tuneChange) measureAnew(ctx context.Context) error {
	if w.OnlyChange {
		return nil
	}
	if err := locateStep(w).claimsAnew(ctx); err != nil {
		return err
	}
	w.d.Status.Proofs = nil
	if err := proveStep(w).prove(ctx); err != nil {
		return err
	}
	if err := w.askOffers(ctx); err != nil {
		return err
	}
	return w.Open(ctx)
}

// setStreams sends the plan. One that was begun before and not finished keeps what it found then: what the device says now may be its work
// already. So does one that stands on the device, as long as nobody has put it back.
func (w tuneChange) setStreams(ctx context.Context, c *client, t command.Tune, body *evidence.Tuned) error {
	was := w.d.Status.Tuning
	request := tuner.Request{Camera: w.camera(), Plan: t.Plan, Name: w.d.Title, Sleep: w.Clock.Sleep,
		Doing: func(what string) { w.Report.Doing(fmt.Sprintf("%s: %s", w.d.Title, what)) }}
	request.Hold = w.hold
	if t.Undo {
		state := was.State()
		request.Back = &state
		body.Plan = map[string]tuning.Stream{}
		for role, e := range was.Before {
			body.Plan[role] = e.Plan()
		}
	}
	remember := func(before tuning.State) {
		if was != nil {
			before = before.Before(was.State())
		}
		body.SetState(before)
	}
	request.Before = func(before tuning.State) error {
		remember(before)
		pending := *body
		pending.Pending = true
		return w.keep(ctx, Finding{Body: pending})
	}
	out, err := tuner.Tune(ctx, c.Client, request)
	if out != nil {
		remember(out.Before)
		body.Has, body.Wanted, body.ReadBack, body.Changes = out.Has, out.Wanted, out.ReadBack, out.Changes
		body.Refused, body.SideEffects = out.Refused, out.SideEffects
	}
	return err
}

// hold keeps a session open while a stream is set, where the link has room for it, with the sign-in that has opened the streams before.
func (w tuneChange) hold(ctx context.Context, at string) tuner.Held {
	u, err := streamurl.Parse(at)
	i := slices.IndexFunc(w.d.Status.Streams, func(s camera.Stream) bool { return s.URL == at && w.d.Status.Proves(s) })
	if err != nil || i < 0 {
		return tuner.Held{}
	}
	in, err := w.streamSignIn(ctx)
	if err != nil {
		return tuner.Held{}
	}
	release, ok := w.Link.TryTake(w.flow(w.d.Status.Streams[i]))
	if !ok {
		return tuner.Held{}
	}
	key, _, _ := w.d.Status.StreamSignIn()
	req := prove.Request{URL: u, SignIn: in, Leave: w.Leave(key, purposeOf(u)), Pin: w.pin()}
	return tuner.Hold(ctx, &prove.Prover{Dial: w.Guard}, req, release)
}

// camera says which streams of the device that is asked are this camera's.
func (w tuneChange) camera() tuner.Camera {
	of := tuner.Camera{Roles: w.roles()}
	if w.d.Via != nil {
		of.Channel = w.d.Channel
	}
	return of
}

// restart has the device start anew, waits until it is back, and measures its streams.
func (w tuneChange) restart(ctx context.Context) error {
	c, in, err := w.signedClient(ctx)
	if err == nil {
		w.Report.Doing(w.d.Title + ": restarting it")
		err = tuner.Restart(ctx, c.Client, w.camera(), 0)
	}
	diagnosis, err := Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the device", in.User))
	if err != nil {
		return err
	}
	if diagnosis != nil {
		return w.Report.Problem(ctx, fmt.Sprintf("%s: it did not restart. %s %s", w.d.Title, diagnosis.Summary, diagnosis.Fix))
	}
	return w.measureAnew(ctx)
}

// unknownOffers reports whether the streams are proven and nobody has asked what they can be set to.
func (w tuneChange) unknownOffers() bool {
	s := &w.d.Status
	return !w.askedOffers && s.Offers == nil && s.Latch(latch.Proven).State == latch.Open && s.InScope() && !w.streamOnly() &&
		s.Device.Kind != sighting.Recorder
}

// askOffers asks what the device's streams can be set to, so that a plan can be weighed before anything is sent. No latch waits for it.
func (w tuneChange) askOffers(ctx context.Context) error {
	w.askedOffers = true
	if w.streamOnly() {
		return nil
	}
	w.Report.Doing(w.d.Title + ": asking what its streams can be set to")
	c, in, err := w.signedClient(ctx)
	var body evidence.Offers
	if err == nil {
		var view *tuner.View
		if view, err = tuner.Read(ctx, c.Client, w.camera()); err == nil {
			body.Offers = view.Offers()
		}
	}
	if body.Diagnosis, err = Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the device", in.User)); err != nil {
		return err
	}
	return w.Keep(ctx, Finding{Body: body})
}
