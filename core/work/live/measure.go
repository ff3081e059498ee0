package live

import (
	"encoding/binary"
	"math"
	"time"
)

// A Measure is what came in one second of a stream, sound left out.
type Measure struct {
	At   int64     `json:"at"`   // when the second began, in ms since 1970, by the clock of whoever measures
	Kbps float64   `json:"kbps"` // kbit/s of RTP payload
	FPS  int       `json:"fps"`  // frames
	Keys []float64 `json:"keys"` // when key frames came, in seconds since At
	Lost int       `json:"lost"` // packets
}

// mostEmpty is how many seconds without a packet are told one by one.
const mostEmpty = 10

// A pace measures second by second. Its zero value is ready.
type pace struct {
	now   Measure
	began time.Time
	bytes int
	seq   uint16
	any   bool
}

// packet takes an RTP packet of the picture, and returns the seconds that have passed with it.
func (p *pace) packet(b []byte, at time.Time) (passed []Measure) {
	if len(b) < 12 {
		return nil
	}
	if p.began.IsZero() {
		p.began = at
		p.now = Measure{At: at.UnixMilli(), Keys: []float64{}}
	}
	for at.Sub(p.began) >= time.Second {
		if len(passed) >= mostEmpty {
			p.began = at
			break
		}
		p.now.Kbps = math.Round(float64(p.bytes)*8/100) / 10
		passed = append(passed, p.now)
		p.began, p.bytes = p.began.Add(time.Second), 0
		p.now = Measure{At: p.began.UnixMilli(), Keys: []float64{}}
	}
	p.bytes += len(b) - 12
	seq := binary.BigEndian.Uint16(b[2:])
	if gap := seq - p.seq - 1; p.any && gap > 0 && gap < 1000 {
		p.now.Lost += int(gap)
	}
	p.seq, p.any = seq, true
	return passed
}

// frame counts one that has come whole.
func (p *pace) frame(key bool, at time.Time) {
	p.now.FPS++
	if key {
		p.now.Keys = append(p.now.Keys, math.Round(at.Sub(p.began).Seconds()*100)/100)
	}
}
