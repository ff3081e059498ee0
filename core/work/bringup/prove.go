package bringup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/linkbudget"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/media"
	"unlatch/core/stream/sighting"
	"unlatch/core/work/prove"
)

// A proveStep plays the streams of a device and measures them.
type proveStep struct{ *Work }

// prove plays the streams that are not proven as they are now, and then asks for what else the device shows.
func (w proveStep) prove(ctx context.Context) error {
	for i := range w.d.Status.Streams {
		if w.d.Status.Proves(w.d.Status.Streams[i]) {
			continue
		}
		proof, err := w.playWithin(ctx, i)
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
			return signInStep(w).wakeAt(ctx, proof.Diagnosis)
		}
	}
	return pictureStep(w).askHTTP(ctx)
}

// playWithin plays a stream once the link has room for it, and begins with the next one meanwhile, see playBeside.
func (w proveStep) playWithin(ctx context.Context, i int) (proof.Proof, error) {
	st := w.d.Status.Streams[i]
	if b := w.beside; b != nil {
		w.beside = nil
		if b.token == st.Token && b.proof.OK {
			return b.proof, nil
		}
	}
	flow := w.flow(st)
	w.Report.Doing(fmt.Sprintf("%s: waiting for room on the link", w.d.Title))
	release, err := w.Link.Take(ctx, flow)
	if err != nil {
		return proof.Proof{}, err
	}
	defer release()
	text := fmt.Sprintf("%s: playing the %s stream", w.d.Title, st.Role)
	if link := w.Link.String(); link != "" {
		text += "; " + link + " in flight"
	}
	w.Report.Doing(text)
	w.next = w.nextBeside(i)
	defer func() { w.next = nil }()
	return w.playSomewhere(ctx, i)
}

// flow returns the bitrate in kbit/s that a stream is reckoned with.
func (w *Work) flow(st camera.Stream) int {
	measured := 0.0
	if p, ok := w.d.Status.Proofs[st.Role]; ok && p.Video != nil {
		measured = p.Video.BitrateKbps
	}
	return linkbudget.Flow(st.Role, measured, st.Claimed.BitrateKbps)
}

// companion is the proof of a stream that plays while another is measured.
type companion struct {
	token string
	proof proof.Proof
	own   error
	done  chan struct{}
}

// nextBeside returns the stream that may be played beside stream i: the one behind it, at the same place of the device and not proven yet.
func (w proveStep) nextBeside(i int) *camera.Stream {
	if i+1 >= len(w.d.Status.Streams) {
		return nil
	}
	here, next := w.d.Status.Streams[i], &w.d.Status.Streams[i+1]
	a, err := streamurl.Parse(here.URL)
	b, err2 := streamurl.Parse(next.URL)
	if err != nil || err2 != nil || w.d.Status.Proves(*next) || next.Reserve != "" || a.HostPort() != b.HostPort() || a.Scheme != b.Scheme {
		return nil
	}
	return next
}

// playBeside begins to prove the next stream with the sign-in that has just opened the one that plays, where the link has room for both.
// A device that takes no second session says so, and the stream is played alone then.
func (w proveStep) playBeside(ctx context.Context, st camera.Stream, in signin.SignIn, leave signin.Leave) *companion {
	u, err := streamurl.Parse(st.URL)
	if err != nil {
		return nil
	}
	release, ok := w.Link.TryTake(w.flow(st))
	if !ok {
		return nil
	}
	b := &companion{token: st.Token, done: make(chan struct{})}
	req := prove.Request{URL: u, SignIn: in, Pin: w.pin(), Leave: capture(leave, &b.own)}
	go func() {
		defer close(b.done)
		defer release()
		p := prove.Prover{Dial: w.Guard, Still: media.Still}
		b.proof = p.Prove(ctx, req)
	}()
	return b
}

// capture is leave that remembers trouble of our own: a proof makes a diagnosis of every error, and the database's is none of the camera's.
func capture(leave signin.Leave, own *error) signin.Leave {
	if leave == nil {
		return nil
	}
	return func(ctx context.Context, s signin.Sending) (func(error), error) {
		done, err := leave(ctx, s)
		if o := new(OwnError); errors.As(err, &o) {
			*own = o
		}
		return done, err
	}
}

// playSomewhere plays a stream at the address that the device names, and where nothing answers there, at its own address and at its other
// ports. Where it was found is kept.
func (w proveStep) playSomewhere(ctx context.Context, i int) (proof.Proof, error) {
	st := w.d.Status.Streams[i]
	u, err := streamurl.Parse(st.URL)
	if err != nil {
		return proof.Proof{}, err
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
	if d := proof.Diagnosis; d != nil && d.Cause == trouble.PortClosed && w.d.Via == nil && st.Service != camera.ByPerson {
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
	if d := proof.Diagnosis; d != nil && u.RTSP() {
		refine(d, u, w.d.Status.SignedIn)
	}
	return proof, nil
}

// unreached reports whether a stream was not reached at its address, as against refused by who answers there.
func unreached(c trouble.Cause) bool {
	return c == trouble.PortClosed || c == trouble.NoAnswer || c == trouble.Silent || c == trouble.NotRTSP || c == trouble.OutOfScope
}

// refine says more of a stream that could not be reached, where the device itself has told of its ports.
func refine(d *diagnose.Diagnosis, u streamurl.URL, in *evidence.SignedIn) {
	if in == nil {
		return
	}
	for _, p := range in.Protocols {
		number := func(want int) bool { return slices.Contains(p.Ports, want) }
		switch {
		case p.Name == "RTSP" && !p.Enabled && d.Cause == trouble.PortClosed:
			d.Cause = trouble.StreamsOff
			d.Summary = fmt.Sprintf("The stream service is switched off in the device itself: it says so, and port %d is closed.",
				u.DialPort())
			d.Fix = "Unlatch can switch it on through the device's network settings, and read back that it is."
		case p.Name == "RTSP" && p.Enabled && d.Cause == trouble.PortClosed && !number(u.DialPort()) && len(p.Ports) > 0:
			d.Cause = trouble.WrongPort
			d.Summary = fmt.Sprintf("The URL has port %d, and the device itself says that its streams are on port %d.", u.DialPort(),
				p.Ports[0])
			d.Fix = fmt.Sprintf("Use port %d in the URL.", p.Ports[0])
		case p.Name == "HTTP" && d.Cause == trouble.NotRTSP && number(u.DialPort()):
			d.Cause = trouble.WrongPort
			d.Summary = fmt.Sprintf("Port %d is the device's web port, by its own word. The URL needs its stream port.", u.DialPort())
			d.Fix = "Put the stream port into the URL; the device names it in its network settings."
		}
	}
}

// streamSignIn returns the sign-in that opens the streams: their own where they have one, else the device's.
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
func (w proveStep) play(ctx context.Context, u streamurl.URL) (proof.Proof, error) {
	u = w.fromDevice(u)
	if u.Datagrams() {
		return w.prover(ctx, u, signin.SignIn{}, nil)
	}
	key, _, _ := w.d.Status.StreamSignIn()
	if w.streamOnly() || key == uuid.Nil {
		in, err := w.streamSignIn(ctx)
		if err != nil {
			return proof.Proof{}, err
		}
		return w.prover(ctx, u, in, w.Leave(key, purposeOf(u)))
	}
	keys, err := signInStep(w).candidates(ctx, purposeOf(u))
	if err != nil {
		return proof.Proof{}, err
	}
	keys = likeliestFirst(keys, key)
	var first *proof.Proof
	for _, k := range keys {
		in, err := w.Decrypt(ctx, k.ID)
		if err != nil {
			return proof.Proof{}, &OwnError{err}
		}
		proof, err := w.prover(ctx, u, in, w.Leave(k.ID, purposeOf(u)))
		switch d := proof.Diagnosis; {
		case err != nil:
			return proof, err
		case d != nil && d.Cause == trouble.HeldBack && first != nil:
			return *first, nil // what was refused says more than that no more is tried
		case d != nil && d.Cause == trouble.WrongSignIn:
			if first == nil {
				first = &proof
			}
		case d == nil && k.ID != key && u.RTSP():
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
	if d := proof.Diagnosis; d != nil && d.Cause == trouble.NoSignIn {
		d.Cause, d.Summary = trouble.WrongSignIn,
			"The streams have refused every sign-in of the keyring before. Try again sends them once more."
	}
	return proof, err
}

// purposeOf returns what of a device the sign-in of a stream opens: what is asked for by HTTP belongs to its web side.
func purposeOf(u streamurl.URL) signin.Purpose {
	if u.HTTP() {
		return signin.WebPage
	}
	return signin.Streams
}

// fromDevice has a stream in datagrams taken from the device alone, where nobody else is named: others may send to the same group.
func (w *Work) fromDevice(u streamurl.URL) streamurl.URL {
	if u.Datagrams() && u.Source == "" {
		u.Source = w.d.Status.Device.Addr.String()
	}
	return u
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
func (w proveStep) prover(ctx context.Context, u streamurl.URL, in signin.SignIn, leave signin.Leave) (proof.Proof, error) {
	ctx, done := within(ctx, playBudget)
	defer done()
	p := prove.Prover{Dial: w.Guard, Still: media.Still}
	var own error
	req := prove.Request{URL: u, SignIn: in, Pin: w.pin(), Leave: capture(leave, &own)}
	if next := w.next; next != nil {
		req.Playing = func() { w.next, w.beside = nil, w.playBeside(ctx, *next, in, leave) }
	}
	proof := p.Prove(ctx, req)
	if b := w.beside; b != nil { // it uses the guard of tries as well: nothing else does until it has ended
		<-b.done
		own = cmp.Or(own, b.own)
	}
	if own != nil {
		return proof, own
	}
	if slow := outOfTime(ctx, ""); slow != nil && !proof.OK {
		proof.Diagnosis = slow
		return proof, nil
	}
	if proof.OK {
		if err := w.know(ctx, proof.TLS); err != nil {
			return proof, err
		}
	}
	return proof, ctx.Err()
}

// pin returns the SHA-256 of the certificate that the device is known by; "" for none.
func (w *Work) pin() string {
	if p := w.d.Status.Pin; p != nil {
		return p.Certificate.SHA256
	}
	return ""
}

// know keeps the certificate that the device has shown, where it is the first: from now on the device is known by it.
func (w proveStep) know(ctx context.Context, shown *certificate.Certificate) error {
	if shown == nil || w.d.Status.Pin != nil {
		return nil
	}
	pin := evidence.Pin{Certificate: *shown}
	if err := w.keep(ctx, Finding{Body: pin}); err != nil {
		return err
	}
	w.d.Status.Pin = &pin
	return nil
}

// elsewhere returns the other places at which the stream may be, where nothing takes connections at the port that the device named: ports
// that spoke RTSP or RTSP over TLS in the sweep, and web ports, which may carry RTSP within HTTP.
func elsewhere(u streamurl.URL, ports []sighting.Port) (out []streamurl.URL) {
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
func (w proveStep) moveStreams(ctx context.Context, to streamurl.URL, named int) error {
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
func (w proveStep) relocate(ctx context.Context, body evidence.Located) error {
	if err := w.keep(ctx, Finding{Body: body}); err != nil {
		return err
	}
	given := slices.DeleteFunc(slices.Clone(w.d.Status.Streams), func(s camera.Stream) bool { return s.Service != camera.ByPerson })
	w.d.Status.Located, w.d.Status.Streams = &body, camera.GiveRoles(slices.Concat(body.Streams, given), w.roles())
	return nil
}

// takeReserve puts the device's own address in place of another host that it named for its streams and that does not answer.
func (w proveStep) takeReserve(ctx context.Context, named string) error {
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
