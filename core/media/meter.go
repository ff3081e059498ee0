package media

import (
	"bytes"
	"time"
)

// Measured is what came out of one video track, measured.
type Measured struct {
	Codec         string  `json:"codec"`
	Profile       string  `json:"profile,omitempty"`
	Width         int     `json:"width"`
	Height        int     `json:"height"`
	FPS           float64 `json:"fps"`
	BitrateKbps   float64 `json:"bitrate_kbps" doc:"payload, over whole key-frame intervals where at least one was seen"`
	GOPSeconds    float64 `json:"gop_seconds" doc:"mean key-frame interval; 0 when fewer than two key frames came"`
	GOPFrames     float64 `json:"gop_frames,omitempty"`
	Frames        int     `json:"frames"`
	Keyframes     int     `json:"keyframes"`
	Packets       int     `json:"packets"`
	Lost          int     `json:"lost" doc:"packets missing by sequence number"`
	Malformed     int     `json:"malformed,omitempty"`
	MeasuredForMS int64   `json:"measured_for_ms"`
	ClockDrift    string  `json:"clock_note,omitempty" doc:"set when the RTP clock disagrees with arrival"`
}

// A Meter measures one video track from its RTP packets. Frame ends are told by time stamps, key frames and sizes by the payload
// (see Format) and never by what the description says. It is not safe for concurrent use and allocates nothing per packet once its
// buffers have grown.
type Meter struct {
	track    Track
	format   Format // nil where the codec is not read: then rate and loss are measured
	unit     frameUnderWay
	keyframe *Keyframe // the first whole one

	started     bool
	first, last time.Time
	seq         uint16
	ssrc        uint32
	m           Measured
	clock       int64 // unwrapped RTP time
	stamp       uint32
	minClock    int64
	maxClock    int64
	bytes       int64
	keys        keyMarks
}

// frameUnderWay is the frame whose packets are coming.
type frameUnderWay struct {
	open, damaged bool
	clock         int64
	bytesBefore   int64
	framesBefore  int
}

// keyMarks remembers where the first and the latest key frame began.
type keyMarks struct {
	firstBytes, lastBytes   int64
	firstFrames, lastFrames int
	n                       int
}

// NewMeter prepares a meter for a video track.
func NewMeter(t Track) *Meter {
	m := &Meter{track: t}
	if format, ok := formats[t.Codec]; ok {
		m.format = format(t)
	}
	return m
}

// Reads reports whether key frames and sizes can be measured; for other codecs only rate and loss are.
func (m *Meter) Reads() bool { return m.format != nil }

// Packet takes one RTP packet as it arrived.
func (m *Meter) Packet(b []byte, at time.Time) {
	p, err := parseRTP(b)
	if err != nil {
		m.m.Malformed++
		return
	}
	if p.payloadType != m.track.Payload {
		return
	}
	m.sequence(p, at)
	if m.unit.open && p.timestamp != m.stamp {
		m.endFrame(at)
	}
	if !m.unit.open {
		m.openFrame(p)
	}
	m.m.Packets++
	m.last = at
	m.bytes += int64(len(p.payload))
	if m.format != nil {
		if err := m.format.Payload(p.payload); err != nil {
			m.m.Malformed++
			m.unit.damaged = true
		}
	}
	if p.marker {
		m.endFrame(at)
	}
}

func (m *Meter) sequence(p packet, at time.Time) {
	if !m.started || p.ssrc != m.ssrc {
		if !m.started {
			m.first = at
		}
		m.started, m.ssrc, m.stamp = true, p.ssrc, p.timestamp
	} else if gap := p.seq - m.seq - 1; gap != 0 && gap < 1<<15 {
		m.m.Lost += int(gap)
		m.unit.damaged = true
	}
	m.seq = p.seq
}

func (m *Meter) openFrame(p packet) {
	m.clock += int64(int32(p.timestamp - m.stamp))
	m.stamp = p.timestamp
	m.unit = frameUnderWay{open: true, clock: m.clock, bytesBefore: m.bytes, framesBefore: m.m.Frames}
}

func (m *Meter) endFrame(at time.Time) {
	u := &m.unit
	if !u.open {
		return
	}
	u.open = false
	var frame Frame
	if m.format != nil {
		frame = m.format.EndFrame()
	}
	if m.m.Frames == 0 || u.clock < m.minClock {
		m.minClock = u.clock
	}
	if m.m.Frames == 0 || u.clock > m.maxClock {
		m.maxClock = u.clock
	}
	m.m.Frames++
	if !frame.Key {
		return
	}
	m.m.Keyframes++
	k := &m.keys
	if k.n == 0 {
		k.firstBytes, k.firstFrames = u.bytesBefore, u.framesBefore
	}
	k.lastBytes, k.lastFrames = u.bytesBefore, u.framesBefore
	k.n++
	if m.keyframe == nil && !u.damaged && frame.Data != nil {
		m.keyframe = &Keyframe{Decoder: m.format.Decoder(), Data: bytes.Clone(frame.Data), At: at}
		m.format.Keep(false)
	}
}

// Keyframe is the first whole key frame; nil until it has come.
func (m *Meter) Keyframe() *Keyframe { return m.keyframe }

// Keyframes is the number of key frames seen so far.
func (m *Meter) Keyframes() int { return m.m.Keyframes }

// HeaderError is why no picture size could be read, if a header came and was no good.
func (m *Meter) HeaderError() error {
	if m.format == nil {
		return nil
	}
	_, err := m.format.Picture()
	return err
}

// Measured sums up what has come so far.
func (m *Meter) Measured() Measured {
	out := m.m
	out.Codec = m.track.CodecName()
	if m.format != nil {
		if p, _ := m.format.Picture(); p != nil {
			out.Profile, out.Width, out.Height = p.Profile, p.Width, p.Height
		}
	}
	arrival := m.last.Sub(m.first).Seconds()
	out.MeasuredForMS = int64(arrival * 1000)
	rate := float64(m.track.ClockRate)
	if rate <= 0 {
		rate = 90000
	}
	span := float64(m.maxClock-m.minClock) / rate
	// The RTP clock is finer than arrival, but only if it runs at the speed of time.
	clockRight := span > 0 && (arrival < 0.5 || span/arrival > 0.7 && span/arrival < 1.4)
	if out.Frames > 1 && !clockRight && arrival > 0 {
		out.ClockDrift = "the RTP time stamps do not run with time; rates are by arrival"
		span = arrival
	}
	if out.Frames > 1 && span > 0 {
		out.FPS = float64(out.Frames-1) / span
	}
	if arrival > 0 {
		out.BitrateKbps = float64(m.bytes) * 8 / 1000 / arrival
	}
	if k := m.keys; k.n > 1 && out.FPS > 0 {
		out.GOPFrames = float64(k.lastFrames-k.firstFrames) / float64(k.n-1)
		out.GOPSeconds = out.GOPFrames / out.FPS
		out.BitrateKbps = float64(k.lastBytes-k.firstBytes) * 8 / 1000 / (out.GOPSeconds * float64(k.n-1))
	}
	return out
}
