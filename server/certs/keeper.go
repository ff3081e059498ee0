// Package certs keeps the certificate that a server serves with: one that was given, one of the server's own making, or one by ACME
// (RFC 8555). A new one is served without a restart.
package certs

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"unlatch/core/decide/doctor"
)

// A source is where certificates are from.
type source interface {
	// get returns the certificate to serve with now: the same one for as long as there is nothing newer. With an error, a certificate is
	// to be served all the same.
	get(ctx context.Context, now time.Time) (*tls.Certificate, error)
	// kind says what it is.
	kind() doctor.Source
	// again is after how long get is to be called again. failed is how often in a row it has failed.
	renewAfter(failed int, c *tls.Certificate, now time.Time) time.Duration
}

// A Keeper has a certificate at every moment. It is safe for concurrent use.
type Keeper struct {
	from   source
	log    *slog.Logger
	now    func() time.Time
	answer func(*tls.ClientHelloInfo) *tls.Certificate // to a challenge, which has a certificate of its own; nil for none

	mu      sync.Mutex
	current *tls.Certificate
	kind    doctor.Source
	problem string
	failed  int
}

// Given keeps the certificate in two files, and reads them again when they have changed.
func Given(certFile, keyFile string, log *slog.Logger) (*Keeper, error) {
	return begin(&files{cert: certFile, key: keyFile}, log)
}

// Own keeps a certificate of the server's own making, for hosts, in the data folder. It is made anew before it ends.
func Own(data string, hosts []string, log *slog.Logger) (*Keeper, error) {
	return begin(newOwn(data, hosts), log)
}

func begin(from source, log *slog.Logger) (*Keeper, error) {
	k := &Keeper{from: from, log: log, now: time.Now, kind: from.kind()}
	c, err := from.get(context.Background(), k.now())
	if err != nil {
		return nil, err
	}
	k.current = c
	return k, nil
}

// Get returns the certificate for a handshake; it is for tls.Config.GetCertificate.
func (k *Keeper) Get(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	if k.answer != nil {
		if c := k.answer(hello); c != nil {
			return c, nil
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.current, nil
}

// Keep looks for a newer certificate again and again, until ctx ends.
func (k *Keeper) Keep(ctx context.Context) {
	for {
		k.mu.Lock()
		wait := k.from.renewAfter(k.failed, k.current, k.now())
		k.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		k.renew(ctx)
	}
}

// renew asks the source once, and goes on serving what there is if it has nothing.
func (k *Keeper) renew(ctx context.Context) {
	c, err := k.from.get(ctx, k.now())
	if ctx.Err() != nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if err == nil {
		k.failed, k.problem = 0, ""
	} else {
		k.failed++
		if k.problem != err.Error() {
			k.log.Warn("the certificate could not be renewed", "err", err)
		}
		k.problem = err.Error()
	}
	if c == nil {
		return
	}
	if k.current != c {
		k.log.Info("serving with a new certificate", "ends", ends(c), "SHA-256", Fingerprint(c))
	}
	k.current, k.kind = c, k.from.kind()
}

// State returns what is served.
func (k *Keeper) State() doctor.ServedCertificate {
	k.mu.Lock()
	defer k.mu.Unlock()
	return doctor.ServedCertificate{Source: k.kind, Begins: k.current.Leaf.NotBefore.UTC(), Ends: ends(k.current).UTC(), Problem: k.problem}
}

// ends returns when the first certificate of a chain ends.
func ends(c *tls.Certificate) time.Time {
	end := c.Leaf.NotAfter
	for _, der := range c.Certificate[1:] {
		if x, err := x509.ParseCertificate(der); err == nil && x.NotAfter.Before(end) {
			end = x.NotAfter
		}
	}
	return end
}

// Fingerprint returns the SHA-256 of what is served, as browsers show it.
func (k *Keeper) Fingerprint() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return Fingerprint(k.current)
}

// Fingerprint returns the SHA-256 of a certificate, as browsers show it.
func Fingerprint(c *tls.Certificate) string {
	sum := sha256.Sum256(c.Certificate[0])
	parts := make([]string, len(sum))
	for i, b := range sum {
		parts[i] = fmt.Sprintf("%02X", b)
	}
	return strings.Join(parts, ":")
}

// parsed makes sure that the leaf of a certificate is at hand.
func parsed(c tls.Certificate) (*tls.Certificate, error) {
	if c.Leaf == nil {
		leaf, err := x509.ParseCertificate(c.Certificate[0])
		if err != nil {
			return nil, err
		}
		c.Leaf = leaf
	}
	return &c, nil
}
