package rtsp

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"net"
	"time"
)

// A Certificate is what a device showed on a TLS connection. Devices make their own, so that nobody vouches for them: what counts is that
// it stays the same.
type Certificate struct {
	SHA256  string    `json:"sha256"`
	Subject string    `json:"subject,omitempty"`
	Until   time.Time `json:"until"`
	Expired bool      `json:"expired,omitempty"`
}

// A CertificateError means that the device shows another certificate than before. Nothing, and no sign-in, was sent to it.
type CertificateError struct {
	Pinned string // the one before, SHA-256 in hex
	Shown  Certificate
}

func (e *CertificateError) Error() string {
	return fmt.Sprintf("the device shows another certificate than before: %.16s…, before %.16s…", e.Shown.SHA256, e.Pinned)
}

// secure speaks TLS on a connection (RFC 7826 §19.2) and holds the certificate to the pin. A certificate that has expired is taken and
// said.
func (c *Conn) secure(ctx context.Context, conn net.Conn, host string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, c.opt.Timeout)
	defer cancel()
	// Nobody signs cameras' certificates: the pin takes the place of a chain.
	t := tls.Client(conn, &tls.Config{InsecureSkipVerify: true, ServerName: host, MinVersion: tls.VersionTLS10})
	if err := t.HandshakeContext(ctx); err != nil {
		conn.Close()
		c.opt.Log.Note("TLS: %v", err)
		return nil, fmt.Errorf("agreeing on TLS: %w", err)
	}
	chain := t.ConnectionState().PeerCertificates
	if len(chain) == 0 {
		conn.Close()
		return nil, &ProtocolError{Problem: "TLS without a certificate"}
	}
	sum := sha256.Sum256(chain[0].Raw)
	c.Certificate = &Certificate{SHA256: hex.EncodeToString(sum[:]), Subject: clip(chain[0].Subject.String()), Until: chain[0].NotAfter,
		Expired: time.Now().After(chain[0].NotAfter)}
	c.opt.Log.Note("certificate SHA-256 %s, until %s", c.Certificate.SHA256, c.Certificate.Until.Format("2006-01-02"))
	if c.opt.Pin != "" && c.opt.Pin != c.Certificate.SHA256 {
		conn.Close()
		return nil, &CertificateError{Pinned: c.opt.Pin, Shown: *c.Certificate}
	}
	return t, nil
}
