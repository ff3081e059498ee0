package bringup

import (
	"context"
	"errors"
	"slices"

	"unlatch/core/camera"
	"unlatch/core/player"
	"unlatch/core/rtsp"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
)

// ErrNotProven is for a stream that has not been played yet: proving finds out how.
var ErrNotProven = errors.New("the stream is not proven yet")

// Play begins a session of the stream of a role, in the way in which it was proven: with its sign-in, its transport and its certificate. What
// is refused counts as any try does.
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
	in, err := w.streamSignIn(ctx)
	if err != nil {
		return nil, err
	}
	key, _, _ := w.d.Status.StreamSignIn()
	req := player.Request{Dial: w.Guard, URL: u, SignIn: in, Pin: w.pin(), Leave: w.leave(w.d, key, signin.Streams, nil)}
	if t := rtsp.Transport(w.d.Status.Proofs[role].Transport); slices.Contains([]rtsp.Transport{rtsp.TCP, rtsp.UDP, rtsp.Multicast, rtsp.Tunnel}, t) {
		req.Transport = t
	}
	return player.Open(ctx, req)
}
