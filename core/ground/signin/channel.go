package signin

import (
	"net"
	"slices"
)

// A Channel is where a secret is about to go, and how. Leave that was given for one channel holds for no other: the same host on
// another port, or the same port without TLS, is asked for anew.
type Channel struct {
	Scheme      string // of the URL: "http", "https", "rtsp", "rtsps", "mqtt", "mqtts"
	At          string // host and port that are dialled
	Certificate string // SHA-256 of the certificate that was shown, in hex; "" without TLS
	// Vouched reports that an authority of this machine vouches for the certificate, under the name or address that a person typed.
	Vouched bool
}

// Host returns the host of the channel without its port.
func (c Channel) Host() string {
	host, _, err := net.SplitHostPort(c.At)
	if err != nil {
		return c.At
	}
	return host
}

// TLS reports whether the channel is encrypted. That alone says nothing of who is at the other end.
func (c Channel) TLS() bool { return c.Certificate != "" }

// KnownBy reports whether nobody can read what goes out on the channel but whom it is meant for: it is encrypted, and an authority vouches
// for its certificate or that is one of certificates, whose holders are known.
func (c Channel) KnownBy(certificates []string) bool {
	return c.TLS() && (c.Vouched || slices.Contains(certificates, c.Certificate))
}

// String returns the channel as people read it: "https://192.0.2.10:443".
func (c Channel) String() string { return c.Scheme + "://" + c.At }
