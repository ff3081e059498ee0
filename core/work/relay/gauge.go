package relay

import (
	"slices"
	"time"

	"unlatch/core/work/fanout"
)

// Measured is what a taker of a relay gets.
type Measured struct {
	FPS     float64 `json:"fps"`      // pictures a second that were handed to it
	DelayMS float64 `json:"delay_ms"` // from the arrival of a packet to its sending, of 95 in 100 at most
}

// measureOver is how long a taker is measured for each word.
const measureOver = 5 * time.Second

// A gauge measures what is handed to one taker. Its zero value is ready.
type gauge struct {
	since    time.Time
	pictures int
	delays   []time.Duration // of each batch, by the packet that has waited longest
	measured Measured
}

// sent counts what was sent by now.
func (g *gauge) sent(list []fanout.Packet, now time.Time) {
	if len(list) == 0 {
		return
	}
	if g.since.IsZero() {
		g.since = now
		return // the group that a taker begins with has waited for it
	}
	for _, p := range list {
		if p.Track == 0 && !p.RTCP && len(p.Payload) > 1 && p.Payload[1]&0x80 != 0 { // the marker ends a picture (RFC 3550 §5.1)
			g.pictures++
		}
	}
	g.delays = append(g.delays, now.Sub(list[0].At))
	span := now.Sub(g.since)
	if span < measureOver {
		return
	}
	slices.Sort(g.delays)
	p95 := g.delays[len(g.delays)*95/100]
	g.measured = Measured{FPS: float64(g.pictures) / span.Seconds(), DelayMS: float64(p95.Microseconds()) / 1000}
	g.since, g.pictures, g.delays = now, 0, g.delays[:0]
}
