package media

import (
	"time"
)

// maxKeyframe bounds the bytes kept of one key frame.
const maxKeyframe = 8 << 20

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

// A Meter measures one video track from its RTP packets. Frame ends are told by time stamps, key frames and sizes by
// the payload (H.264) and never by what the description says; parameter sets in the stream win over those in the
// description. It is not safe for concurrent use and allocates nothing per packet once its buffers have grown.
type Meter struct {
	track      Track
	sps        *SPS
	spsErr     error
	setSPS     []byte // newest, from the description until one comes in band
	setPPS     []byte
	building   []byte // NAL unit under collection for a parameter set
	buildKind  byte
	unit       accessUnit
	keyframe   []byte // Annex B of the first whole key frame with its parameter sets
	keyframeAt time.Time

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

type accessUnit struct {
	open, key, damaged bool
	clock              int64
	bytesBefore        int64
	framesBefore       int
	nals               []byte // Annex B, kept only until the first key frame is complete
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
	for _, set := range t.ParameterSets() {
		m.parameterSet(set)
	}
	return m
}

// H264 reports whether key frames and sizes can be measured; for other codecs only rate and loss are.
func (m *Meter) H264() bool { return m.track.Codec == "H264" }

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
		m.endUnit(at)
	}
	if !m.unit.open {
		m.openUnit(p)
	}
	m.m.Packets++
	m.last = at
	m.bytes += int64(len(p.payload))
	if m.H264() {
		if err := h264NALs(p.payload, m.nal); err != nil {
			m.m.Malformed++
			m.unit.damaged = true
		}
	}
	if p.marker {
		m.endUnit(at)
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

func (m *Meter) openUnit(p packet) {
	m.clock += int64(int32(p.timestamp - m.stamp))
	m.stamp = p.timestamp
	m.unit = accessUnit{open: true, clock: m.clock, bytesBefore: m.bytes, framesBefore: m.m.Frames, nals: m.unit.nals[:0]}
}

func (m *Meter) endUnit(at time.Time) {
	u := &m.unit
	if !u.open {
		return
	}
	u.open = false
	m.finishSet()
	if m.m.Frames == 0 || u.clock < m.minClock {
		m.minClock = u.clock
	}
	if m.m.Frames == 0 || u.clock > m.maxClock {
		m.maxClock = u.clock
	}
	m.m.Frames++
	if !u.key {
		return
	}
	m.m.Keyframes++
	k := &m.keys
	if k.n == 0 {
		k.firstBytes, k.firstFrames = u.bytesBefore, u.framesBefore
	}
	k.lastBytes, k.lastFrames = u.bytesBefore, u.framesBefore
	k.n++
	if m.keyframe == nil && !u.damaged && m.sps != nil && m.setPPS != nil {
		m.keyframeAt = at
		m.keyframe = annexB(m.setSPS, m.setPPS, u.nals)
		u.nals = nil
	}
}

func annexB(sps, pps, nals []byte) []byte {
	code := []byte{0, 0, 0, 1}
	out := make([]byte, 0, len(sps)+len(pps)+len(nals)+8)
	out = append(append(out, code...), sps...)
	out = append(append(out, code...), pps...)
	return append(out, nals...)
}

// nal takes one NAL unit or a part of one, in order.
func (m *Meter) nal(header byte, part []byte, start bool) {
	kind := header & 0x1f
	if start {
		m.finishSet()
		switch kind {
		case nalIDR:
			m.unit.key = true
		case nalSPS, nalPPS:
			m.buildKind = kind
			m.building = append(append(m.building[:0], header), part...)
		}
	} else if m.buildKind != 0 && len(m.building) < 4096 {
		m.building = append(m.building, part...)
	}
	if m.keyframe != nil || len(m.unit.nals)+len(part) > maxKeyframe || kind == nalSPS || kind == nalPPS {
		return
	}
	if start {
		m.unit.nals = append(m.unit.nals, 0, 0, 0, 1, header)
	}
	m.unit.nals = append(m.unit.nals, part...)
}

func (m *Meter) finishSet() {
	if m.buildKind != 0 {
		m.buildKind = 0
		m.parameterSet(m.building)
	}
}

func (m *Meter) parameterSet(nal []byte) {
	switch nal[0] & 0x1f {
	case nalSPS:
		if string(nal) == string(m.setSPS) {
			return
		}
		s, err := ParseSPS(nal)
		if err != nil {
			m.spsErr = err
			return
		}
		m.sps, m.setSPS, m.spsErr = s, append([]byte(nil), nal...), nil
	case nalPPS:
		if string(nal) != string(m.setPPS) {
			m.setPPS = append([]byte(nil), nal...)
		}
	}
}

// Keyframe is the first whole key frame as an Annex B byte stream with its parameter sets, and when its last packet came;
// nil until then.
func (m *Meter) Keyframe() ([]byte, time.Time) { return m.keyframe, m.keyframeAt }

// Keyframes is the number of key frames seen so far.
func (m *Meter) Keyframes() int { return m.m.Keyframes }

// SPSError is why no picture size could be read, if a parameter set came and was no good.
func (m *Meter) SPSError() error {
	m.finishSet()
	if m.sps != nil {
		return nil
	}
	return m.spsErr
}

// Measured sums up what has come so far.
func (m *Meter) Measured() Measured {
	out := m.m
	out.Codec = m.track.CodecName()
	if m.sps != nil {
		out.Profile, out.Width, out.Height = m.sps.Profile, m.sps.Width, m.sps.Height
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
