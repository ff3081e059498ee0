package jobs

import (
	"context"
	"fmt"
	"time"

	"unlatch/core/diagnose"
	"unlatch/core/discovery"
	"unlatch/core/evidence"
	"unlatch/core/latch"
	"unlatch/core/onvif"
	"unlatch/store"
)

// channels asks a recorder what it sends on. A camera that hangs on its own switch becomes a device of the site, reached through it; one
// that stands in the site's ranges is heard by itself.
func (o *deviceWork) channels(ctx context.Context) error {
	log := o.newLog()
	c, in, err := o.client(ctx, o.d, log)
	var found []onvif.Channel
	if err == nil {
		defer c.Close()
		found, err = c.Channels(ctx)
	}
	diagnosis, err := explain(ctx, err, o.facts(o.d.Status.Device.XAddr, "the recorder", in.User))
	if err != nil || diagnosis == nil && len(found) == 0 && len(o.d.Status.Channels) == 0 {
		return err
	}
	if err := o.record(ctx, store.Finding{Exchange: log.String(), Body: evidence.Channels{Channels: found, Diagnosis: diagnosis}}); err != nil {
		return err
	}
	for _, ch := range found {
		if o.site.Ranges.Contains(ch.Camera) {
			continue
		}
		x := discovery.Sighting{Method: discovery.ByRecorder, At: time.Now().UTC(), Addr: o.d.Status.Device.Addr, Stray: o.d.Status.Device.Stray, Kind: discovery.Camera,
			Name: ch.Name, Location: ch.Place, XAddr: o.d.Status.Device.XAddr, Via: &o.d.ID, Channel: ch.Number, Of: o.d.Title(), Page: ch.Page}
		if x.Name == "" {
			x.Name = fmt.Sprintf("Channel %d", ch.Number)
		}
		if ch.Camera.IsValid() {
			x.Camera = ch.Camera.String()
		}
		if _, err := o.sight(ctx, x); err != nil {
			return err
		}
	}
	return nil
}

// signInByRecorder takes the sign-in that opened the recorder: its channels know no other.
func (o *deviceWork) signInByRecorder(ctx context.Context) error {
	rec, err := o.env.store.Device(ctx, *o.d.Via)
	if err != nil {
		return err
	}
	body := evidence.SignedIn{}
	if s := rec.Status.SignedIn; s != nil && rec.Status.Latch(latch.SignedIn).State == latch.Open {
		body.SignIn, body.Label, body.User, body.Scheme = s.SignIn, s.Label, s.User, s.Scheme
	} else {
		body.Diagnosis = &diagnose.Diagnosis{Cause: diagnose.RecorderShut, Summary: fmt.Sprintf("%s is not signed in to, and this camera is reached through it only.", rec.Title()),
			Fix: "Open the recorder's own latches first.", Seen: "no sign-in is known to open the recorder"}
	}
	return o.record(ctx, store.Finding{Body: body})
}
