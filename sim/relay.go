package sim

import (
	"fmt"

	"unlatch/core/wire/rtsp"
	"unlatch/sim/puller"
	"unlatch/sim/targets"
)

// relayed finds the slot that a path of the recorder leads to: its channels count on after those of its own switch.
func (d *device) relayed(path string) (rtsp.Stream, bool) {
	r := d.recorder
	if r == nil {
		return nil, false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, j := range r.state.Jobs {
		var n int
		if _, err := fmt.Sscanf(j.Recording, "slot_%d", &n); err != nil || d.maker.path(len(d.Channels)+n, 0) != path {
			continue
		}
		if p := r.live[j.Receiver]; p != nil && now(p) == puller.Connected {
			return targets.Relay{P: p}, true
		}
	}
	return nil, false
}
