package fanout

import "time"

// An Arrival is how pictures come from a camera.
type Arrival struct {
	FPS  float64 // pictures a second
	Lost int64   // packets that did not come, by the numbers of those that did (RFC 3550 §5.1), since the session began
}

// arrivalOver is how long pictures are counted for each word.
const arrivalOver = 5 * time.Second

// A meter measures an arrival.
type meter struct {
	is       Arrival
	since    time.Time
	pictures int
	begun    bool
	next     uint16
}

// packet counts one packet of the picture.
func (m *meter) packet(b []byte, at time.Time) {
	if len(b) < 12 {
		return
	}
	seq := uint16(b[2])<<8 | uint16(b[3])
	if gap := int16(seq - m.next); m.begun && gap > 0 {
		m.is.Lost += int64(gap)
	} else if m.begun && gap < 0 {
		m.is.Lost = max(0, m.is.Lost-1) // it came late, and was counted as lost
	}
	if !m.begun || int16(seq-m.next) >= 0 {
		m.next = seq + 1
	}
	if !m.begun {
		m.begun, m.since = true, at
	}
	if marked(b) {
		m.pictures++
	}
	if span := at.Sub(m.since); span >= arrivalOver {
		m.is.FPS = float64(m.pictures) / span.Seconds()
		m.since, m.pictures = at, 0
	}
}
