// Package byhand drives what cannot be asked: text made from a template, which a person takes there. What it shows is attested by a person.
package byhand

import (
	"context"
	"time"

	"unlatch/core/wire/target"
)

// Kind is the kind of target that this driver is for.
const Kind target.Kind = "template"

// Driver is the driver; its zero value is ready. It connects to nothing.
type Driver struct{}

// Kind implements target.Driver.
func (Driver) Kind() target.Kind { return Kind }

// Connect implements target.Driver.
func (Driver) Connect(context.Context, target.Access) (target.Session, error) { return session{}, nil }

type session struct{}

// Place implements target.Session: the camera is in the text from now on.
func (session) Place(_ context.Context, c target.Camera) (target.Placement, error) {
	return target.Placement{Ref: target.Ref(c.Identity), Slot: "the text", Token: c.Slot}, nil
}

// Confirm implements target.Session: only a person can say it.
func (session) Confirm(context.Context, target.Ref, time.Duration) (target.Report, error) {
	return target.Report{Says: "nothing: it cannot be asked"}, nil
}

// Remove implements target.Session.
func (session) Remove(context.Context, target.Ref) error { return nil }

// Close implements target.Session.
func (session) Close() {}
