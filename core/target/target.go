// Package target puts cameras onto whatever takes them in and asks it whether the picture arrives. Each kind of target is
// one Adapter; what they have in common stays here.
package target

import (
	"context"
	"time"
)

// A Camera is what a target needs to know of one.
type Camera struct {
	Identity string // endpoint reference: by it a placement is recognised again
	Name     string
	Address  string
	URL      string // with the sign-in percent-encoded; never logged
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

// A Placement says where a camera was put.
type Placement struct {
	Slot, Receiver, Job string
}

// A Report is what the target says of a placement.
type Report struct {
	State     string // the receiver's: NotConnected, Connecting, Connected
	Recording string // the job's: Idle, PartiallyActive, Active, Error
	After     time.Duration
}

// Arrived reports whether the target has the picture.
func (r Report) Arrived() bool { return r.State == "Connected" && r.Recording == "Active" }

// An Adapter is one kind of target. Place is idempotent: a camera that is there already is given the new URL.
type Adapter interface {
	Layout(ctx context.Context) (Layout, error)
	Place(ctx context.Context, c Camera) (Placement, error)
	// Confirm asks until the picture has arrived or wait has passed; the last report is returned either way.
	Confirm(ctx context.Context, p Placement, wait time.Duration) (Report, error)
	Remove(ctx context.Context, p Placement) error
}
