package picture

import (
	"context"
	"io"
	"net/http"
	"time"

	"unlatch/core/ground/signin"
)

// maxPage bounds what is read of a page, in bytes.
const maxPage = 256 << 10

// A Request is what a device is asked or told on its own page.
type Request struct {
	Method string // "" for GET
	URL    string
	Header http.Header
	Body   []byte
}

// An Answer is what it says to that: its status, and at most 256 kB of its body.
type Answer struct {
	Status int
	Body   []byte
}

// Send sends one request, with the sign-in where the device asks for one. Only GET follows redirects. Any status but a refusal of the
// sign-in is an answer; what it means is for the caller to say.
func (f *Fetcher) Send(ctx context.Context, r Request) (_ *Answer, err error) {
	ctx, cancel := context.WithTimeout(ctx, f.timeout()+4*time.Second)
	defer cancel()
	x, err := f.begin(r.URL)
	if err != nil {
		return nil, err
	}
	x.request = r
	defer func() { x.finish(err) }()
	for {
		res, err := x.ask(ctx)
		if err != nil {
			return nil, err
		}
		redirected := res.StatusCode >= 300 && res.StatusCode < 400 && x.method() == http.MethodGet
		if res.StatusCode == http.StatusUnauthorized || redirected {
			if err := x.refused(ctx, res); err != nil {
				return nil, err
			}
			continue
		}
		body, err := io.ReadAll(io.LimitReader(res.Body, maxPage))
		res.Body.Close()
		if err != nil {
			return nil, err
		}
		if res.StatusCode >= 400 {
			if err := signin.LockedOut(x.answer != nil, res.StatusCode, res.Header.Get("Retry-After"), string(body[:min(len(body), 4<<10)]),
				time.Now()); err != nil {
				return nil, err
			}
		}
		return &Answer{res.StatusCode, body}, nil
	}
}
