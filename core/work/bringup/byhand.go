package bringup

import (
	"context"
	"net/netip"
	"slices"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/wire/picture"
	"unlatch/core/wire/player"
)

// SenderOf listens to a stream in datagrams and returns who sends it, of those whom the guard lets be talked to. log may be nil. The
// error is one of player.Open.
func SenderOf(ctx context.Context, guard *address.Guard, u streamurl.URL, log *exchange.Log) (netip.Addr, error) {
	s, err := player.Open(ctx, player.Request{Dial: guard, URL: u, Log: log})
	if err != nil {
		return netip.Addr{}, err
	}
	return s.From, s.Close()
}

// Give keeps a stream that a person has given by its URL.
func (w *Work) Give(ctx context.Context, u streamurl.URL) error {
	st := camera.Stream{Token: u.String(), Channel: 1, URL: u.String(), Service: camera.ByPerson}
	return w.Keep(ctx, Finding{Subject: st.Token, Body: evidence.StreamByHand{Stream: st, Addr: w.d.Status.Device.Addr}})
}

// A byHandStep reaches and signs in to a device that has neither a device service nor a stream service, but streams that a person has
// given.
type byHandStep struct{ *Work }

// stream returns the first stream that was given; ok is false where there is none.
func (w byHandStep) stream() (u streamurl.URL, ok bool) {
	i := slices.IndexFunc(w.d.Status.Streams, func(s camera.Stream) bool { return s.Service == camera.ByPerson })
	if i < 0 {
		return u, false
	}
	u, err := streamurl.Parse(w.d.Status.Streams[i].URL)
	return u, err == nil
}

// reach asks for the stream without any sign-in. A device that sends by itself is not asked.
func (w byHandStep) reach(ctx context.Context, u streamurl.URL) error {
	before, known := knownAgain(&w.d.Status, w.d.Via != nil)
	body := evidence.Reached{Addr: w.d.Status.Device.Addr, Stream: u.String(), Before: before, Known: known}
	if u.HTTP() {
		f, err := w.ask(ctx, u, signin.SignIn{}, nil)
		if refused(err) || heldBack(err) {
			err = nil // it answers
		}
		diagnosis, err := Explain(ctx, err, w.facts(u.String(), "the stream", ""))
		if err != nil {
			return err
		}
		if body.TLS, body.Diagnosis = f.Shown, diagnosis; diagnosis == nil {
			if err := proveStep(w).know(ctx, body.TLS); err != nil {
				return err
			}
		}
	}
	return w.Keep(ctx, Finding{Body: body})
}

// signIn asks for the stream, first without a sign-in and then with what the keyring holds.
func (w byHandStep) signIn(ctx context.Context, u streamurl.URL) error {
	if !u.HTTP() {
		return w.Keep(ctx, Finding{Body: evidence.SignedIn{StreamOnly: true, Scheme: "none"}})
	}
	try := func(in signin.SignIn, leave signin.Leave) (evidence.SignedIn, error) {
		f, err := w.ask(ctx, u, in, leave)
		return evidence.SignedIn{StreamOnly: true, Scheme: f.Scheme}, err
	}
	found, err := try(signin.SignIn{}, nil)
	if err == nil {
		return w.Keep(ctx, Finding{Body: found})
	}
	if !refused(err) {
		return signInStep(w).notSignedIn(ctx, evidence.SignedIn{StreamOnly: true}, err, "")
	}
	return signInStep(w).tryKeys(ctx, signin.WebPage, func(_ Key, in signin.SignIn, leave signin.Leave) (evidence.SignedIn, error) {
		return try(in, leave)
	})
}

// An asked is what came of asking for a stream.
type asked struct {
	picture.Fetcher
	Scheme string
}

// ask asks for a stream by HTTP until its answer begins.
func (w byHandStep) ask(ctx context.Context, u streamurl.URL, in signin.SignIn, leave signin.Leave) (out asked, err error) {
	out.Fetcher = picture.Fetcher{Dial: w.Guard, SignIn: in, Leave: leave, Pin: w.pin(), Log: w.log}
	s, err := out.Open(ctx, u.String())
	if err != nil {
		return out, err
	}
	out.Scheme = s.Scheme
	return out, s.Close()
}

// ProveAt plays a stream of the device at another address, as it is seen from elsewhere, with the sign-in that opens its streams.
func (w *Work) ProveAt(ctx context.Context, at string) (proof.Proof, error) {
	u, err := streamurl.Parse(at)
	if err != nil {
		return proof.Proof{}, err
	}
	in, err := w.streamSignIn(ctx)
	if err != nil {
		return proof.Proof{}, err
	}
	key, _, _ := w.d.Status.StreamSignIn()
	return proveStep{w}.prover(ctx, u, in, w.Leave(key, purposeOf(u)))
}
