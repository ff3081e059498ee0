package latch

import (
	"slices"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
)

// A Device is one device with its state, as it is known from its evidence.
type Device struct {
	ID       uuid.UUID
	Title    string // what people call it
	Name     string // as a person gave it; "" where nobody has
	Addr     string // where it was heard last
	Endpoint string // endpoint reference; "" where it told none
	Via      *uuid.UUID
	Channel  int
	Status   Status
}

// Identity returns what a target keeps to recognise a camera by: its endpoint reference, else Unlatch's own ID for it.
func (d *Device) Identity() string {
	if d.Endpoint != "" {
		return d.Endpoint
	}
	return "urn:uuid:" + d.ID.String()
}

// WantedIntakes returns what the camera's wanted targets accept, each under the target's name.
func (s *Status) WantedIntakes() (out []intake.Intake) {
	for _, p := range s.Placements {
		if p.Intake != nil && p.Relay == uuid.Nil {
			x := *p.Intake
			x.Name = p.Name
			out = append(out, x)
		}
	}
	return out
}

// Unconfirmed reports whether the camera stands on a target that has not confirmed its picture.
func (s *Status) Unconfirmed(target uuid.UUID) bool {
	return slices.ContainsFunc(s.Placements, func(p Placement) bool { return p.Target == target && p.Slot != "" && !p.Confirmed })
}

// Claim returns what is recorded where something elsewhere says in a sighting that it is the device, which still answers where it was. It
// reports false where that is known already, or where so many have said so that one more tells nothing.
func (s *Status) Claim(x sighting.Sighting) (evidence.Claimed, bool) {
	known := slices.ContainsFunc(s.Claims, func(c evidence.Claimed) bool { return c.Addr == x.Addr })
	if known || len(s.Claims) >= discovery.MostAtAddress {
		return evidence.Claimed{}, false
	}
	return evidence.Claimed{Addr: x.Addr, Still: s.Device.Addr, Method: string(x.Method)}, true
}
