package bringup

import (
	"context"
	"errors"
	"slices"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtsp"
	"unlatch/core/work/live"
)

// ErrNotProven is for a stream that has not been played yet: proving finds out how.
var ErrNotProven = errors.New("the stream is not proven yet")

// Play begins a session of the stream of a role, in the way in which it was proven: with its sign-in, its transport and its certificate.
// What is refused counts as any try does.
func (w *Work) Play(ctx context.Context, role string) (*player.Session, error) {
	if err := w.Read(ctx); err != nil {
		return nil, err
	}
	i := slices.IndexFunc(w.d.Status.Streams, func(s camera.Stream) bool { return s.Role == role })
	if i < 0 || !w.d.Status.Proves(w.d.Status.Streams[i]) || !w.d.Status.InScope() {
		return nil, ErrNotProven
	}
	u, err := streamurl.Parse(w.d.Status.Streams[i].URL)
	if err != nil {
		return nil, err
	}
	req, err := livePlay{w}.streamRequest(ctx, u)
	if err != nil {
		return nil, err
	}
	known := []rtsp.Transport{rtsp.TCP, rtsp.UDP, rtsp.Multicast, rtsp.Tunnel}
	if t := rtsp.Transport(w.d.Status.Proofs[role].Transport); slices.Contains(known, t) {
		req.Transport = t
	}
	if w.d.Status.Proofs[role].Audio != nil { // a device that hangs up on who asks for sound it has not is not asked
		req.Kinds = []string{"video", "audio"}
	}
	session, err := player.Open(ctx, req)
	if err != nil {
		return nil, &playError{err, diagnose.Facts{Host: u.Host, Port: u.DialPort(), Asking: "the stream", User: req.SignIn.User}}
	}
	session.OnClose(w.Link.Count(w.flow(w.d.Status.Streams[i])))
	return session, nil
}

// A livePlay plays a stream for people who look at it.
type livePlay struct{ *Work }

// streamRequest asks for a stream of the device as it was opened before: with the sign-in of its streams, what is counted of that, and the
// certificate that it is known by.
func (w livePlay) streamRequest(ctx context.Context, u streamurl.URL) (player.Request, error) {
	in, err := w.streamSignIn(ctx)
	key, _, _ := w.d.Status.StreamSignIn()
	return player.Request{Dial: w.Guard, URL: w.fromDevice(u), SignIn: in, Pin: w.pin(), Leave: w.leave(w.d, key, purposeOf(u), nil)}, err
}

// A playError is an error with the facts that a diagnosis of it needs.
type playError struct {
	error
	facts diagnose.Facts
}

func (e *playError) Unwrap() error { return e.error }

// NotShown words why a stream is not shown live. again reports whether asking for it again may help, where it was seen before: a camera
// that restarts comes back; a sign-in that is refused is not tried again and again.
func NotShown(err error) (t *live.Trouble, again bool) {
	if errors.As(err, &t) {
		return t, false
	}
	say := func(fix string) *live.Trouble {
		return &live.Trouble{Problem: diagnose.Capital(err.Error()) + ".", Fix: fix}
	}
	switch {
	case errors.As(err, new(*live.UnshownError)):
		return say("Look at its proof, or at another stream of the camera."), false
	case errors.Is(err, ErrNotProven):
		return &live.Trouble{Problem: "This stream is not proven yet, so nobody knows how it plays.",
			Fix: "Open the camera's latches first."}, false
	case errors.Is(err, live.ErrBusy):
		return say("Look at the sub stream, or wait until somebody else has looked enough."), false
	case errors.Is(err, live.ErrFull):
		return say("Wait until somebody else has looked enough."), false
	}
	facts := diagnose.Facts{Asking: "the stream", Host: "The camera"}
	if played := new(playError); errors.As(err, &played) {
		facts = played.facts
	}
	d := diagnose.Explain(err, facts)
	final := refused(err) || heldBack(err) || errors.As(err, new(*address.OutOfScopeError)) || errors.As(err, new(*certificate.ChangedError))
	return &live.Trouble{Problem: d.Summary, Fix: d.Fix}, !final
}
