package signon

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
)

// mostBytes bounds each answer of the provider.
const mostBytes = 1 << 20

// A client asks the provider. It follows no redirect, takes no answer of over mostBytes, and leaves TLS for nobody.
type client struct{ http *http.Client }

func newClient(scheme string) *client {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.Proxy, t.MaxIdleConns, t.IdleConnTimeout, t.ResponseHeaderTimeout = http.ProxyFromEnvironment, 4, time.Minute, patience
	return &client{&http.Client{Transport: bounded{scheme, t}, Timeout: patience,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// in returns a context in which the library asks by this client.
func (c *client) in(ctx context.Context) context.Context { return oidc.ClientContext(ctx, c.http) }

// bounded is a transport for answers of limited size by one scheme.
type bounded struct {
	scheme string
	next   http.RoundTripper
}

// RoundTrip implements http.RoundTripper.
func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Scheme != b.scheme && r.URL.Scheme != "https" {
		return nil, fmt.Errorf("the provider names an address by %s, which is not encrypted", r.URL.Scheme)
	}
	res, err := b.next.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	res.Body = limited{io.LimitReader(res.Body, mostBytes), res.Body}
	return res, nil
}

// limited reads from one and closes the other.
type limited struct {
	io.Reader
	io.Closer
}
