package drift

import (
	"slices"
	"time"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/latch"
)

// A Relay is a stream of a device that is served on, as its worker told of it last.
type Relay struct {
	Path string
	Role string
	For  string // who takes it
	At   string // where the worker serves it, as host and port; "" where that is not known
	Told time.Time
	// Problem is why the camera did not play, and Platform why the live platform does not take it; "" where there is nothing to say.
	Problem, Platform string
}

// untoldAfter is after how long a relay of which no worker tells counts as served by none: a worker tells every few seconds.
const untoldAfter = time.Minute

// down returns why a relay hands nothing on; "" where it does, or would.
func (r Relay) down(at time.Time) string {
	switch {
	case at.Sub(r.Told) > untoldAfter:
		return "no worker serves it"
	case r.Problem != "":
		return r.Problem
	}
	return r.Platform
}

// WithRelays adds to the drifts of a device that its relays are down. Where the device or the stream is down itself, that explains it: who
// takes the relay then stands among what that drift has changed. at is when it was looked.
func WithRelays(now *latch.Device, found []Drift, relays []Relay, at time.Time) []Drift {
	for _, r := range relays {
		why := r.down(at)
		if why == "" {
			continue
		}
		change := baseline.FieldChange{Field: baseline.Served, Subject: r.Path, Words: "Served on for " + r.For, Was: "yes", Is: "no: " + why}
		if i := slices.IndexFunc(found, func(d Drift) bool { return d.explains(r) }); i >= 0 {
			found[i].Fields = append(slices.Clone(found[i].Fields), change)
			continue
		}
		d := Drift{Device: now.ID, Title: now.Title, Cause: RelayDown, Subject: r.Path, Of: r.For, Fields: []baseline.FieldChange{change}}
		if at.Sub(r.Told) > untoldAfter && r.At != "" {
			d.Shared = "worker " + r.At
		}
		found = append(found, d)
	}
	return found
}

// explains reports whether the drift is why a relay is down.
func (d Drift) explains(r Relay) bool {
	switch d.Cause {
	case Silent, Password, Factory, Replaced, Swapped:
		return true
	case NotPlaying, GroupTaken:
		return d.Subject == r.Role
	}
	return false
}
