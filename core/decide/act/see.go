package act

import (
	"net/netip"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/wire/target"
)

// SeeCertificate asks what certificate is shown at an address that a target is to have. Nothing is sent there but the handshake of TLS.
type SeeCertificate struct {
	Site      uuid.UUID
	Kind      target.Kind
	Address   string
	Addresses []netip.Addr // that its name leads to, as the person has seen them
}

// About implements Act.
func (a SeeCertificate) About() About {
	return About{Name: "see-certificate", Right: Work, Site: a.Site}
}

// Decide implements Act.
func (a SeeCertificate) Decide(Facts) (Outcome, error) {
	host, at, err := a.At()
	return Outcome{Line: TargetForm{Address: host}.line(at)}, err
}

// At returns the host that the address names, and the places that it may be reached at.
func (a SeeCertificate) At() (host string, at []netip.AddrPort, err error) {
	text := strings.TrimSpace(a.Address)
	at, err = reachOf(a.Kind, text, a.Addresses)
	if err == nil && !byTLS(text) {
		err = refuse("no_tls", "That address is not reached over TLS, so nothing is shown there.", "Write it with https:// or mqtts://.")
	}
	if err == nil {
		host, _, err = placeOf(a.Kind, text)
	}
	return host, at, err
}

// SeeAddresses asks where the name in an address leads that a target is to have. A name server is asked, and nobody else.
type SeeAddresses struct {
	Site    uuid.UUID
	Kind    target.Kind
	Address string
}

// About implements Act.
func (a SeeAddresses) About() About { return About{Name: "see-addresses", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a SeeAddresses) Decide(Facts) (Outcome, error) {
	name, err := a.Host()
	return Outcome{Line: Line{Subject: name}}, err
}

// Host returns the name.
func (a SeeAddresses) Host() (name string, err error) {
	name, _, err = placeOf(a.Kind, strings.TrimSpace(a.Address))
	if _, aerr := netip.ParseAddr(name); err == nil && aerr == nil {
		err = refuse("no_name", "That address is in numbers already.", "Nothing has to be looked up.")
	}
	return name, err
}
