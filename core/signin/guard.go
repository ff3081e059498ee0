package signin

import (
	"fmt"
	"time"
)

// Budget is how many wrong tries a device may see within Window before Unlatch stops by itself. Devices commonly lock
// after five; two are left for the person at the device's own page.
const (
	Budget = 3
	Window = 15 * time.Minute
)

// A HeldBackError is returned instead of a try that could lock the device.
type HeldBackError struct {
	Wrong int       // tries refused within Window
	Until time.Time // when the next try is allowed
}

func (e *HeldBackError) Error() string {
	return fmt.Sprintf("%d wrong tries within %d minutes; waiting until %s so that the device does not lock",
		e.Wrong, int(Window.Minutes()), e.Until.UTC().Format("15:04:05"))
}

// Allow decides from the times of the wrong tries that a device has seen whether one more is safe now.
// It returns a *HeldBackError when it is not. It is a pure function: who keeps the times keeps them for all
// workers and across restarts.
func Allow(wrong []time.Time, now time.Time) error {
	recent := 0
	var oldest time.Time
	for _, at := range wrong {
		if now.Sub(at) < Window {
			if recent == 0 || at.Before(oldest) {
				oldest = at
			}
			recent++
		}
	}
	if recent < Budget {
		return nil
	}
	return &HeldBackError{Wrong: recent, Until: oldest.Add(Window)}
}
