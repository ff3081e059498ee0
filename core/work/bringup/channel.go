package bringup

import (
	"context"
	"fmt"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target"
)

// confirmChannel asks the recorder for its word on a camera on its own switch, and compares what it has recorded with what the camera
// shows. A recorder that keeps no recordings has said what it can by sending the channel on.
func (w placeStep) confirmChannel(ctx context.Context) error {
	ctx, done := within(ctx, w.budget(latch.Confirmed))
	defer done()
	rec, err := w.Record.Device(ctx, *w.d.Via)
	if err != nil {
		return err
	}
	p := latch.Placement{Target: rec.ID, Name: rec.Title, Slot: fmt.Sprintf("channel %d", w.d.Channel)}
	f := Finding{Subject: rec.ID.String()}
	var body evidence.Confirmed
	if s := rec.Status.SignedIn; s != nil && s.StreamOnly {
		body.Says = "sending it on; it has no device service to be asked"
	} else if body, err = w.askChannel(ctx, rec, &p, &f); err != nil {
		return err
	}
	f.Body = body
	return w.Keep(ctx, f)
}

// askChannel does that with a recorder that has a device service. A picture of the recorder's stands in f then.
func (w placeStep) askChannel(ctx context.Context, rec *latch.Device, p *latch.Placement, f *Finding) (body evidence.Confirmed, err error) {
	t, err := targetDoor(w).connect(ctx, rec.ID) // a recorder is a target under its own ID
	var own *target.Placement
	if err == nil {
		if s, ok := t.session.(target.Owner); ok {
			own, err = s.Own(ctx, w.d.Channel)
		}
	}
	if err == nil && own == nil {
		return evidence.Confirmed{Says: "sending it on; it has no recording of it"}, nil
	}
	var report target.Report
	if err == nil {
		p.Ref = string(own.Ref)
		report, err = t.session.Confirm(ctx, own.Ref, recheckWait)
	}
	diagnosis, err := Explain(ctx, err, t.facts(p.Name))
	if err != nil {
		return body, err
	}
	body = evidence.Confirmed{Says: report.Says, AfterMS: report.After.Milliseconds(), Diagnosis: diagnosis}
	if diagnosis == nil && !report.Arrived {
		body.Diagnosis = &diagnose.Diagnosis{Cause: trouble.TargetWaiting,
			Summary: fmt.Sprintf("%s sends channel %d on and does not record it: it reports %s.", rec.Title, w.d.Channel, report.Says),
			Fix:     "Look at the recording schedule and the disks of the recorder, then open the latches again.",
			Seen:    "it reports " + report.Says}
	}
	if body.Diagnosis != nil {
		return body, nil
	}
	seen, err := comparison(w).judge(ctx, t.session, *p, slotPicture{})
	if err != nil {
		return body, err
	}
	body.Match, body.Diagnosis, body.Note = seen.match, seen.diagnosis, seen.note
	if body.Diagnosis != nil { // what it records is set on the recorder alone
		body.Diagnosis.Fix = "Look on the recorder which of its ports this channel records."
	}
	f.keepStill(&body, seen.still)
	return body, nil
}
