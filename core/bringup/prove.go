package bringup

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/camera"
	"unlatch/core/diagnose"
	"unlatch/core/discovery"
	"unlatch/core/evidence"
	"unlatch/core/media"
	"unlatch/core/prove"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
)

// prove plays the streams that are not proven as they are now, and then asks for what else the device shows.
func (w *Work) prove(ctx context.Context) error {
	for i := range w.d.Status.Streams {
		if w.d.Status.Proves(w.d.Status.Streams[i]) {
			continue
		}
		w.Report.Doing(fmt.Sprintf("%s: playing the %s stream", w.d.Title, w.d.Status.Streams[i].Role))
		proof, err := w.playSomewhere(ctx, i)
		if err != nil {
			return err
		}
		st := w.d.Status.Streams[i] // its address may have changed by what was found
		f := Finding{Subject: st.Token, Exchange: proof.Exchange}
		body := evidence.Proof{Proof: proof, PlainURL: st.URL, Role: st.Role, Settings: st.Claimed.Fingerprint()}
		if proof.Still != nil {
			f.Still, f.StillID = proof.Still, uuid.Must(uuid.NewV7())
			body.Still = &f.StillID
		}
		f.Body = body
		if err := w.Keep(ctx, f); err != nil {
			return err
		}
		if !proof.OK {
			return w.wakeAt(ctx, proof.Diagnosis)
		}
	}
	return w.askHTTP(ctx)
}

// playSomewhere plays a stream at the address that the device names, and where nothing answers there, at its own address and at its other
// ports. Where it was found is kept.
func (w *Work) playSomewhere(ctx context.Context, i int) (prove.Proof, error) {
	st := w.d.Status.Streams[i]
	u, err := streamurl.Parse(st.URL)
	if err != nil {
		return prove.Proof{}, err
	}
	proof, err := w.play(ctx, u)
	if err != nil {
		return proof, err
	}
	if d := proof.Diagnosis; d != nil && st.Reserve != "" && unreached(d.Cause) {
		own, err := streamurl.Parse(st.Reserve)
		if err != nil {
			return proof, err
		}
		other, err := w.play(ctx, own)
		if err != nil {
			return other, err
		}
		if other.OK || !unreached(other.Diagnosis.Cause) {
			if err := w.takeReserve(ctx, u.Host); err != nil {
				return other, err
			}
			proof, u = other, own
		}
	}
	if d := proof.Diagnosis; d != nil && d.Cause == diagnose.PortClosed && w.d.Via == nil {
		for _, v := range elsewhere(u, w.d.Status.Device.Ports) {
			other, err := w.play(ctx, v)
			if err != nil {
				return other, err
			}
			if other.OK {
				return other, w.moveStreams(ctx, v, u.DialPort())
			}
		}
	}
	if d := proof.Diagnosis; d != nil {
		refine(d, u, w.d.Status.SignedIn)
	}
	return proof, nil
}

// unreached reports whether a stream was not reached at its address, as against refused by who answers there.
func unreached(c diagnose.Cause) bool {
	return c == diagnose.PortClosed || c == diagnose.NoAnswer || c == diagnose.Silent || c == diagnose.NotRTSP || c == diagnose.OutOfScope
}

// refine says more of a stream that could not be reached, where the device itself has told of its ports.
func refine(d *diagnose.Diagnosis, u streamurl.URL, in *evidence.SignedIn) {
	if in == nil {
		return
	}
	for _, p := range in.Protocols {
		number := func(want int) bool { return slices.Contains(p.Ports, want) }
		switch {
		case p.Name == "RTSP" && !p.Enabled && d.Cause == diagnose.PortClosed:
			d.Cause = diagnose.StreamsOff
			d.Summary = fmt.Sprintf("The stream service is switched off in the device itself: it says so, and port %d is closed.", u.DialPort())
			d.Fix = "Unlatch can switch it on through the device's network settings, and read back that it is."
		case p.Name == "RTSP" && p.Enabled && d.Cause == diagnose.PortClosed && !number(u.DialPort()) && len(p.Ports) > 0:
			d.Cause = diagnose.WrongPort
			d.Summary = fmt.Sprintf("The URL has port %d, and the device itself says that its streams are on port %d.", u.DialPort(), p.Ports[0])
			d.Fix = fmt.Sprintf("Use port %d in the URL.", p.Ports[0])
		case p.Name == "HTTP" && d.Cause == diagnose.NotRTSP && number(u.DialPort()):
			d.Cause = diagnose.WrongPort
			d.Summary = fmt.Sprintf("Port %d is the device's web port, by its own word. The URL needs its stream port.", u.DialPort())
			d.Fix = "Put the stream port into the URL; the device names it in its network settings."
		}
	}
}

// streamSignIn is the sign-in that opens the streams: their own where they have one, else the device's.
func (w *Work) streamSignIn(ctx context.Context) (signin.SignIn, error) {
	if k := w.d.Status.StreamKey; k != nil {
		in, err := w.Decrypt(ctx, k.SignIn)
		if !errors.Is(err, ErrGone) {
			if err != nil {
				err = &OwnError{err}
			}
			return in, err
		}
	}
	return w.signInOf(ctx, w.d)
}

// play proves one stream. Where the streams refuse the sign-in of the device service, what else on the keyring is for streams is tried,
// counted by the guard as any try is; what opens them is kept. A refusal is not asked for twice.
func (w *Work) play(ctx context.Context, u streamurl.URL) (prove.Proof, error) {
	key, _, _ := w.d.Status.StreamSignIn()
	if w.streamOnly() || key == uuid.Nil {
		in, err := w.streamSignIn(ctx)
		if err != nil {
			return prove.Proof{}, err
		}
		return w.prover(ctx, u, in, w.Leave(key, signin.Streams))
	}
	keys, err := w.candidates(ctx, signin.Streams)
	if err != nil {
		return prove.Proof{}, err
	}
	keys = likeliestFirst(keys, key)
	var first *prove.Proof
	for _, k := range keys {
		in, err := w.Decrypt(ctx, k.ID)
		if err != nil {
			return prove.Proof{}, &OwnError{err}
		}
		proof, err := w.prover(ctx, u, in, w.Leave(k.ID, signin.Streams))
		switch d := proof.Diagnosis; {
		case err != nil:
			return proof, err
		case d != nil && d.Cause == diagnose.HeldBack && first != nil:
			return *first, nil // what was refused says more than that no more is tried
		case d != nil && d.Cause == diagnose.WrongSignIn:
			if first == nil {
				first = &proof
			}
		case d == nil && k.ID != key:
			found := evidence.StreamKey{SignIn: k.ID, Label: k.Label, User: k.User}
			w.d.Status.StreamKey = &found
			return proof, w.keep(ctx, Finding{Body: found})
		default:
			return proof, nil // it plays, or its diagnosis says why not
		}
	}
	if first != nil {
		return *first, nil
	}
	// Every key was refused before, and none is sent again: what the device says without one is all there is to ask.
	proof, err := w.prover(ctx, u, signin.SignIn{}, nil)
	if d := proof.Diagnosis; d != nil && d.Cause == diagnose.NoSignIn {
		d.Cause, d.Summary = diagnose.WrongSignIn, "The streams have refused every sign-in of the keyring before. Try again sends them once more."
	}
	return proof, err
}

// likeliestFirst puts the entry that should open the streams before the others.
func likeliestFirst(keys []Key, likeliest uuid.UUID) []Key {
	if i := slices.IndexFunc(keys, func(k Key) bool { return k.ID == likeliest }); i > 0 {
		first := keys[i]
		keys = slices.Insert(slices.Delete(keys, i, i+1), 0, first)
	}
	return keys
}

// prover plays a stream once with one sign-in.
func (w *Work) prover(ctx context.Context, u streamurl.URL, in signin.SignIn, leave signin.Leave) (prove.Proof, error) {
	ctx, done := within(ctx, playBudget)
	defer done()
	p := prove.Prover{Dial: w.Guard, Still: media.Still}
	var own *OwnError // a proof makes a diagnosis of every error; the database's is none of the camera's
	req := prove.Request{URL: u, SignIn: in}
	if leave != nil {
		req.Leave = func(ctx context.Context, s signin.Sending) (func(error), error) {
			done, err := leave(ctx, s)
			errors.As(err, &own)
			return done, err
		}
	}
	if pin := w.d.Status.Pin; pin != nil {
		req.Pin = pin.Certificate.SHA256
	}
	proof := p.Prove(ctx, req)
	if own != nil {
		return proof, own
	}
	if slow := outOfTime(ctx, ""); slow != nil && !proof.OK {
		proof.Diagnosis = slow
		return proof, nil
	}
	if proof.TLS != nil && proof.OK && w.d.Status.Pin == nil {
		pin := evidence.Pin{Certificate: *proof.TLS}
		if err := w.keep(ctx, Finding{Body: pin}); err != nil {
			return proof, err
		}
		w.d.Status.Pin = &pin
	}
	return proof, ctx.Err()
}

// elsewhere are the other places at which the stream may be, where nothing takes connections at the port that the device named: ports
// that spoke RTSP or RTSP over TLS in the sweep, and web ports, which may carry RTSP within HTTP.
func elsewhere(u streamurl.URL, ports []discovery.Port) (out []streamurl.URL) {
	for _, speaks := range []string{"rtsp", "rtsps", "http", "device service"} {
		for _, p := range ports {
			if p.Speaks != speaks || int(p.Number) == u.DialPort() || u.Scheme == "rtsps" && speaks != "rtsps" {
				continue // what was encrypted on the wire stays so
			}
			v := u
			v.Scheme, v.Port = "rtsp", int(p.Number)
			if speaks == "rtsps" {
				v.Scheme = "rtsps"
			}
			if v.Port == streamurl.DefaultPort(v.Scheme) {
				v.Port = 0
			}
			out = append(out, v)
		}
	}
	return out
}

// moveStreams keeps the addresses at which the streams were found in place of those that the device names.
func (w *Work) moveStreams(ctx context.Context, to streamurl.URL, named int) error {
	body := *w.d.Status.Located
	body.Streams = slices.Clone(body.Streams)
	for i, st := range body.Streams {
		u, err := streamurl.Parse(st.URL)
		if err != nil {
			return err
		}
		if st.Corrected == "" {
			body.Streams[i].Corrected = fmt.Sprintf("port %d", named)
		}
		u.Scheme, u.Port = to.Scheme, to.Port
		body.Streams[i].URL = u.String()
	}
	return w.relocate(ctx, body)
}

// relocate keeps other addresses of the streams, and takes them into the status; their roles stay.
func (w *Work) relocate(ctx context.Context, body evidence.Located) error {
	if err := w.keep(ctx, Finding{Body: body}); err != nil {
		return err
	}
	w.d.Status.Located, w.d.Status.Streams = &body, camera.GiveRoles(body.Streams, w.roles())
	return nil
}

// takeReserve puts the device's own address in place of another host that it named for its streams and that does not answer.
func (w *Work) takeReserve(ctx context.Context, named string) error {
	body := *w.d.Status.Located
	body.Streams = slices.Clone(body.Streams)
	for i, st := range body.Streams {
		if u, err := streamurl.Parse(st.URL); err == nil && u.Host == named && st.Reserve != "" {
			body.Streams[i].URL, body.Streams[i].Reserve = st.Reserve, ""
			body.Streams[i].Corrected = strings.TrimPrefix(st.Corrected+", "+named, ", ")
		}
	}
	return w.relocate(ctx, body)
}
