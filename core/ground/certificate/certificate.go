// Package certificate is TLS with devices. They make their own certificates, so that nobody vouches for them: what counts is that one stays
// the same. The first that a device shows is remembered, and another one later is an error before anything is sent.
package certificate

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"time"

	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/wiretext"
)

// A Certificate is what a device showed on a TLS connection.
type Certificate struct {
	SHA256  string    `json:"sha256"`
	Subject string    `json:"subject,omitempty"`
	Until   time.Time `json:"until"`
	Expired bool      `json:"expired,omitempty"`

	chain []*x509.Certificate // as it was shown; nil for one that was read from a record
}

// VouchedFor reports whether an authority that this machine trusts vouches for the certificate under a host, which is to be a name or
// address that a person typed: one that a device names for itself proves nothing.
func (c *Certificate) VouchedFor(host string) bool {
	if c == nil || len(c.chain) == 0 {
		return false
	}
	between := x509.NewCertPool()
	for _, x := range c.chain[1:] {
		between.AddCert(x)
	}
	_, err := c.chain[0].Verify(x509.VerifyOptions{DNSName: host, Intermediates: between})
	return err == nil
}

// A ChangedError means that the device shows another certificate than before. Nothing, and no sign-in, was sent to it.
type ChangedError struct {
	Pinned string // the one before, SHA-256 in hex
	Shown  Certificate
}

func (e *ChangedError) Error() string {
	return fmt.Sprintf("the device shows another certificate than before: %.16s…, before %.16s…", e.Shown.SHA256, e.Pinned)
}

// mostChain bounds the certificates of a chain that are looked at.
const mostChain = 8

var errNone = errors.New("TLS without a certificate")

// Agree speaks TLS on a connection and holds the certificate to the pin, its SHA-256 in hex; "" takes any and says which it was. A
// certificate that has expired is taken and said. The connection is closed after an error.
func Agree(ctx context.Context, conn net.Conn, host, pin string, log *exchange.Log) (net.Conn, *Certificate, error) {
	// Nobody signs cameras' certificates: the pin takes the place of a chain.
	t := tls.Client(conn, &tls.Config{InsecureSkipVerify: true, ServerName: host, MinVersion: tls.VersionTLS10})
	if err := t.HandshakeContext(ctx); err != nil {
		conn.Close()
		log.Note("TLS: %v", err)
		return nil, nil, fmt.Errorf("agreeing on TLS: %w", err)
	}
	chain := t.ConnectionState().PeerCertificates
	if len(chain) == 0 {
		conn.Close()
		return nil, nil, errNone
	}
	sum := sha256.Sum256(chain[0].Raw)
	shown := &Certificate{SHA256: hex.EncodeToString(sum[:]), Subject: wiretext.Line(chain[0].Subject.String(), 200),
		Until:   chain[0].NotAfter,
		Expired: time.Now().After(chain[0].NotAfter), chain: chain[:min(len(chain), mostChain)]}
	log.Note("certificate SHA-256 %s, until %s", shown.SHA256, shown.Until.Format("2006-01-02"))
	if pin != "" && pin != shown.SHA256 {
		conn.Close()
		return nil, shown, &ChangedError{Pinned: pin, Shown: *shown}
	}
	return t, shown, nil
}

// A Dialer makes the TLS connections of one HTTP client to one device. Its DialTLS is an http.Transport's DialTLSContext.
type Dialer struct {
	Dial    func(ctx context.Context, network, addr string) (net.Conn, error)
	Pin     string        // SHA-256 of the certificate that the device is known by, in hex; "" for none yet
	Timeout time.Duration // of agreeing on TLS
	Log     *exchange.Log
	// Typed says that a person typed the address, so that an authority may vouch for whoever answers there.
	Typed bool

	Shown *Certificate // what the device showed last; nil before
}

// Channel returns where a request to u goes, over a connection of this dialer.
func (d *Dialer) Channel(u *url.URL) signin.Channel {
	at := net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), strconv.Itoa(streamurl.DefaultPort(u.Scheme))))
	c := signin.Channel{Scheme: u.Scheme, At: at}
	if u.Scheme == "https" && d.Shown != nil {
		c.Certificate, c.Vouched = d.Shown.SHA256, d.Typed && d.Shown.VouchedFor(u.Hostname())
	}
	return c
}

// DialTLS connects and agrees on TLS. All connections of a client show the same certificate: after the first, that one is the pin.
func (d *Dialer) DialTLS(ctx context.Context, network, addr string) (net.Conn, error) {
	conn, err := d.Dial(ctx, network, addr)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, d.Timeout)
	defer cancel()
	host, _, _ := net.SplitHostPort(addr)
	pin := d.Pin
	if pin == "" && d.Shown != nil {
		pin = d.Shown.SHA256
	}
	c, shown, err := Agree(ctx, conn, host, pin, d.Log)
	if shown != nil {
		d.Shown = shown
	}
	return c, err
}
