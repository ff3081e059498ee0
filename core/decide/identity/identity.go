// Package identity recognises devices: one device stays one device across methods and address changes. Trust goes to the
// endpoint reference first and to the address last, because addresses change and references do not.
package identity

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unlatch/core/stream/sighting"

	"github.com/google/uuid"
)

// A Device is what the sightings of one device add up to.
type Device struct {
	Endpoint string          `json:"endpoint,omitempty"`
	Addr     netip.Addr      `json:"addr"`
	Stray    bool            `json:"stray,omitempty"`
	Kind     sighting.Kind   `json:"kind"`
	Name     string          `json:"name,omitempty"`
	Hardware string          `json:"hardware,omitempty"`
	Maker    string          `json:"maker,omitempty"`
	Serial   string          `json:"serial,omitempty"`
	MAC      string          `json:"mac,omitempty"`
	Is       string          `json:"is,omitempty"`
	XAddr    string          `json:"xaddr,omitempty"`
	Ports    []sighting.Port `json:"ports,omitempty"`
	Methods  []string        `json:"methods"`
	// Certificate is the one that it last showed, and HeardAt when anything was last heard of it.
	Certificate string     `json:"certificate,omitempty"`
	HeardAt     time.Time  `json:"-"`
	Via         *uuid.UUID `json:"via,omitempty"` // the recorder that it is reached through; then Addr is the recorder's
	Channel     int        `json:"channel,omitempty"`
	Camera      string     `json:"camera,omitempty"` // its own address, which only the recorder reaches
	Of          string     `json:"of,omitempty"`     // the recorder's name, as it was then
	Page        string     `json:"page,omitempty"`
}

// Model returns what a device has in common with others of its kind: its maker and model, and where it tells no model its name.
func (d Device) Model() string { return strings.TrimSpace(d.Maker + " " + cmp.Or(d.Hardware, d.Name)) }

// KnownAgain reports by which mark a device that has moved is known at its new address: "certificate" or "hardware address", which
// whoever takes its place does not have. "" means that nothing says so yet. before and now are what was heard at its old and its
// new address; the endpoint reference and the serial number count for nothing, because announcements carry them to everybody.
func KnownAgain(before, now Device) string {
	switch {
	case before.Certificate != "" && before.Certificate == now.Certificate:
		return "certificate"
	case before.MAC != "" && before.MAC == now.MAC:
		return "hardware address"
	}
	return ""
}

// Find returns the index of the device that a sighting belongs to, or -1 for a device not seen before.
//
// The endpoint reference decides where both have one, then the serial number, then the hardware address: the same is the same
// device at whatever address, and two different ones at one address are two devices. Only where they have none of these in
// common does the address decide, and after it the certificate, which tells a device that has moved and nothing else.
//
// A channel of a recorder is known by recorder and number alone: nothing that is heard at its address is the camera itself.
func Find(known []Device, s sighting.Sighting) int {
	if s.Via != nil {
		return slices.IndexFunc(known, func(d Device) bool { return d.Via != nil && *d.Via == *s.Via && d.Channel == s.Channel })
	}
	for _, mark := range []struct {
		of  func(Device) string
		now string
	}{{func(d Device) string { return d.Endpoint }, s.Endpoint}, {func(d Device) string { return d.Serial },
		s.Serial}, {func(d Device) string { return d.MAC }, s.MAC}} {
		if mark.now == "" {
			continue
		}
		if i := slices.IndexFunc(known, func(d Device) bool { return d.Via == nil && mark.of(d) == mark.now }); i >= 0 {
			return i
		}
	}
	if i := slices.IndexFunc(known, func(d Device) bool { return d.Via == nil && d.Addr == s.Addr && !d.Contradicts(s) }); i >= 0 {
		return i
	}
	return byCertificate(known, s)
}

// still is how long after a device was heard at one address the same certificate at another does not mean that it has moved.
const still = 5 * time.Minute

// byCertificate finds a device that has moved, by the certificate that it shows. Makers ship one certificate on many devices: it decides
// only where no two known devices have it, and not while the device has just been heard where it was.
func byCertificate(known []Device, s sighting.Sighting) int {
	found := -1
	for i, d := range known {
		if s.Certificate == "" || d.Via != nil || d.Certificate != s.Certificate {
			continue
		}
		if found >= 0 {
			return -1
		}
		found = i
	}
	if found >= 0 && (known[found].Contradicts(s) || s.At.Sub(known[found].HeardAt) < still) {
		return -1
	}
	return found
}

// Contradicts reports whether a sighting names another identity than the device's: it is another device then, even at the same
// address.
func (d Device) Contradicts(s sighting.Sighting) bool {
	differs := func(a, b string) bool { return a != "" && b != "" && a != b }
	return differs(d.Endpoint, s.Endpoint) || differs(d.Serial, s.Serial) || differs(d.MAC, s.MAC)
}

// Add merges a sighting into a device. What a newer sighting does not say stays.
func (d Device) Add(s sighting.Sighting) Device {
	if s.Endpoint != "" {
		d.Endpoint = s.Endpoint
	}
	if d.Addr != s.Addr {
		d.Ports = nil // they were another address's
	}
	d.Addr, d.Stray = s.Addr, s.Stray
	if s.At.After(d.HeardAt) {
		d.HeardAt = s.At
	}
	if s.Via != nil {
		d.Via, d.Channel, d.Camera, d.Of, d.Page = s.Via, s.Channel, s.Camera, s.Of, s.Page
	}
	if rank(s.Kind) > rank(d.Kind) {
		d.Kind = s.Kind
	}
	for _, f := range []struct {
		to   *string
		from string
	}{{&d.Name, s.Name}, {&d.Hardware, s.Hardware}, {&d.Maker, s.Maker}, {&d.Serial, s.Serial}, {&d.MAC, s.MAC}, {&d.Certificate,
		s.Certificate}, {&d.Is, s.Is}} {
		if f.from != "" {
			*f.to = f.from
		}
	}
	// The address that discovery tells is better than one that was guessed and answered.
	if s.XAddr != "" && (d.XAddr == "" || s.Method == sighting.WSDiscovery) {
		d.XAddr = s.XAddr
	}
	for _, p := range s.Ports {
		if i := slices.IndexFunc(d.Ports, func(o sighting.Port) bool { return o.Number == p.Number }); i >= 0 {
			p.Named = p.Named || d.Ports[i].Named
			if p.Speaks == "unknown" {
				p.Speaks, p.Server = d.Ports[i].Speaks, d.Ports[i].Server // named again, not asked again
			}
		}
		d.Ports = slices.DeleteFunc(slices.Clone(d.Ports), func(o sighting.Port) bool { return o.Number == p.Number })
		d.Ports = append(d.Ports, p)
	}
	slices.SortFunc(d.Ports, func(a, b sighting.Port) int { return int(a.Number) - int(b.Number) })
	if !slices.Contains(d.Methods, string(s.Method)) {
		d.Methods = append(slices.Clone(d.Methods), string(s.Method))
	}
	return d
}

func rank(k sighting.Kind) int {
	return slices.Index([]sighting.Kind{"", sighting.Other, sighting.Camera, sighting.Recorder}, k)
}

// Merge adds up sightings in order.
func Merge(sightings []sighting.Sighting) []Device {
	var out []Device
	for _, s := range sightings {
		i := Find(out, s)
		if i < 0 {
			out = append(out, Device{})
			i = len(out) - 1
		}
		out[i] = out[i].Add(s)
	}
	return out
}
