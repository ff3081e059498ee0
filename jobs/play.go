package jobs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"unlatch/core/diagnose"
	"unlatch/core/evidence"
	"unlatch/core/exchange"
	"unlatch/core/media"
	"unlatch/core/picture"
	"unlatch/core/prove"
	"unlatch/core/rtsp"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
	"unlatch/store"
)

// streamSignIn is the sign-in that opens the streams: their own where they have one, else the device's.
func (o *opening) streamSignIn(ctx context.Context) (signin.SignIn, error) {
	if k := o.d.Status.StreamKey; k != nil {
		in, err := o.env.store.Unseal(ctx, k.SignIn)
		if !errors.Is(err, store.ErrNotFound) {
			if err != nil {
				err = &ownError{err}
			}
			return in, err
		}
	}
	return o.signInOf(ctx, o.d)
}

// play proves one stream. Where the streams refuse the sign-in of the device service, what else on the keyring is for streams is tried, counted by
// the guard as any try is; what opens them is kept. A refusal is not asked for twice.
func (o *opening) play(ctx context.Context, u streamurl.URL) (prove.Proof, error) {
	in, err := o.streamSignIn(ctx)
	if err != nil {
		return prove.Proof{}, err
	}
	key, known := o.streamKey()
	if o.streamOnly() || !known {
		return o.prover(ctx, u, in)
	}
	keys, err := o.candidates(ctx, store.Streams)
	if err != nil {
		return prove.Proof{}, &ownError{err}
	}
	var first *prove.Proof
	order := []store.SignIn{}
	for _, k := range keys {
		if k.ID == key {
			order = append([]store.SignIn{k}, order...)
		} else {
			order = append(order, k)
		}
	}
	for _, k := range order {
		if in, err = o.env.store.Unseal(ctx, k.ID); err != nil {
			return prove.Proof{}, &ownError{err}
		}
		var proof prove.Proof
		err := o.counted(ctx, k.ID, store.Streams, func() (err error) {
			proof, err = o.prover(ctx, u, in)
			return errors.Join(err, judgement(proof.Diagnosis))
		})
		held := new(signin.HeldBackError)
		switch {
		case errors.As(err, &held):
			if first != nil {
				return *first, nil // what was refused says more than that no more is tried
			}
			d := diagnose.Explain(held, diagnose.Facts{Host: u.Host, Port: u.DialPort(), Asking: "the stream", User: in.User})
			return prove.Proof{URL: u.String(), Transport: "tcp", Auth: "none", Steps: []prove.Step{}, Diagnosis: &d}, nil
		case errors.Is(err, errNotJudged), errors.As(err, new(*signin.LockedError)):
			return proof, nil // its diagnosis says all
		case err != nil && !refused(err):
			return proof, err
		case err == nil:
			if k.ID != key {
				err = o.record(ctx, store.Finding{Kind: evidence.KindStreamKey, Body: evidence.StreamKey{SignIn: k.ID, Label: k.Label, User: k.User}})
				o.d.Status.StreamKey = &evidence.StreamKey{SignIn: k.ID, Label: k.Label, User: k.User}
			}
			return proof, err
		}
		if first == nil {
			first = &proof
		}
	}
	if first != nil {
		return *first, nil
	}
	// Every key was refused before, and none is sent again: what the device says without one is all there is to ask.
	proof, err := o.prover(ctx, u, signin.SignIn{})
	if d := proof.Diagnosis; d != nil && d.Cause == diagnose.NoSignIn {
		d.Cause, d.Summary = diagnose.WrongSignIn, "The streams have refused every sign-in of the keyring before. What was refused is not sent again."
	}
	return proof, err
}

// streamKey is the keyring entry that should open the streams; ok is false where the device lets anyone in.
func (o *opening) streamKey() (key uuid.UUID, ok bool) {
	if k := o.d.Status.StreamKey; k != nil {
		return k.SignIn, true
	}
	if s := o.d.Status.SignedIn; s != nil && s.SignIn != uuid.Nil {
		return s.SignIn, true
	}
	return uuid.Nil, false
}

func (o *opening) prover(ctx context.Context, u streamurl.URL, in signin.SignIn) (prove.Proof, error) {
	p := prove.Prover{Dial: o.guard, Still: media.Still}
	req := prove.Request{URL: u, SignIn: in}
	if pin := o.d.Status.Pin; pin != nil {
		req.Pin = pin.Certificate.SHA256
	}
	proof := p.Prove(ctx, req)
	if proof.TLS != nil && proof.OK && o.d.Status.Pin == nil {
		pin := evidence.Pin{Certificate: *proof.TLS}
		if err := o.record(ctx, store.Finding{Kind: evidence.KindPin, Body: pin}); err != nil {
			return proof, err
		}
		o.d.Status.Pin = &pin
	}
	return proof, ctx.Err()
}

// elsewhere are the other places at which the stream may be, where nothing takes connections at the port that the device named: ports that spoke
// RTSP or RTSP over TLS in the sweep, and web ports, which may carry RTSP within HTTP.
func (o *opening) elsewhere(u streamurl.URL) (out []streamurl.URL) {
	for _, speaks := range []string{"rtsp", "rtsps", "http", "device service"} {
		for _, p := range o.d.Status.Device.Ports {
			if p.Speaks != speaks || int(p.Number) == u.DialPort() {
				continue
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
func (o *opening) moveStreams(ctx context.Context, to streamurl.URL, named int) error {
	body := *o.d.Status.Located
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
	if err := o.record(ctx, store.Finding{Kind: evidence.KindLocated, Body: body}); err != nil {
		return err
	}
	o.d.Status.Located, o.d.Status.Streams = &body, body.Streams
	return nil
}

// errNotJudged says that a stream failed for another reason than its sign-in.
var errNotJudged = errors.New("the sign-in was not judged")

// judgement turns what a proof says of its sign-in back into the error that the guard's count goes by.
func judgement(d *diagnose.Diagnosis) error {
	switch {
	case d == nil:
		return nil
	case d.Cause == diagnose.WrongSignIn:
		return &rtsp.AuthError{Tried: true}
	case d.Cause == diagnose.Locked && d.Until != nil:
		return &signin.LockedError{Wait: time.Until(*d.Until), Seen: d.Seen}
	}
	return errNotJudged
}

// besides asks for a snapshot and for the device's own page, once: what the sign-in opens besides the streams is worth knowing, and no latch waits for it.
func (o *opening) besides(ctx context.Context) error {
	if o.streamOnly() || o.d.Via != nil || o.d.Status.Device.XAddr == "" || len(o.d.Status.Streams) == 0 {
		return nil
	}
	if _, asked := o.d.Status.Pictures["snapshot"]; !asked {
		if err := o.snapshot(ctx); err != nil {
			return err
		}
	}
	if o.d.Status.Web == nil {
		return o.webPage(ctx)
	}
	return nil
}

func (o *opening) snapshot(ctx context.Context) error {
	o.env.store.Progress(ctx, o.run, o.d.Title()+": taking a snapshot", -1)
	log := exchange.NewLog(nil)
	body := evidence.Picture{}
	body.Kind = "snapshot"
	c, in, err := o.client(ctx, o.d, log)
	if err == nil {
		defer c.Close()
		body.URL, err = c.SnapshotURL(ctx, o.d.Status.Streams[0].Profile)
	}
	f := store.Finding{Kind: evidence.KindPicture, Subject: "snapshot"}
	if err == nil && body.URL != "" {
		var got *picture.Picture
		got, err = o.fetch(ctx, in, body.URL, log)
		if got != nil && err == nil {
			body.Picture, body.Label = *got, o.labelFor(got.Scheme)
			f.Still, f.StillID = got.JPEG, uuid.Must(uuid.NewV7())
			body.Still = &f.StillID
		}
	}
	if err == nil && body.URL == "" {
		err = &picture.StatusError{Status: 404, Reason: "the device names no snapshot"}
	}
	if body.Diagnosis, err = explain(ctx, err, o.facts(body.URL, "the snapshot", in.User)); err != nil {
		return err
	}
	f.Body, f.Exchange = body, log.String()
	return o.record(ctx, f)
}

// fetch gets a picture with the sign-in that opened the device, counted for the web side.
func (o *opening) fetch(ctx context.Context, in signin.SignIn, url string, log *exchange.Log) (got *picture.Picture, err error) {
	f := &picture.Fetcher{Dial: o.guard, SignIn: in, Log: log}
	key, known := o.deviceKey()
	if !known {
		return f.Fetch(ctx, url)
	}
	err = o.counted(ctx, key, store.WebPage, func() (err error) {
		got, err = f.Fetch(ctx, url)
		return err
	})
	return got, err
}

func (o *opening) deviceKey() (uuid.UUID, bool) {
	s := o.d.Status.SignedIn
	return s.SignIn, s != nil && s.SignIn != uuid.Nil
}

// labelFor names the sign-in that opened something; "" where none was asked for.
func (o *opening) labelFor(scheme string) string {
	if scheme == "none" {
		return ""
	}
	return o.d.Status.SignedIn.Label
}

func (o *opening) webPage(ctx context.Context) error {
	log := exchange.NewLog(nil)
	in, err := o.signInOf(ctx, o.d)
	if err != nil {
		return err
	}
	at := o.d.Status.Device.XAddr
	u, err := streamurl.Parse(at)
	if err != nil {
		return err
	}
	body := evidence.Web{URL: fmt.Sprintf("http://%s/", u.HostPort())}
	f := &picture.Fetcher{Dial: o.guard, SignIn: in, Log: log}
	ask := func() (err error) { body.Scheme, err = f.Page(ctx, body.URL); return err }
	if key, known := o.deviceKey(); known {
		err = o.counted(ctx, key, store.WebPage, ask)
	} else {
		err = ask()
	}
	body.Label = o.labelFor(body.Scheme)
	if body.Diagnosis, err = explain(ctx, err, o.facts(body.URL, "the device's own page", in.User)); err != nil {
		return err
	}
	return o.record(ctx, store.Finding{Kind: evidence.KindWeb, Body: body, Exchange: log.String()})
}
