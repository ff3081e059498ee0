package jobs

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/diagnose"
	"unlatch/core/evidence"
	"unlatch/core/exchange"
	"unlatch/core/latch"
	"unlatch/core/media"
	"unlatch/core/picture"
	"unlatch/core/prove"
	"unlatch/core/recipe"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
	"unlatch/store"
)

// streamSignIn is the sign-in that opens the streams: their own where they have one, else the device's.
func (o *deviceWork) streamSignIn(ctx context.Context) (signin.SignIn, error) {
	if k := o.d.Status.StreamKey; k != nil {
		in, err := o.decrypt(ctx, k.SignIn)
		if !errors.Is(err, store.ErrNotFound) {
			if err != nil {
				err = &ownError{err}
			}
			return in, err
		}
	}
	return o.signInOf(ctx, o.d)
}

// play proves one stream. Where the streams refuse the sign-in of the device service, what else on the keyring is for streams is tried,
// counted by the guard as any try is; what opens them is kept. A refusal is not asked for twice.
func (o *deviceWork) play(ctx context.Context, u streamurl.URL) (prove.Proof, error) {
	key, _, _ := o.d.Status.StreamSignIn()
	if o.streamOnly() || key == uuid.Nil {
		in, err := o.streamSignIn(ctx)
		if err != nil {
			return prove.Proof{}, err
		}
		return o.prover(ctx, u, in, o.leave(o.d, key, store.Streams, nil))
	}
	keys, err := o.candidates(ctx, store.Streams)
	if err != nil {
		return prove.Proof{}, &ownError{err}
	}
	if i := slices.IndexFunc(keys, func(k store.SignIn) bool { return k.ID == key }); i > 0 { // what should open them comes first
		likeliest := keys[i]
		keys = slices.Insert(slices.Delete(keys, i, i+1), 0, likeliest)
	}
	var first *prove.Proof
	for _, k := range keys {
		in, err := o.decrypt(ctx, k.ID)
		if err != nil {
			return prove.Proof{}, &ownError{err}
		}
		proof, err := o.prover(ctx, u, in, o.leave(o.d, k.ID, store.Streams, nil))
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
			o.d.Status.StreamKey = &found
			return proof, o.record(ctx, store.Finding{Body: found})
		default:
			return proof, nil // it plays, or its diagnosis says why not
		}
	}
	if first != nil {
		return *first, nil
	}
	// Every key was refused before, and none is sent again: what the device says without one is all there is to ask.
	proof, err := o.prover(ctx, u, signin.SignIn{}, nil)
	if d := proof.Diagnosis; d != nil && d.Cause == diagnose.NoSignIn {
		d.Cause, d.Summary = diagnose.WrongSignIn, "The streams have refused every sign-in of the keyring before. Try again sends them once more."
	}
	return proof, err
}

func (o *deviceWork) prover(ctx context.Context, u streamurl.URL, in signin.SignIn, leave signin.Leave) (prove.Proof, error) {
	ctx, done := within(ctx, playBudget)
	defer done()
	p := prove.Prover{Dial: o.guard, Still: media.Still}
	var own *ownError // a proof makes a diagnosis of every error; the database's is none of the camera's
	req := prove.Request{URL: u, SignIn: in}
	if leave != nil {
		req.Leave = func(ctx context.Context, s signin.Sending) (func(error), error) {
			done, err := leave(ctx, s)
			errors.As(err, &own)
			return done, err
		}
	}
	if pin := o.d.Status.Pin; pin != nil {
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
	if proof.TLS != nil && proof.OK && o.d.Status.Pin == nil {
		pin := evidence.Pin{Certificate: *proof.TLS}
		if err := o.record(ctx, store.Finding{Body: pin}); err != nil {
			return proof, err
		}
		o.d.Status.Pin = &pin
	}
	return proof, ctx.Err()
}

// elsewhere are the other places at which the stream may be, where nothing takes connections at the port that the device named: ports
// that spoke RTSP or RTSP over TLS in the sweep, and web ports, which may carry RTSP within HTTP.
func (o *deviceWork) elsewhere(u streamurl.URL) (out []streamurl.URL) {
	for _, speaks := range []string{"rtsp", "rtsps", "http", "device service"} {
		for _, p := range o.d.Status.Device.Ports {
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
func (o *deviceWork) moveStreams(ctx context.Context, to streamurl.URL, named int) error {
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
	if err := o.record(ctx, store.Finding{Body: body}); err != nil {
		return err
	}
	o.d.Status.Located, o.d.Status.Streams = &body, body.Streams
	return nil
}

// takeReserve puts the device's own address in place of another host that it named for its streams and that does not answer.
func (o *deviceWork) takeReserve(ctx context.Context, named string) error {
	body := *o.d.Status.Located
	body.Streams = slices.Clone(body.Streams)
	for i, st := range body.Streams {
		if u, err := streamurl.Parse(st.URL); err == nil && u.Host == named && st.Reserve != "" {
			body.Streams[i].URL, body.Streams[i].Reserve = st.Reserve, ""
			body.Streams[i].Corrected = strings.TrimPrefix(st.Corrected+", "+named, ", ")
		}
	}
	if err := o.record(ctx, store.Finding{Body: body}); err != nil {
		return err
	}
	o.d.Status.Located, o.d.Status.Streams = &body, body.Streams
	return nil
}

// unseen reports whether the streams are proven and what else the device shows has not been asked for yet.
func (o *deviceWork) unseen() bool {
	if o.asked || o.d.Status.Latch(latch.Proven).State != latch.Open || !o.d.Status.InScope() {
		return false
	}
	for _, kind := range []recipe.Purpose{recipe.Snapshot, recipe.MJPEG} {
		if _, asked := o.d.Status.Pictures[string(kind)]; !asked {
			return true
		}
	}
	return o.d.Status.Web == nil && o.d.Status.Device.XAddr != ""
}

// besides asks for what a device shows over HTTP, once: a snapshot, motion JPEG, its own page. They are streams and services of their
// own, and no latch waits for them.
func (o *deviceWork) besides(ctx context.Context) error {
	o.asked = true
	if o.d.Via != nil || len(o.d.Status.Streams) == 0 || len(o.webPorts()) == 0 && o.d.Status.Device.XAddr == "" {
		return nil
	}
	for _, kind := range []recipe.Purpose{recipe.Snapshot, recipe.MJPEG} {
		if _, asked := o.d.Status.Pictures[string(kind)]; asked {
			continue
		}
		if err := o.picture(ctx, kind); err != nil {
			return err
		}
	}
	if o.d.Status.Web == nil && o.d.Status.Device.XAddr != "" {
		return o.webPage(ctx)
	}
	return nil
}

// webPorts are the ports at which the device speaks HTTP.
func (o *deviceWork) webPorts() (out []int) {
	for _, p := range o.d.Status.Device.Ports {
		if p.Speaks == "http" || p.Speaks == "device service" {
			out = append(out, int(p.Number))
		}
	}
	return out
}

// mostPictures bounds the addresses that are asked for one picture.
const mostPictures = 12

// picture fetches the snapshot that the device names, or the first picture of a kind that the recipes lead to. A guess that fails is no
// finding.
func (o *deviceWork) picture(ctx context.Context, kind recipe.Purpose) error {
	o.env.store.Progress(ctx, o.run, fmt.Sprintf("%s: looking for its %s", o.d.Title(), map[recipe.Purpose]string{recipe.Snapshot: "snapshot", recipe.MJPEG: "motion JPEG"}[kind]), -1)
	log := o.newLog()
	in, err := o.signInOf(ctx, o.d)
	if err != nil {
		return err
	}
	named := ""
	if kind == recipe.Snapshot && o.d.Status.Device.XAddr != "" && !o.streamOnly() {
		if named, err = o.namedSnapshot(ctx, log); err != nil {
			return err
		}
	}
	addresses := []string{named}
	if named == "" {
		if addresses, err = o.pictureAddresses(ctx, kind); err != nil {
			return err
		}
	}
	body := evidence.Picture{Picture: picture.Picture{URL: named, Kind: string(kind)}}
	f := store.Finding{Subject: string(kind)}
	fetcher := &picture.Fetcher{Dial: o.guard, SignIn: in, Leave: o.webLeave(), Log: log}
	var last error
	for _, at := range addresses {
		var got *picture.Picture
		got, last = fetcher.Fetch(ctx, at)
		if last == nil && got.Kind == string(kind) {
			body.Picture, body.Label = *got, o.labelFor(got.Scheme)
			f.Still, f.StillID = got.JPEG, uuid.Must(uuid.NewV7())
			body.Still = &f.StillID
			break
		}
		if refused(last) || heldBack(last) {
			body.URL = at
			break
		}
	}
	if body.Diagnosis, err = explain(ctx, last, o.facts(body.URL, map[recipe.Purpose]string{recipe.Snapshot: "the snapshot", recipe.MJPEG: "motion JPEG"}[kind], in.User)); err != nil {
		return err
	}
	// That nothing is at the likely addresses is kept too, so that they are not asked again at each try.
	body.None = body.Still == nil && body.URL == ""
	if body.None {
		body.Diagnosis = nil
	}
	f.Body, f.Exchange = body, log.String()
	return o.record(ctx, f)
}

// namedSnapshot is the address that the device service names; "" where it names none.
func (o *deviceWork) namedSnapshot(ctx context.Context, log *exchange.Log) (string, error) {
	c, _, err := o.client(ctx, o.d, log)
	if c != nil {
		defer c.Close()
	}
	if err == nil {
		var at string
		if at, err = c.SnapshotURL(ctx, o.d.Status.Streams[0].Profile); err == nil {
			return at, nil
		}
	}
	if own := new(ownError); errors.As(err, &own) || ctx.Err() != nil {
		return "", err
	}
	return "", nil // many devices have no snapshot and say so by a fault
}

// pictureAddresses are the likeliest addresses of a kind of picture, by the path books.
func (o *deviceWork) pictureAddresses(ctx context.Context, kind recipe.Purpose) (out []string, err error) {
	likely, err := o.likelyPathsFor(ctx, kind, nil)
	if err != nil {
		return nil, err
	}
	for _, r := range likely {
		for _, port := range o.webPorts() {
			if r.Values.Stream == 1 && len(out) < mostPictures && (r.Port == 0 || r.Port == port) {
				out = append(out, fmt.Sprintf("http://%s%s", netip.AddrPortFrom(o.d.Status.Device.Addr, uint16(port)), r.Path))
			}
		}
	}
	return out, nil
}

// webLeave is leave to send the sign-in that opened the device to its web side.
func (o *deviceWork) webLeave() signin.Leave {
	if s := o.d.Status.SignedIn; s != nil {
		return o.leave(o.d, s.SignIn, store.WebPage, nil)
	}
	return nil
}

// heldBack reports whether a sign-in was not sent, or not judged, for a reason that holds for the next address too.
func heldBack(err error) bool {
	return errors.As(err, new(*signin.HeldBackError)) || errors.As(err, new(*signin.LockedError)) || errors.As(err, new(*signin.ReadableError)) || errors.As(err, new(*signin.WeakerError))
}

// labelFor names the sign-in that opened something; "" where none was asked for.
func (o *deviceWork) labelFor(scheme string) string {
	if scheme == "none" {
		return ""
	}
	return o.d.Status.SignedIn.Label
}

func (o *deviceWork) webPage(ctx context.Context) error {
	log := o.newLog()
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
	f := &picture.Fetcher{Dial: o.guard, SignIn: in, Leave: o.webLeave(), Log: log}
	body.Scheme, err = f.Page(ctx, body.URL)
	body.Label = o.labelFor(body.Scheme)
	if body.Diagnosis, err = explain(ctx, err, o.facts(body.URL, "the device's own page", in.User)); err != nil {
		return err
	}
	return o.record(ctx, store.Finding{Body: body, Exchange: log.String()})
}
