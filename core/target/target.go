// Package target puts cameras onto whatever takes them in and asks it whether the picture arrives. Each kind of target is one Driver, in a
// package of its own below this one; what a person sees of all of them alike stands here.
package target

import (
	"context"
	"net/netip"
	"time"

	"unlatch/core/address"
	"unlatch/core/exchange"
	"unlatch/core/signin"
)

// A Kind names a driver: "onvif-recorder".
type Kind string

// A Driver is one kind of target.
type Driver interface {
	Kind() Kind
	// Connect prepares a session with a target. What is sent for that sends no sign-in unless Access.Leave allows it.
	Connect(ctx context.Context, a Access) (Session, error)
}

// An Access is the way to one target.
type Access struct {
	Dial    address.Dialer
	Address string        // as the kind writes it: of a recorder by ONVIF, its device service
	SignIn  signin.SignIn // the anonymous one where the target wants none
	Pin     string        // SHA-256 of the certificate that it is known by, in hex; "" for none
	Leave   signin.Leave  // is asked before the sign-in goes out
	InScope func(netip.Addr) bool
	Log     *exchange.Log
}

// A Session is a target under work. It is not safe for concurrent use.
type Session interface {
	// Place puts a camera onto the target. It is idempotent: a camera that is there already is given the new URL, and a placement that was
	// cut off half way is finished rather than begun again.
	Place(ctx context.Context, c Camera) (Placement, error)
	// Confirm asks until the picture has arrived or wait has passed; the last report is returned either way.
	Confirm(ctx context.Context, ref Ref, wait time.Duration) (Report, error)
	// Remove takes a camera off again. What is gone already is no error.
	Remove(ctx context.Context, ref Ref) error
	Close()
}

// A Lister is a session with a target that has slots and tells them.
type Lister interface {
	Slots(ctx context.Context) (Layout, error)
}

// A Camera is what a target needs to know of one.
type Camera struct {
	Identity string // endpoint reference: by it a placement is recognised again
	Name     string
	Address  string
	URL      string // with the sign-in percent-encoded; never logged
}

// A Ref is what a driver needs to find a placement again. Only the driver that wrote it reads it.
type Ref string

// A Placement says where a camera was put.
type Placement struct {
	Ref  Ref
	Slot string // as a person finds it on the target
}

// A Slot is a place in a target that is in use.
type Slot struct {
	Token    string `json:"token"`
	Name     string `json:"name"`
	Identity string `json:"-"`
	Address  string `json:"address,omitempty"`
	State    string `json:"state,omitempty" doc:"what the target reports of it"`
}

// A Layout is the slots of a target.
type Layout struct {
	Total int    `json:"total"`
	Used  []Slot `json:"used"`
}

// A Report is what the target says of a placement.
type Report struct {
	Arrived bool   // it has the picture
	Says    string // in the target's own words: "Connected, recording Active"
	After   time.Duration
}
