// Package feed drives screens that take their list from a feed: a camera that is placed is on the list at once, and confirmed when a screen
// has fetched the list since and says that it shows the camera.
package feed

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target"
)

// Kind is the kind of target that this driver is for.
const Kind target.Kind = "feed"

// Screens is the setting under which the server says what it knows of the screens, a JSON list of Screen.
const Screens = "screens"

// A Screen is somebody who fetches the feed.
type Screen struct {
	Name    string    `json:"name"`
	Address string    `json:"address"`
	Format  string    `json:"format,omitempty"`
	Fetched time.Time `json:"fetched"`
	Times   int       `json:"times"`
	Showing []string  `json:"showing,omitempty" doc:"identities of the cameras that it says it shows"`
	Current bool      `json:"current" doc:"it has fetched the list since it was changed last"`
	Old     bool      `json:"old,omitempty" doc:"it asks at an address that the feed had before, and gets nothing there"`
}

// Driver is the driver; its zero value is ready. It connects to nothing: the screens come to us.
type Driver struct{}

// Kind implements target.Driver.
func (Driver) Kind() target.Kind { return Kind }

// Connect implements target.Driver.
func (Driver) Connect(_ context.Context, a target.Access) (target.Session, error) {
	return session{a}, nil
}

type session struct{ a target.Access }

// Close implements target.Session.
func (session) Close() {}

// Place implements target.Session.
func (session) Place(_ context.Context, c target.Camera) (target.Placement, error) {
	return target.Placement{Ref: target.Ref(c.Identity), Slot: "the list", Token: c.Slot}, nil
}

// Remove implements target.Session.
func (session) Remove(context.Context, target.Ref) error { return nil }

// Confirm implements target.Session.
func (s session) Confirm(ctx context.Context, ref target.Ref, wait time.Duration) (target.Report, error) {
	began := time.Now()
	for settings := s.a.Settings; ; {
		out := Heard(settings[Screens], string(ref))
		if out.After = time.Since(began); out.Arrived || out.Waits == trouble.WaitsForFetch || out.After > wait || s.a.Fresh == nil {
			return out, nil
		}
		select {
		case <-ctx.Done():
			return out, ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
		var err error
		if settings, err = s.a.Fresh(ctx); err != nil {
			return out, err
		}
	}
}

// Heard returns what the screens have said of a camera. It has arrived when one of them shows it.
func Heard(screens, identity string) target.Report {
	var list []Screen
	json.Unmarshal([]byte(screens), &list)
	list = slices.DeleteFunc(list, func(s Screen) bool { return s.Old })
	showing, current := 0, 0
	for _, s := range list {
		if s.Current {
			current++
		}
		if slices.Contains(s.Showing, identity) {
			showing++
		}
	}
	switch {
	case showing > 0:
		return target.Report{Arrived: true, Says: fmt.Sprintf("shown by %d of %d screens", showing, len(list))}
	case current > 0:
		return target.Report{Waits: trouble.WaitsForScreen,
			Says: fmt.Sprintf("fetched by %d of %d screens, and shown by none yet", current, len(list))}
	case len(list) > 0:
		return target.Report{Waits: trouble.WaitsForFetch, Says: fmt.Sprintf("not fetched again yet by any of %d screens", len(list))}
	}
	return target.Report{Waits: trouble.WaitsForFetch, Says: "not fetched by any screen yet"}
}
