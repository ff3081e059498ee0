package bringup

import (
	"context"
	"errors"
	"fmt"
	"net/netip"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/recipe"
	"unlatch/core/wire/picture"
)

// A pictureStep finds what a device shows over HTTP: its own page, still pictures and motion JPEG.
type pictureStep struct{ *Work }

// unseen reports whether the streams are proven and what else the device shows has not been asked for yet.
func (w pictureStep) unseen() bool {
	if w.askedHTTP || w.d.Status.Latch(latch.Proven).State != latch.Open || !w.d.Status.InScope() {
		return false
	}
	for _, kind := range []recipe.Purpose{recipe.Snapshot, recipe.MJPEG} {
		if _, asked := w.d.Status.Pictures[string(kind)]; !asked {
			return true
		}
	}
	return w.d.Status.Web == nil && w.d.Status.Device.XAddr != ""
}

// askHTTP asks for what a device shows over HTTP, once: a snapshot, motion JPEG, its own page. They are streams and services of their
// own, and no latch waits for them.
func (w pictureStep) askHTTP(ctx context.Context) error {
	w.askedHTTP = true
	if w.d.Via != nil || len(w.d.Status.Streams) == 0 || len(w.d.Status.WebPorts()) == 0 && w.d.Status.Device.XAddr == "" {
		return nil
	}
	for _, kind := range []recipe.Purpose{recipe.Snapshot, recipe.MJPEG} {
		if _, asked := w.d.Status.Pictures[string(kind)]; asked {
			continue
		}
		if err := w.picture(ctx, kind); err != nil {
			return err
		}
	}
	if w.d.Status.Web == nil && w.d.Status.Device.XAddr != "" {
		return w.webPage(ctx)
	}
	return nil
}

// mostPictures bounds the addresses that are asked for one picture.
const mostPictures = 12

// pictureNames are the kinds of picture in the trade's words.
var pictureNames = map[recipe.Purpose]string{recipe.Snapshot: "snapshot", recipe.MJPEG: "motion JPEG"}

// picture fetches the snapshot that the device names, or the first picture of a kind that the recipes lead to. A guess that fails is no
// finding.
func (w pictureStep) picture(ctx context.Context, kind recipe.Purpose) error {
	w.Report.Doing(fmt.Sprintf("%s: looking for its %s", w.d.Title, pictureNames[kind]))
	in, err := w.signInOf(ctx, w.d)
	if err != nil {
		return err
	}
	named := ""
	if kind == recipe.Snapshot && w.d.Status.Device.XAddr != "" && !w.streamOnly() {
		if named, err = w.namedSnapshot(ctx); err != nil {
			return err
		}
	}
	addresses := []string{named}
	if named == "" {
		if addresses, err = w.pictureAddresses(ctx, kind); err != nil {
			return err
		}
	}
	body := evidence.Picture{Shot: evidence.Shot{URL: named, Kind: string(kind)}}
	f := Finding{Subject: string(kind)}
	fetcher := &picture.Fetcher{Dial: w.Guard, SignIn: in, Leave: w.webLeave(), Pin: w.pin(), Log: w.log}
	var last error
	for _, at := range addresses {
		var got *picture.Picture
		got, last = fetcher.Fetch(ctx, at)
		if last == nil && got.Kind == string(kind) {
			body.Shot, body.Label = shot(got), w.labelFor(got.Scheme)
			f.Still, f.StillID = got.JPEG, uuid.Must(uuid.NewV7())
			body.Still = &f.StillID
			break
		}
		if refused(last) || heldBack(last) {
			body.URL = at
			break
		}
	}
	if body.Diagnosis, err = Explain(ctx, last, w.facts(body.URL, "the "+pictureNames[kind], in.User)); err != nil {
		return err
	}
	// That nothing is at the likely addresses is kept too, so that they are not asked again at each try.
	body.None = body.Still == nil && body.URL == ""
	if body.None {
		body.Diagnosis = nil
	}
	f.Body = body
	return w.Keep(ctx, f)
}

func shot(p *picture.Picture) evidence.Shot {
	return evidence.Shot{URL: p.URL, Kind: p.Kind, Scheme: p.Scheme, Width: p.Width, Height: p.Height, Bytes: p.Bytes, Frames: p.Frames,
		FPS: p.FPS, MS: p.MS}
}

// namedSnapshot returns the address that the device service names; "" where it names none, which many devices say by a fault.
func (w pictureStep) namedSnapshot(ctx context.Context) (string, error) {
	c, _, err := w.signedClient(ctx)
	at := ""
	if err == nil {
		at, err = c.SnapshotURL(ctx, w.d.Status.Streams[0].Token)
	}
	if own := new(OwnError); errors.As(err, &own) || ctx.Err() != nil {
		return "", err
	}
	if err != nil {
		return "", nil
	}
	return at, nil
}

// pictureAddresses returns the likeliest addresses of a kind of picture, by the path books.
func (w pictureStep) pictureAddresses(ctx context.Context, kind recipe.Purpose) (out []string, err error) {
	likely, err := pathSearch(w).likelyPathsFor(ctx, kind, nil)
	if err != nil {
		return nil, err
	}
	for _, r := range likely {
		for _, port := range w.d.Status.WebPorts() {
			if r.Values.Stream == 1 && len(out) < mostPictures && (r.Port == 0 || r.Port == int(port.Number)) {
				scheme := "http"
				if port.Speaks == "https" {
					scheme = "https"
				}
				out = append(out, fmt.Sprintf("%s://%s%s", scheme, netip.AddrPortFrom(w.d.Status.Device.Addr, port.Number), r.Path))
			}
		}
	}
	return out, nil
}

// webLeave is leave to send the sign-in that opened the device to its web side.
func (w pictureStep) webLeave() signin.Leave {
	if s := w.d.Status.SignedIn; s != nil {
		return w.Leave(s.SignIn, signin.WebPage)
	}
	return nil
}

// labelFor names the sign-in that opened something; "" where none was asked for.
func (w pictureStep) labelFor(scheme string) string {
	if scheme == "none" {
		return ""
	}
	return w.d.Status.SignedIn.Label
}

// webPage asks for the device's own page.
func (w pictureStep) webPage(ctx context.Context) error {
	in, err := w.signInOf(ctx, w.d)
	if err != nil {
		return err
	}
	at := w.d.Status.Device.XAddr
	if r := w.d.Status.Reached; r != nil && r.Service != "" {
		at = r.Service // over TLS, where its plain port has sent us there
	}
	u, err := streamurl.Parse(at)
	if err != nil {
		return err
	}
	body := evidence.Web{URL: fmt.Sprintf("%s://%s/", u.Scheme, u.HostPort())}
	f := &picture.Fetcher{Dial: w.Guard, SignIn: in, Leave: w.webLeave(), Pin: w.pin(), Log: w.log}
	body.Scheme, err = f.Page(ctx, body.URL)
	body.Label = w.labelFor(body.Scheme)
	if body.Diagnosis, err = Explain(ctx, err, w.facts(body.URL, "the device's own page", in.User)); err != nil {
		return err
	}
	return w.Keep(ctx, Finding{Body: body})
}
