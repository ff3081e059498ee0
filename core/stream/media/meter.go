package media

import (
	"bytes"
	"errors"
	"math"
	"slices"
	"time"
)

// Measured is what came out of one video track, measured.
type Measured struct {
	Codec         string  `json:"codec"`
	Profile       string  `json:"profile,omitempty"`
	Level         string  `json:"level,omitempty"`
	Tier          string  `json:"tier,omitempty" doc:"of H.265"`
	Width         int     `json:"width"`
	Height        int     `json:"height"`
	Aspect        string  `json:"aspect,omitempty" doc:"of one pixel, width to height, where the stream says that it is not square"`
	Interlaced    bool    `json:"interlaced,omitempty"`
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

	PerSecondKbps []int       `json:"per_second_kbps,omitempty" doc:"payload of each whole second of the measuring time"`
	Bitrate       *Spread     `json:"bitrate,omitempty" doc:"of the whole seconds, kbit/s"`
	RateControl   string      `json:"rate_control,omitempty" enum:"cbr,vbr" doc:"as measured; missing where the time was too short to tell"`
	Sizes         *FrameSizes `json:"frame_sizes,omitempty"`
	MostSlices    int         `json:"most_slices,omitempty" doc:"of one frame"`
	KeyIntervals  []float64   `json:"key_intervals,omitempty" doc:"seconds between key frames, as they came"`
	KeyPattern    string      `json:"key_pattern,omitempty" enum:"constant,varying,long" doc:"long: more than 5 s apart"`
	JitterMS      float64     `json:"jitter_ms,omitempty" doc:"RFC 3550 §6.4.1, at the end"`
	Reordered     int         `json:"reordered,omitempty" doc:"packets that came after a later one"`
	Duplicates    int         `json:"duplicates,omitempty"`
	ClockRate     float64     `json:"clock_rate,omitempty" doc:"seconds of the RTP clock in one second"`
	SenderClockMS *int64      `json:"sender_clock_ms,omitempty" doc:"how far the sender's clock, by its last RTCP report, is ahead of ours"`
	Recorded      *time.Time  `json:"recorded,omitempty" doc:"of a replay: when its first picture was recorded, by the recorder's clock"`
	Segments      []Stretch   `json:"segments,omitempty" doc:"set where the size changed while the stream played"`
	Unread        string      `json:"unread,omitempty" doc:"a payload structure that came and is not read"`
}

// Spread is how the bitrate of whole seconds was spread, in kbit/s.
type Spread struct {
	Least float64 `json:"least"`
	Mean  float64 `json:"mean"`
	P95   float64 `json:"p95"`
	Most  float64 `json:"most"`
}

// FrameSizes are the sizes of frames by kind. A kind of which none came is missing.
type FrameSizes struct {
	Key           *FrameSize `json:"key,omitempty"`
	Predicted     *FrameSize `json:"predicted,omitempty"`
	Bidirectional *FrameSize `json:"bidirectional,omitempty" doc:"B-frames"`
}

// FrameSize is of frames of one kind.
type FrameSize struct {
	Count int `json:"count"`
	Mean  int `json:"mean_bytes"`
	Most  int `json:"most_bytes"`
}

// A Stretch is a part of the stream in which the picture kept its size.
type Stretch struct {
	Width  int   `json:"width"`
	Height int   `json:"height"`
	Frames int   `json:"frames"`
	FromMS int64 `json:"from_ms" doc:"after the first packet"`
}

// Bounds on what is kept of a stream, however long it is measured.
const (
	maxSeconds   = 3600
	maxIntervals = 120
	maxSegments  = 16
)

// longInterval is the key-frame interval from which on a viewer waits noticeably for a picture.
const longInterval = 5 * time.Second

// A Meter measures one video track from its RTP packets. Frame ends are told by time stamps, key frames and sizes by the payload
// (see Format) and never by what the description says. It is not safe for concurrent use and allocates nothing per packet once its
// buffers have grown.
type Meter struct {
	track    Track
	format   Format // nil where the codec is not read: then rate and loss are measured
	unit     frameUnderWay
	keyframe *Keyframe // the first whole one, or with newest the last
	newest   bool

	order       sequence
	first, last time.Time
	ssrc        uint32
	m           Measured
	clock       int64 // unwrapped RTP time
	stamp       uint32
	minClock    int64
	maxClock    int64
	bytes       int64 // that have come
	sort        sorter
	framed      int64 // bytes that went into frames
	keys        keyMarks
	jitter      jitter
	seconds     []int // bytes of each second since the first packet
	sizes       [frameKinds]struct{ count, most, total int }
	intervals   []keyInterval
	segments    []Stretch
	sender      *int64
	unread      int // packets of a structure that is not read
}

// frameUnderWay is the frame whose packets are coming.
type frameUnderWay struct {
	open, damaged bool
	clock         int64
	bytesBefore   int64
	framesBefore  int
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
	if m.first.IsZero() || p.ssrc != m.ssrc {
		if m.first.IsZero() {
			m.first = at
		}
		m.order, m.ssrc, m.stamp, m.sort.begun, m.sort.n = sequence{}, p.ssrc, p.timestamp, false, 0
	}
	late := m.order.next(p.seq)
	m.m.Packets++
	m.last = at
	m.count(len(p.payload), at)
	if !late {
		m.jitter.packet(p.timestamp, at.Sub(m.first), m.rate())
	}
	if m.sort.straight(p.seq) {
		m.inOrder(p, at, false)
		return
	}
	m.sort.insert(b, p, at)
	for x, gap, ok := m.sort.take(); ok; x, gap, ok = m.sort.take() {
		p, _ := parseRTP(x.b) // it was read before
		m.inOrder(p, x.at, gap > 0)
	}
}

// inOrder takes one packet in order; gap says that some before it are missing for good.
func (m *Meter) inOrder(p packet, at time.Time, gap bool) {
	m.framed += int64(len(p.payload))
	if gap {
		m.unit.damaged = true
	}
	if m.unit.open && p.timestamp != m.stamp {
		m.endFrame(at)
	}
	if !m.unit.open {
		m.openFrame(p, len(p.payload), gap)
	}
	if m.format != nil {
		m.read(p)
	}
	if p.marker {
		m.endFrame(at)
	}
}

// read gives a packet to the format.
func (m *Meter) read(p packet) {
	if m.m.Recorded == nil && p.extended != nil {
		m.m.Recorded = recordedAt(p)
	}
	if x, ok := m.format.(extended); ok && p.extended != nil {
		x.Extension(p.extension, p.extended)
	}
	err := m.format.Payload(p.payload)
	if err == nil {
		return
	}
	m.m.Malformed++
	m.unit.damaged = true
	if unread := new(UnreadError); errors.As(err, &unread) {
		m.unread++
		m.m.Unread = unread.Structure
	}
}

// count adds bytes to what has come, in all and in their second.
func (m *Meter) count(n int, at time.Time) {
	m.bytes += int64(n)
	second := int(at.Sub(m.first) / time.Second)
	for len(m.seconds) <= second && len(m.seconds) < maxSeconds {
		m.seconds = append(m.seconds, 0)
	}
	if second >= 0 && second < len(m.seconds) {
		m.seconds[second] += n
	}
}

// rate returns the rate of the RTP clock in Hz.
func (m *Meter) rate() int {
	if m.track.ClockRate <= 0 {
		return 90000
	}
	return m.track.ClockRate
}

func (m *Meter) openFrame(p packet, counted int, damaged bool) {
	m.clock += int64(int32(p.timestamp - m.stamp))
	m.stamp = p.timestamp
	m.unit = frameUnderWay{open: true, clock: m.clock, bytesBefore: m.framed - int64(counted), framesBefore: m.m.Frames, damaged: damaged}
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
	if m.format == nil {
		return
	}
	m.m.MostSlices = max(m.m.MostSlices, frame.Slices)
	n := int(m.framed - u.bytesBefore)
	s := &m.sizes[frame.Kind]
	s.count, s.most, s.total = s.count+1, max(s.most, n), s.total+n
	m.segment(at)
	if frame.Kind != Key {
		return
	}
	m.key(u)
	if (m.keyframe == nil || m.newest) && !u.damaged && frame.Data != nil {
		m.keyframe = &Keyframe{Decoder: m.format.Decoder(), Data: bytes.Clone(frame.Data), At: at}
		m.format.Keep(m.newest)
	}
}

// segment begins another part of the stream where the picture has another size than before.
func (m *Meter) segment(at time.Time) {
	p, _ := m.format.Picture()
	if p == nil {
		return
	}
	if n := len(m.segments); n == 0 || m.segments[n-1].Width != p.Width || m.segments[n-1].Height != p.Height {
		if n == maxSegments {
			return
		}
		m.segments = append(m.segments, Stretch{Width: p.Width, Height: p.Height, FromMS: at.Sub(m.first).Milliseconds()})
	}
	m.segments[len(m.segments)-1].Frames++
}

// Report takes one RTCP packet as it arrived: a sender report tells the sender's wall clock (RFC 3550 §6.4.1).
func (m *Meter) Report(b []byte, at time.Time) {
	if sent, ok := senderReport(b); ok {
		ms := sent.Sub(at).Milliseconds()
		m.sender = &ms
	}
}

// Sound reports whether frames come as they should, with a picture size and without a malformed packet, whether or not a key frame was
// among them.
func (m *Meter) Sound() bool {
	const some = 10
	if m.format == nil || m.m.Malformed > 0 || m.m.Frames < some {
		return false
	}
	p, err := m.format.Picture()
	return p != nil && err == nil
}

// KeepNewest has Keyframe return the newest whole key frame instead of the first.
func (m *Meter) KeepNewest() { m.newest = true }

// Keyframe returns the first whole key frame, or the newest after KeepNewest; nil until one has come.
func (m *Meter) Keyframe() *Keyframe { return m.keyframe }

// Keyframes returns the number of key frames seen so far.
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
			out.Profile, out.Level, out.Tier, out.Width, out.Height = p.Profile, p.Level, p.Tier, p.Width, p.Height
			out.Aspect, out.Interlaced = p.Aspect, p.Interlaced
		}
	}
	if m.unread*4 < out.Packets {
		out.Unread = "" // one packet of noise looks like anything
	}
	out.Lost, out.Reordered, out.Duplicates = m.order.lost, m.order.reordered, m.order.duplicates
	out.JitterMS, out.SenderClockMS = m.jitter.ms(m.rate()), m.sender
	arrival := m.last.Sub(m.first).Seconds()
	out.MeasuredForMS = int64(arrival * 1000)
	rate := float64(m.rate())
	span := float64(m.maxClock-m.minClock) / rate
	if arrival >= 1 {
		out.ClockRate = span / arrival
	}
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
	m.spread(&out)
	m.kinds(&out)
	m.keyPattern(&out)
	if len(m.segments) > 1 {
		out.Segments = slices.Clone(m.segments)
	}
	return out
}

// spread sums up the whole seconds; the last one is under way.
func (m *Meter) spread(out *Measured) {
	if len(m.seconds) < 2 {
		return
	}
	whole := m.seconds[:len(m.seconds)-1]
	out.PerSecondKbps = make([]int, len(whole))
	total := 0
	for i, n := range whole {
		out.PerSecondKbps[i] = n * 8 / 1000
		total += n
	}
	sorted := slices.Sorted(slices.Values(out.PerSecondKbps))
	out.Bitrate = &Spread{Least: float64(sorted[0]), Most: float64(sorted[len(sorted)-1]), P95: float64(sorted[(len(sorted)*95+99)/100-1]),
		Mean: math.Round(float64(total)*80/1000/float64(len(whole))) / 10}
}

func (m *Meter) kinds(out *Measured) {
	of := func(k FrameKind) *FrameSize {
		s := m.sizes[k]
		if s.count == 0 {
			return nil
		}
		return &FrameSize{Count: s.count, Mean: s.total / s.count, Most: s.most}
	}
	if m.format != nil && out.Frames > 0 {
		out.Sizes = &FrameSizes{Key: of(Key), Predicted: of(Predicted), Bidirectional: of(Bidirectional)}
	}
}

// enoughIntervals are needed to tell how the bitrate is controlled, and steady is by how much of their mean they may differ.
const (
	enoughIntervals = 3
	steady          = 0.25
)

// keyPattern tells how key frames came, and by the bytes between them whether the bitrate is constant. A stream of key frames alone has
// no pattern.
func (m *Meter) keyPattern(out *Measured) {
	onlyKeys := out.Keyframes == out.Frames
	perSecond := float64(m.rate())
	if out.ClockDrift != "" {
		perSecond = 0
	}
	least, most := 0, 0
	for i, k := range m.intervals {
		if i == 0 || k.frames < least {
			least = k.frames
		}
		most = max(most, k.frames)
		seconds := 0.0
		if perSecond > 0 {
			seconds = float64(k.clock) / perSecond
		} else if out.FPS > 0 {
			seconds = float64(k.frames) / out.FPS
		}
		if !onlyKeys {
			out.KeyIntervals = append(out.KeyIntervals, math.Round(seconds*1000)/1000)
		}
	}
	if !onlyKeys {
		waited := 0.0 // before the first key frame, or since the last one
		if out.FPS > 0 {
			waited = float64(max(m.keys.firstFrames, out.Frames-m.keys.lastFrames)) / out.FPS
		}
		longest := waited
		for _, s := range out.KeyIntervals {
			longest = max(longest, s)
		}
		switch {
		case m.format == nil:
		case longest > longInterval.Seconds():
			out.KeyPattern = "long"
		case len(m.intervals) > 1 && most-least > 1:
			out.KeyPattern = "varying"
		case len(m.intervals) > 0:
			out.KeyPattern = "constant"
		}
	}
	out.RateControl = m.rateControl(out)
}

// rateControl tells a constant bitrate from a variable one by the whole key-frame intervals, or where each frame is one by the seconds.
func (m *Meter) rateControl(out *Measured) string {
	var rates []float64
	if out.Keyframes < out.Frames && out.ClockDrift == "" {
		for _, k := range m.intervals {
			if k.clock > 0 {
				rates = append(rates, float64(k.bytes)/float64(k.clock))
			}
		}
	} else if out.Bitrate != nil {
		for _, n := range out.PerSecondKbps {
			rates = append(rates, float64(n))
		}
	}
	if len(rates) < enoughIntervals {
		return ""
	}
	mean := 0.0
	for _, r := range rates {
		mean += r / float64(len(rates))
	}
	if slices.Max(rates)-slices.Min(rates) <= steady*mean {
		return "cbr"
	}
	return "vbr"
}
