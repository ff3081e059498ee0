package bringup

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/wire/multicast"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtsp"
)

// usualListening is how long a group is listened to: with nobody asking, and again while it is asked for by RTSP.
const usualListening = 2500 * time.Millisecond

// Multicast measures whether the groups of streams carry them, or changes how they are sent, and measures then. What was set before is
// recorded before anything is sent. A change of groups that is cut off goes on when it is begun again, and can be undone.
func (w *Work) Multicast(ctx context.Context, x command.Cast) error {
	if err := w.Read(ctx); err != nil {
		return err
	}
	c, in, err := w.signedClient(ctx)
	var encoders []onvif.EncoderOf
	if err == nil {
		encoders, err = c.Encoders(ctx)
	}
	diagnosis, err := Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the camera", in.User))
	if err != nil {
		return err
	}
	if diagnosis != nil {
		return w.Report.Problem(ctx, fmt.Sprintf("%s: %s %s", w.d.Title, diagnosis.Summary, diagnosis.Fix))
	}
	none := x.Action != evidence.CastMeasure // that a camera has no group is a measure, too
	for _, st := range w.d.Status.Streams {
		i := slices.IndexFunc(encoders, func(e onvif.EncoderOf) bool { return e.Profile == st.Token })
		wanted := len(x.Roles) == 0 || slices.Contains(x.Roles, st.Role)
		if i < 0 || !wanted || x.Action != evidence.CastMeasure && len(x.Roles) == 0 && encoders[i].Multicast == "" {
			continue
		}
		none = false
		if err := (castChange{w}).castOne(ctx, c, st, encoders[i], x); err != nil {
			return err
		}
	}
	if none {
		return w.Report.Problem(ctx, w.d.Title+": the camera names no group for any of its streams, so that it sends none to one.")
	}
	return nil
}

// A castChange measures and sets the groups that streams are sent to.
type castChange struct{ *Work }

func (w castChange) castOne(ctx context.Context, c *client, st camera.Stream, e onvif.EncoderOf, x command.Cast) error {
	was := w.d.Status.Multicast[st.Role]
	body := evidence.Multicast{Role: st.Role, Did: x.Action, Says: e.Group, Before: was.Before, Started: was.Started}
	err := w.castChange(ctx, c, st, e, x, &body)
	if err == nil && !w.OnlyChange {
		err = w.castMeasure(ctx, st, cmp.Or(x.For, usualListening), &body)
	}
	body.Pending = false
	if body.Diagnosis, err = Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the camera", "")); err != nil {
		return err
	}
	if err := w.Keep(ctx, Finding{Subject: st.Token, Body: body}); err != nil {
		return err
	}
	if body.Diagnosis != nil {
		return w.Report.Problem(ctx, fmt.Sprintf("%s, %s: %s %s", w.d.Title, st.Role, body.Diagnosis.Summary, body.Diagnosis.Fix))
	}
	return nil
}

// castChange sends the change and reads back what the device says then.
func (w castChange) castChange(ctx context.Context, c *client, st camera.Stream, e onvif.EncoderOf, x command.Cast,
	body *evidence.Multicast) error {
	intend := func() error {
		pending := *body
		pending.Pending = true
		return w.keep(ctx, Finding{Subject: st.Token, Body: pending})
	}
	switch x.Action {
	case evidence.CastMeasure:
		return nil
	case evidence.CastStart, evidence.CastStop:
		on := x.Action == evidence.CastStart
		body.Started = on // what is told to the device; whether it does is measured
		if err := intend(); err != nil {
			return err
		}
		w.Report.Doing(fmt.Sprintf("%s: telling it to send the %s stream to its group: %t", w.d.Title, st.Role, on))
		return c.SendToGroup(ctx, st.Token, on)
	}
	to, ok := x.Groups[st.Role]
	if x.Action == evidence.CastUndo {
		if ok = body.Before != nil; ok {
			to = *body.Before
		}
	}
	if !ok {
		return nil
	}
	if body.Before == nil { // one that stands, or was begun before, keeps what it found then
		before := e.Group
		body.Before = &before
	}
	if err := intend(); err != nil {
		return err
	}
	w.Report.Doing(fmt.Sprintf("%s: setting the group of the %s stream to %s", w.d.Title, st.Role, to))
	if err := c.SetMulticast(ctx, e, to); err != nil {
		return err
	}
	encoders, err := c.Encoders(ctx)
	if err != nil {
		return err
	}
	for _, now := range encoders {
		if now.Token == e.Token {
			body.Says = now.Group
		}
	}
	if body.Says != to {
		return &onvif.Fault{Codes: []string{"Receiver", "ConfigModify"},
			Reason: fmt.Sprintf("it took the setting and reads back as %s", body.Says)}
	}
	if x.Action == evidence.CastUndo {
		body.Before = nil
	}
	return nil
}

// castMeasure listens to the groups of a stream: to its own with nobody asking, to that for the device alone, and to the one that RTSP
// names, while it is asked for.
func (w castChange) castMeasure(ctx context.Context, st camera.Stream, listen time.Duration, body *evidence.Multicast) error {
	device, err := netip.ParseAddr(w.d.Addr)
	if err != nil {
		return err
	}
	group := body.Says.Group()
	if !group.IsValid() {
		return nil
	}
	release, err := w.Link.Take(ctx, w.flow(st))
	if err != nil {
		return err
	}
	defer release()
	w.Report.Doing(fmt.Sprintf("%s: listening to the group of the %s stream", w.d.Title, st.Role))
	if group.Addr().Is4() {
		if body.Bare, err = multicast.Listen(ctx, multicast.Request{Group: group, Toward: device, For: listen}); err != nil {
			return err
		}
		if _, carries := body.Bare.Of(device); carries {
			q := multicast.Request{Group: group, Source: device, Toward: device, For: listen / 2}
			if body.Specific, err = multicast.Listen(ctx, q); err != nil {
				return err
			}
		}
	}
	return w.castByRTSP(ctx, st, device, listen, body)
}

// castByRTSP asks for the stream by RTSP over multicast, with the sign-in that has opened it before, and listens to the group that is
// named.
func (w castChange) castByRTSP(ctx context.Context, st camera.Stream, device netip.Addr, listen time.Duration,
	body *evidence.Multicast) error {
	u, err := streamurl.Parse(st.URL)
	if err == nil && !u.RTSP() {
		body.RTSPProblem = "the stream does not come by RTSP"
		return nil
	}
	if err != nil || !w.d.Status.Proves(st) {
		body.RTSPProblem = "the stream is not proven, so nobody asked"
		return nil
	}
	req, err := livePlay(w).streamRequest(ctx, u)
	if err != nil {
		return err
	}
	req.Log, req.Transport, req.Quiet = w.log, rtsp.Multicast, true
	session, err := player.Open(ctx, req)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		body.RTSPProblem = err.Error()
		return nil
	}
	defer session.Close()
	body.RTSPGroup = session.Group
	body.RTSP, err = multicast.Listen(ctx, multicast.Request{Group: session.Group, Toward: device, For: listen})
	return err
}
