// Package picture fetches pictures and pages over HTTP as a device serves them: a snapshot, a motion JPEG stream, its own page; signed in
// where the device asks for it, and measured.
package picture

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/jpeg"
	"io"
	"mime"
	"mime/multipart"
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
	maxPicture = 8 << 20
	maxPixels  = 40 << 20 // 8K is 33 million
	maxHops    = 3
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
	URL    string  `json:"url" doc:"where it came from in the end, without a sign-in"`
	Kind   string  `json:"kind" enum:"snapshot,mjpeg" doc:"one JPEG, or JPEGs without end"`
	Scheme string  `json:"scheme" doc:"how the sign-in was taken; none where none was asked for"`
	Width  int     `json:"width" doc:"pixels"`
	Height int     `json:"height" doc:"pixels"`
	Bytes  int     `json:"bytes" doc:"of one picture"`
	Frames int     `json:"frames" doc:"pictures received"`
	FPS    float64 `json:"fps,omitempty" doc:"pictures a second, of motion JPEG"`
	MS     float64 `json:"ms" doc:"from the request to the last byte of the first picture"`
	JPEG   []byte  `json:"-"` // the first picture
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
	res, scheme, err := f.get(ctx, at)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	out := &Picture{URL: plain(res.Request.URL), Kind: "snapshot", Scheme: scheme}
	kind, params, err := mime.ParseMediaType(res.Header.Get("Content-Type"))
	if err == nil && strings.HasPrefix(kind, "multipart/") && params["boundary"] != "" {
		out.Kind = "mjpeg"
		return out, out.measure(res.Body, params["boundary"], began)
	}
	if out.JPEG, err = bounded(res.Body); err != nil {
		return nil, err
	}
	out.Frames = 1
	return out, out.first(began)
}

// Page asks for a page, and reports whether a sign-in opens it: scheme is "none" where it opens without one.
func (f *Fetcher) Page(ctx context.Context, at string) (scheme string, err error) {
	res, scheme, err := f.get(ctx, at)
	if err != nil {
		return scheme, err
	}
	return scheme, res.Body.Close()
}

func (f *Fetcher) timeout() time.Duration {
	if f.Timeout == 0 {
		return 5 * time.Second
	}
	return f.Timeout
}

// get follows redirects and answers one challenge. A sign-in goes to the host that was asked for and to no other.
func (f *Fetcher) get(ctx context.Context, at string) (_ *http.Response, scheme string, err error) {
	f.Log.Know(f.SignIn)
	var traffic exchange.Traffic
	secure := &certificate.Dialer{Dial: traffic.Watch(f.Dial.DialContext), Pin: f.Pin, Timeout: f.timeout(), Log: f.Log}
	defer func() {
		if secure.Shown != nil {
			f.Shown = secure.Shown
		}
	}()
	client := &http.Client{
		Transport: &http.Transport{DialContext: secure.Dial, DialTLSContext: secure.DialTLS, ResponseHeaderTimeout: f.timeout(),
			MaxResponseHeaderBytes: 32 << 10,
			DisableKeepAlives:      true, DisableCompression: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	home, err := url.Parse(at)
	if err != nil {
		return nil, "", &RedirectError{To: clip(at)}
	}
	to, hops := home, 0
	scheme = "none"
	var answer *httpauth.Answer
	renewed := false
	var judged func(error)
	tell := func(err error) {
		if judged != nil {
			judged(err)
			judged = nil
		}
	}
	defer func() { tell(err) }()
	for {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, to.String(), nil)
		if err != nil {
			return nil, scheme, &RedirectError{To: clip(to.String())}
		}
		req.Header.Set("User-Agent", "Unlatch")
		if answer != nil && to.Host == home.Host {
			req.Header.Set("Authorization", answer.Header(http.MethodGet, to.RequestURI()))
			f.Log.Sent("GET " + plain(to) + "\nAuthorization: " + req.Header.Get("Authorization"))
		} else {
			f.Log.Sent("GET " + plain(to))
		}
		since := traffic.Mark()
		res, err := client.Do(req)
		if err != nil {
			err = since.Explain(err, "its answer")
			f.Log.Note("%v", err)
			return nil, scheme, err
		}
		var head strings.Builder
		res.Header.Write(&head)
		f.Log.Got(res.Proto + " " + res.Status + "\n" + head.String())
		if res.StatusCode < 300 {
			return res, scheme, nil
		}
		if res.StatusCode < 500 && res.StatusCode != http.StatusUnauthorized && signin.Locked(res.StatusCode, res.Header.Get("Retry-After"),
			"", time.Now()) == nil {
			tell(nil) // the sign-in was taken, whatever else is the matter
		}
		text, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
		res.Body.Close()
		if res.StatusCode < 400 {
			next, err := to.Parse(res.Header.Get("Location"))
			if err == nil && to.Scheme == "https" && next.Scheme != "https" {
				return nil, scheme, &RedirectError{To: "out of TLS, to " + clip(plain(next))}
			}
			if hops++; err != nil || res.Header.Get("Location") == "" || hops > maxHops || next.Scheme != "http" && next.Scheme != "https" {
				return nil, scheme, &RedirectError{To: clip(res.Header.Get("Location"))}
			}
			if to.Host == home.Host && next.Scheme == "https" && next.Hostname() == home.Hostname() {
				f.Log.Note("the device sends plain requests to https://%s; following", clip(next.Host))
				home = next // the same device, at its port for TLS
			}
			if secure.Channel(next).String() != secure.Channel(to).String() {
				answer = nil // leave was given for one channel: the next one asks for itself
			}
			to = next
			continue
		}
		if err := signin.LockedOut(answer != nil, res.StatusCode, res.Header.Get("Retry-After"), string(text), time.Now()); err != nil {
			return nil, scheme, err
		}
		if res.StatusCode != http.StatusUnauthorized {
			return nil, scheme, &StatusError{res.StatusCode, clip(http.StatusText(res.StatusCode))}
		}
		best, err := httpauth.Choose(httpauth.ParseChallenges(res.Header.Values("WWW-Authenticate")))
		if err != nil {
			return nil, scheme, errors.Join(&RefusedError{}, err)
		}
		if f.SignIn.Anonymous() || to.Host != home.Host || answer != nil && (renewed || !answer.OutOfDate(best) || best.Name() != scheme) {
			return nil, scheme, &RefusedError{Tried: answer != nil, Scheme: best.Name()}
		}
		renewed = answer != nil // once: a device that calls every nonce stale refuses the sign-in
		tell(signin.ErrStale)
		if judged, err = f.Leave.Ask(ctx, signin.Sending{Scheme: best.Name(), Renewed: renewed,
			Channel: secure.Channel(to)}); err != nil {
			judged = nil
			f.Log.Note("the sign-in is not sent: %v", err)
			return nil, best.Name(), err
		}
		answer, scheme = httpauth.NewAnswer(best, f.SignIn.User, f.SignIn.Secret.Reveal()), best.Name()
	}
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

// measure reads parts for a second, three at least while the answer lasts.
func (p *Picture) measure(body io.Reader, boundary string, began time.Time) error {
	r := bufio.NewReader(io.LimitReader(body, 64<<20))
	// Some devices put the dashes that stand before a boundary into its name as well, and send them once.
	if head, _ := r.Peek(len(boundary) + 4); !bytes.Contains(head, []byte("--"+boundary)) {
		boundary = strings.TrimPrefix(boundary, "--")
	}
	parts := multipart.NewReader(r, boundary)
	var start, last time.Time
	for p.Frames < 3 || time.Since(start) < time.Second {
		part, err := parts.NextPart()
		if err == nil {
			var raw []byte
			if raw, err = bounded(part); err == nil {
				last = time.Now()
				if p.Frames++; p.Frames == 1 {
					start, p.JPEG = last, raw
					if err := p.first(began); err != nil {
						return err
					}
				}
				continue
			}
		}
		if p.Frames > 0 {
			break // what came is measured
		}
		return &NotPictureError{Problem: "no picture came within the stream: " + clip(err.Error())}
	}
	if p.Frames > 1 {
		p.FPS = float64(int(float64(p.Frames-1)/last.Sub(start).Seconds()*10+0.5)) / 10
	}
	return nil
}

func bounded(r io.Reader) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(r, maxPicture+1))
	if err == nil && len(raw) > maxPicture {
		err = &NotPictureError{Problem: fmt.Sprintf("the answer is over %d MB", maxPicture>>20)}
	}
	return raw, err
}

// plain is a URL without its sign-in.
func plain(u *url.URL) string {
	p := *u
	p.User = nil
	return p.String()
}

// clip makes one harmless line of what a device says.
func clip(s string) string { return wiretext.Line(s, 200) }
