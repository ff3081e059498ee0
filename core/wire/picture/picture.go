// Package picture fetches pictures and pages over HTTP as a device serves them: a snapshot, a motion JPEG stream, its own page; signed in
// where the device asks for it, and measured.
package picture

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"image/jpeg"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
)

// Limits on an answer.
const (
	maxPixels = 40 << 20 // 8K is 33 million
	maxHops   = 3
)

// A StatusError is any other answer than a picture or page.
type StatusError struct {
	Status int
	Reason string
}

func (e *StatusError) Error() string {
	return fmt.Sprintf("GET was answered with %d %s", e.Status, e.Reason)
}

// A RefusedError means that a sign-in is wanted, and none was given or the one given is not taken.
type RefusedError struct {
	Tried  bool
	Scheme string
}

func (e *RefusedError) Error() string {
	if !e.Tried {
		return "the device wants a sign-in and none was given"
	}
	return "the device refuses the sign-in (" + e.Scheme + ")"
}

// A NotPictureError is an answer that is no JPEG.
type NotPictureError struct{ Problem string }

func (e *NotPictureError) Error() string { return "no picture: " + e.Problem }

// A RedirectError is a redirect that is not followed: the last of too many, or one that cannot be read. A redirect out of the site's
// ranges is stopped by the dialer instead.
type RedirectError struct{ To string }

func (e *RedirectError) Error() string { return "a redirect that leads nowhere: " + e.To }

// A Picture is what a URL gave.
type Picture struct {
	URL    string  // where it came from in the end, without a sign-in
	Kind   string  // "snapshot" for one JPEG, "mjpeg" for JPEGs without end
	Scheme string  // how the sign-in was taken; "none" where none was asked for
	Width  int     // pixels
	Height int     // pixels
	Bytes  int     // of one picture
	Frames int     // pictures received
	FPS    float64 // pictures a second, of motion JPEG
	MS     float64 // from the request to the last byte of the first picture, in milliseconds
	JPEG   []byte  // the first picture
}

// A Fetcher asks one device. Its zero value but for Dial is usable.
type Fetcher struct {
	Dial    address.Dialer
	SignIn  signin.SignIn
	Leave   signin.Leave  // is asked before the sign-in goes out; nil lets no readable one out
	Timeout time.Duration // of one exchange; 0 means 5 s
	Pin     string        // SHA-256 of the certificate that the device is known by, in hex; "" for none yet
	Log     *exchange.Log

	Shown *certificate.Certificate // what the device showed, of an exchange over TLS
}

// Fetch gets the picture at an http or https URL, with the sign-in where the device asks for one; it is sent once. A motion JPEG stream
// (multipart/x-mixed-replace) is measured for a second.
func (f *Fetcher) Fetch(ctx context.Context, at string) (*Picture, error) {
	began := time.Now()
	ctx, cancel := context.WithTimeout(ctx, f.timeout()+4*time.Second)
	defer cancel()
	s, err := f.Open(ctx, at)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	out := &Picture{URL: plain(s.x.to), Scheme: s.Scheme}
	if s.Form == Transport {
		return nil, &NotPictureError{Problem: "the answer is no JPEG"}
	}
	return out, out.measure(s, began)
}

// Page asks for a page, and reports whether a sign-in opens it: scheme is "none" where it opens without one.
func (f *Fetcher) Page(ctx context.Context, at string) (scheme string, err error) {
	x, err := f.begin(at)
	if err != nil {
		return "", err
	}
	res, err := x.get(ctx)
	if err != nil {
		return x.scheme, err
	}
	return x.scheme, res.Body.Close()
}

func (f *Fetcher) timeout() time.Duration {
	if f.Timeout == 0 {
		return 5 * time.Second
	}
	return f.Timeout
}

// begin prepares to ask for a URL.
func (f *Fetcher) begin(at string) (*fetch, error) {
	f.Log.Know(f.SignIn)
	home, err := url.Parse(at)
	if err != nil {
		return nil, &RedirectError{To: clip(at)}
	}
	x := &fetch{f: f, home: home, to: home, scheme: "none"}
	x.secure = &certificate.Dialer{Dial: x.traffic.Watch(f.Dial.DialContext), Pin: f.Pin, Timeout: f.timeout(), Log: f.Log}
	x.client = &http.Client{
		Transport: &http.Transport{DialContext: x.secure.Dial, DialTLSContext: x.secure.DialTLS, ResponseHeaderTimeout: f.timeout(),
			MaxResponseHeaderBytes: 32 << 10, DisableKeepAlives: true, DisableCompression: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return x, nil
}

// get follows redirects and answers one challenge. A sign-in goes to the host that was asked for and to no other.
func (x *fetch) get(ctx context.Context) (_ *http.Response, err error) {
	defer func() { x.finish(err) }()
	for {
		res, err := x.ask(ctx)
		if err != nil || res.StatusCode < 300 {
			return res, err
		}
		if err := x.refused(ctx, res); err != nil {
			return nil, err
		}
	}
}

// A fetch is one picture or page on its way, over redirects and sign-ins.
type fetch struct {
	f        *Fetcher
	client   *http.Client
	secure   *certificate.Dialer
	traffic  exchange.Traffic
	request  Request  // the zero value asks for a page
	home, to *url.URL // the device, and what is asked for now
	hops     int
	scheme   string
	answer   *httpauth.Answer
	renewed  bool
	judged   func(error) // told how the sign-in that was sent last was judged; nil where none is out
}

// finish keeps which certificate the device has shown, and says how the sign-in was judged.
func (x *fetch) finish(err error) {
	if x.secure.Shown != nil {
		x.f.Shown = x.secure.Shown
	}
	x.tell(err)
}

// tell says how the sign-in that was sent last was judged; nil for taken.
func (x *fetch) tell(err error) {
	if x.judged != nil {
		x.judged(err)
		x.judged = nil
	}
}

// method returns that of the request.
func (x *fetch) method() string { return cmp.Or(x.request.Method, http.MethodGet) }

// ask sends the request once, with the sign-in where it is for the device.
func (x *fetch) ask(ctx context.Context) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, x.method(), x.to.String(), bytes.NewReader(x.request.Body))
	if err != nil {
		return nil, &RedirectError{To: clip(x.to.String())}
	}
	maps.Copy(req.Header, x.request.Header)
	req.Header.Set("User-Agent", "Unlatch")
	sent := x.method() + " " + plain(x.to)
	if x.answer != nil && x.to.Host == x.home.Host {
		req.Header.Set("Authorization", x.answer.Header(x.method(), x.to.RequestURI()))
		sent += "\nAuthorization: " + req.Header.Get("Authorization")
	}
	if len(x.request.Body) > 0 {
		sent += "\n\n" + string(x.request.Body)
	}
	x.f.Log.Sent(sent)
	since := x.traffic.Mark()
	res, err := x.client.Do(req)
	if err != nil {
		err = since.Explain(err, "its answer")
		x.f.Log.Note("%v", err)
		return nil, err
	}
	var head strings.Builder
	res.Header.Write(&head)
	x.f.Log.Got(res.Proto + " " + res.Status + "\n" + head.String())
	return res, nil
}

// refused takes an answer that is not what was asked for: it makes the next request ready, or returns why there is none.
func (x *fetch) refused(ctx context.Context, res *http.Response) error {
	if res.StatusCode < 500 && res.StatusCode != http.StatusUnauthorized &&
		signin.Locked(res.StatusCode, res.Header.Get("Retry-After"), "", time.Now()) == nil {
		x.tell(nil) // the sign-in was taken, whatever else is the matter
	}
	text, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
	res.Body.Close()
	if res.StatusCode < 400 {
		return x.follow(res.Header.Get("Location"))
	}
	if err := signin.LockedOut(x.answer != nil, res.StatusCode, res.Header.Get("Retry-After"), string(text), time.Now()); err != nil {
		return err
	}
	if res.StatusCode != http.StatusUnauthorized {
		return &StatusError{res.StatusCode, clip(http.StatusText(res.StatusCode))}
	}
	return x.signIn(ctx, res.Header.Values("WWW-Authenticate"))
}

// follow goes on at another place. A sign-in does not follow to another channel, and nothing leaves TLS.
func (x *fetch) follow(location string) error {
	next, err := x.to.Parse(location)
	if err == nil && x.to.Scheme == "https" && next.Scheme != "https" {
		return &RedirectError{To: "out of TLS, to " + clip(plain(next))}
	}
	if x.hops++; err != nil || location == "" || x.hops > maxHops || next.Scheme != "http" && next.Scheme != "https" {
		return &RedirectError{To: clip(location)}
	}
	if x.to.Host == x.home.Host && next.Scheme == "https" && next.Hostname() == x.home.Hostname() {
		x.f.Log.Note("the device sends plain requests to https://%s; following", clip(next.Host))
		x.home = next // the same device, at its port for TLS
	}
	if x.secure.Channel(next).String() != x.secure.Channel(x.to).String() {
		x.answer = nil // leave was given for one channel: the next one asks for itself
	}
	x.to = next
	return nil
}

// signIn makes the answer to a challenge, once leave is given to send it.
func (x *fetch) signIn(ctx context.Context, challenges []string) error {
	best, err := httpauth.Choose(httpauth.ParseChallenges(challenges))
	if err != nil {
		return errors.Join(err, &RefusedError{})
	}
	if x.f.SignIn.Anonymous() || x.to.Host != x.home.Host ||
		x.answer != nil && (x.renewed || !x.answer.OutOfDate(best) || best.Name() != x.scheme) {
		return &RefusedError{Tried: x.answer != nil, Scheme: best.Name()}
	}
	x.renewed = x.answer != nil // once: a device that calls every nonce stale refuses the sign-in
	x.tell(signin.ErrStale)
	judged, err := x.f.Leave.Ask(ctx, signin.Sending{Scheme: best.Name(), Renewed: x.renewed, Channel: x.secure.Channel(x.to)})
	if err != nil {
		x.f.Log.Note("the sign-in is not sent: %v", err)
		x.scheme = best.Name()
		return err
	}
	x.judged = judged
	x.answer, x.scheme = httpauth.NewAnswer(best, x.f.SignIn.User, x.f.SignIn.Secret.Reveal()), best.Name()
	return nil
}

// first reads the size out of the first picture.
func (p *Picture) first(began time.Time) error {
	c, err := jpeg.DecodeConfig(bytes.NewReader(p.JPEG))
	if err != nil {
		return &NotPictureError{Problem: "the answer is no JPEG"}
	}
	if c.Width*c.Height > maxPixels {
		return &NotPictureError{Problem: fmt.Sprintf("it claims %d×%d pixels, which no camera has", c.Width, c.Height)}
	}
	p.Width, p.Height, p.Bytes = c.Width, c.Height, len(p.JPEG)
	p.MS = float64(time.Since(began).Microseconds()) / 1000
	return nil
}

// measure reads pictures for a second, three at least while the answer lasts; of stills, one.
func (p *Picture) measure(s *Stream, began time.Time) error {
	var start, last time.Time
	for s.parts && (p.Frames < 3 || time.Since(start) < time.Second) || p.Frames == 0 {
		raw, err := s.JPEG()
		if err != nil && p.Frames > 0 {
			break // what came is measured
		}
		if err != nil {
			return err
		}
		last = time.Now()
		if p.Frames++; p.Frames == 1 {
			start, p.JPEG = last, raw
			if err := p.first(began); err != nil {
				return err
			}
		}
	}
	if p.Kind = "snapshot"; s.parts {
		p.Kind = "mjpeg"
	}
	if p.Frames > 1 {
		p.FPS = float64(int(float64(p.Frames-1)/last.Sub(start).Seconds()*10+0.5)) / 10
	}
	return nil
}

// plain returns a URL without its sign-in.
func plain(u *url.URL) string {
	p := *u
	p.User = nil
	return p.String()
}

// clip makes one harmless line of what a device says.
func clip(s string) string { return wiretext.Line(s, 200) }
