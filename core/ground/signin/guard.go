package signin

import (
	"fmt"
	"time"
)

// Budget is how many wrong tries a device may see within Window before Unlatch stops by itself. Devices commonly lock
// after five; two are left for the person at the device's own page.
//
// Space is the least time between the end of one wrong try and the next on the same device: some devices take a burst for an attack.
const (
	Budget = 3
	Window = 15 * time.Minute
	Space  = 300 * time.Millisecond
)

// A HeldBackError is returned instead of a try that could lock the device.
type HeldBackError struct {
	Wrong   int       // tries refused within Window
	Until   time.Time // when the next try is allowed
	Spacing bool      // it is only the space between two tries that is missing, or what came of another one
	Locked  bool      // the device itself said that it is locked until then
}

func (e *HeldBackError) Error() string {
	if e.Locked {
		return "the device is locked; waiting until " + e.Until.UTC().Format("15:04:05")
	}
	return fmt.Sprintf("%d wrong tries within %d minutes; waiting until %s so that the device does not lock",
		e.Wrong, int(Window.Minutes()), e.Until.UTC().Format("15:04:05"))
}

// Allow decides from the times of the wrong tries that a device has seen, and from how many are under way, whether one more is safe now.
// Those under way may all turn out to be wrong, so that only as many are under way at once as the budget has left. It returns a
// *HeldBackError when it is not. It is a pure function: who keeps the times keeps them for all workers and across restarts.
func Allow(wrong []time.Time, pending int, now time.Time) error {
	recent := 0
	var oldest, newest time.Time
	for _, at := range wrong {
		if now.Sub(at) < Window {
			if recent == 0 || at.Before(oldest) {
				oldest = at
			}
			if at.After(newest) {
				newest = at
			}
			recent++
		}
	}
	switch {
	case recent >= Budget:
		return &HeldBackError{Wrong: recent, Until: oldest.Add(Window)}
	case now.Sub(newest) < Space:
		return &HeldBackError{Wrong: recent, Until: newest.Add(Space), Spacing: true}
	case recent+pending >= Budget:
		return &HeldBackError{Wrong: recent, Until: now.Add(Space / 10), Spacing: true}
	}
	return nil
}
