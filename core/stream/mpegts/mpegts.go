// Package mpegts reads transport streams (ISO/IEC 13818-1) as encoders and cameras send them by datagrams: the tables that say what is in
// them, the packets of each elementary stream put together again, their times, and what is wrong with them. Nothing is believed: every
// length is checked, and what is kept is bounded.
package mpegts

import (
	"encoding/binary"
	"fmt"
	"time"
)

// Sizes of a transport stream (§2.4.3.2) and bounds of what is kept of one.
const (
	PacketSize = 188
	syncByte   = 0x47
	nullPID    = 0x1fff
	// maxUnit bounds one access unit: a key frame of 4K at any rate that a camera sends is smaller.
	maxUnit    = 8 << 20
	maxStreams = 16 // of the program
	maxPIDs    = 64 // that are counted
)

// A StreamType says what an elementary stream holds (table 2-34).
type StreamType byte

// The types that are read.
const (
	MPEG1Audio StreamType = 0x03
	MPEG2Audio StreamType = 0x04
	ADTS       StreamType = 0x0f // AAC
	LATM       StreamType = 0x11 // AAC
	Private    StreamType = 0x06 // what it holds its registration tells (§2.6.8), if anything
	H264       StreamType = 0x1b
	H265       StreamType = 0x24
)

// String returns the codec as people write it, or the number of one that has no name here.
func (t StreamType) String() string {
	switch t {
	case MPEG1Audio, MPEG2Audio:
		return "MPEG audio"
	case ADTS, LATM:
		return "AAC"
	case H264:
		return "H.264"
	case H265:
		return "H.265"
	case 0x01, 0x02:
		return "MPEG-2 video"
	case 0x10:
		return "MPEG-4"
	case 0x81:
		return "AC-3"
	}
	return fmt.Sprintf("stream type 0x%02x", byte(t))
}

// Video reports whether it holds pictures.
func (t StreamType) Video() bool {
	return t == H264 || t == H265 || t == 0x01 || t == 0x02 || t == 0x10
}

// A Stream is one elementary stream of the program.
type Stream struct {
	PID  uint16
	Type StreamType
	// Registered is the format identifier of its registration descriptor, such as "Opus"; "" for none.
	Registered string
}

// A Unit is one packet of an elementary stream (PES, §2.4.3.6), which for pictures is an access unit. Data is valid during the call that
// hands it on.
type Unit struct {
	Stream  Stream
	PTS     uint64 // presentation time at 90 kHz, 33 bits
	HasPTS  bool
	Data    []byte
	Damaged bool // packets of it are missing, or it was longer than is kept
	At      time.Time
}

// Transport is what a transport stream is like beside its pictures, measured.
type Transport struct {
	Program     int     `json:"program"`
	Packets     int     `json:"packets" doc:"of 188 bytes"`
	Lost        int     `json:"lost" doc:"packets missing by continuity counter, at least"`
	Null        int     `json:"null,omitempty" doc:"packets that hold nothing and keep the bitrate constant"`
	Malformed   int     `json:"malformed,omitempty" doc:"packets and tables that cannot be read"`
	Scrambled   int     `json:"scrambled,omitempty" doc:"packets that are encrypted"`
	BitrateKbps float64 `json:"bitrate_kbps" doc:"of all packets, by arrival"`
	// PCRMostMS is the longest time between two clock references; the standard allows 100 ms (§2.7.2).
	PCRMostMS   float64 `json:"pcr_most_ms,omitempty" doc:"longest time between clock references; 100 ms are allowed"`
	PCRJitterMS float64 `json:"pcr_jitter_ms,omitempty" doc:"how much the clock references came earlier or later than they say, at most"`
	PacketBytes int     `json:"packet_bytes,omitempty" doc:"192 or 204, where packets come with a time before them or with parity behind"`
	Programs    int     `json:"programs,omitempty" doc:"where there are several; the first counts"`
	// Sender, Also and Alternates are of a stream in datagrams, and known to whoever receives it.
	Sender     string   `json:"sender,omitempty"`
	Also       []string `json:"also,omitempty" doc:"others that send a transport stream to the same place"`
	Alternates bool     `json:"alternates,omitempty" doc:"some datagrams came within RTP and some without"`
}

// A Demuxer takes a transport stream apart. Its first program counts. It is not safe for concurrent use.
type Demuxer struct {
	// Each is called with each unit; it must be set.
	Each func(Unit)

	program  int // 0 until the PAT has come
	pmt      uint16
	streams  []Stream
	known    bool // the PMT has come
	tables   map[uint16]*section
	units    map[uint16]*assembly
	counters map[uint16]*counter
	newest   *counter // of the packet before: most packets follow one of their own PID
	clock    clock
	m        Transport
	rest     []byte // of a stream that is not cut at its packets: what is no whole packet yet
	first    time.Time
	last     time.Time
}

// Streams returns the elementary streams of the program, and whether its tables have come.
func (d *Demuxer) Streams() ([]Stream, bool) { return d.streams, d.known }

// Packets returns how many packets have come.
func (d *Demuxer) Packets() int { return d.m.Packets }

// Measured returns what came so far.
func (d *Demuxer) Measured() Transport {
	m := d.m
	if span := d.last.Sub(d.first).Seconds(); span > 0 && m.Packets > 1 {
		m.BitrateKbps = float64(m.Packets-1) * PacketSize * 8 / 1000 / span
	}
	m.PCRMostMS, m.PCRJitterMS = d.clock.most*1000, d.clock.jitter*1000
	return m
}

// strides are how far the packets of a stream stand apart, and how many bytes stand before each: as they are; with an arrival time before
// each, as recorders write them; with the parity of Reed-Solomon behind each, as modulators do.
var strides = []struct{ size, before int }{{PacketSize, 0}, {192, 4}, {204, 0}}

// stride returns how many bytes lie between the starts of packets, and how many stand before each. If no known way fits, they are those
// of bare packets.
func stride(b []byte) (size, before int) {
	for _, s := range strides {
		at := s.before
		for ; at < len(b) && b[at] == syncByte; at += s.size {
		}
		if len(b)%s.size == 0 && at-s.before == len(b) {
			return s.size, s.before
		}
	}
	return PacketSize, 0
}

// Datagram takes what one datagram holds: whole packets.
func (d *Demuxer) Datagram(b []byte, at time.Time) {
	if size, before := stride(b); size != PacketSize {
		d.m.PacketBytes = size
		for ; len(b) > 0; b = b[size:] {
			d.packet(b[before:before+PacketSize], at)
		}
		return
	}
	for len(b) >= PacketSize {
		if b[0] != syncByte {
			d.m.Malformed++
			b = b[1:]
			for len(b) > 0 && b[0] != syncByte { // look for the next beginning
				b = b[1:]
			}
			continue
		}
		d.packet(b[:PacketSize], at)
		b = b[PacketSize:]
	}
	if len(b) > 0 {
		d.m.Malformed++
	}
}

// Bytes takes the next bytes of a stream that is not cut at its packets, as HTTP carries it. Packets come as they are.
func (d *Demuxer) Bytes(b []byte, at time.Time) {
	d.rest = append(d.rest, b...)
	whole := len(d.rest) - len(d.rest)%PacketSize
	if whole == 0 {
		return
	}
	if d.rest[0] != syncByte { // begin at a packet
		i := 0
		for i < len(d.rest) && (d.rest[i] != syncByte || i+PacketSize < len(d.rest) && d.rest[i+PacketSize] != syncByte) {
			i++
		}
		d.m.Malformed++
		d.rest = append(d.rest[:0], d.rest[i:]...)
		return
	}
	d.Datagram(d.rest[:whole], at)
	d.rest = append(d.rest[:0], d.rest[whole:]...)
}

// packet takes one transport packet (§2.4.3.2).
func (d *Demuxer) packet(b []byte, at time.Time) {
	if d.m.Packets++; d.m.Packets == 1 {
		d.first = at
	}
	d.last = at
	head := binary.BigEndian.Uint32(b)
	pid := uint16(head>>8) & nullPID
	if pid == nullPID {
		d.m.Null++
		return
	}
	broken, begins, scrambled := head&0x800000 != 0, head&0x400000 != 0, head&0xc0 != 0
	adapts, carries := head&0x20 != 0, head&0x10 != 0
	payload, field, ok := split(b[4:], adapts, carries)
	if !ok || broken {
		d.m.Malformed++
		return
	}
	jumps := len(field) > 0 && field[0]&0x80 != 0 // discontinuity_indicator
	lost, again := d.follows(pid, byte(head&0x0f), carries, jumps)
	if again {
		return
	}
	if pcr, ok := reference(field); ok {
		d.clock.take(pcr, at, jumps)
	}
	switch {
	case scrambled:
		d.m.Scrambled++
	case !carries:
	case pid == 0 || pid == d.pmt && d.program != 0:
		d.table(pid, payload, begins, lost)
	default:
		d.unit(pid, payload, begins, lost, at)
	}
}

// split parts the adaptation field from the payload (§2.4.3.4).
func split(b []byte, adapts, carries bool) (payload, field []byte, ok bool) {
	if adapts {
		n := int(b[0])
		if n > len(b)-1 || carries && n == len(b)-1 {
			return nil, nil, false
		}
		field, b = b[1:1+n], b[1+n:]
	}
	if !carries {
		return nil, field, adapts
	}
	return b, field, true
}

// A counter follows the continuity counter of one PID (§2.4.3.3).
type counter struct {
	pid   uint16
	last  byte
	twice bool // the last packet has come twice already
}

// follows compares a packet with the one before it of the same PID. lost reports that packets between the two are missing, and again that
// it is the same packet, which may be sent twice.
func (d *Demuxer) follows(pid uint16, n byte, carries, jumps bool) (lost, again bool) {
	if d.counters == nil {
		d.counters = map[uint16]*counter{}
	}
	c := d.newest
	if c == nil || c.pid != pid {
		c = d.counters[pid]
		d.newest = c
	}
	switch {
	case c == nil && len(d.counters) >= maxPIDs:
		return false, false
	case c == nil:
		d.counters[pid] = &counter{pid: pid, last: n}
		return false, false
	case !carries: // the counter stands still
		return false, false
	case n == c.last && !c.twice && !jumps:
		c.twice = true
		return false, true
	}
	missing := int(n-c.last-1) & 0x0f
	c.last, c.twice = n, false
	if missing > 0 && !jumps {
		d.m.Lost += missing
		return true, false
	}
	return false, false
}

// reference reads the program clock reference of an adaptation field, in seconds (§2.4.3.5).
func reference(field []byte) (seconds float64, ok bool) {
	if len(field) < 7 || field[0]&0x10 == 0 {
		return 0, false
	}
	base := uint64(binary.BigEndian.Uint32(field[1:]))<<1 | uint64(field[5])>>7
	extension := uint64(field[5]&1)<<8 | uint64(field[6])
	return float64(base)/90000 + float64(extension)/27e6, true
}

// turn is after how many seconds the clock begins anew.
const turn = float64(1<<33) / 90000

// A clock measures how the references of the program come.
type clock struct {
	any          bool
	pcr          float64
	at           time.Time
	ahead        float64 // of the references against arrival, since the first
	least, great float64
	most, jitter float64 // seconds
}

func (c *clock) take(pcr float64, at time.Time, jumps bool) {
	step := pcr - c.pcr
	if step < -turn/2 {
		step += turn
	}
	if c.any && !jumps && step >= 0 && step < 10 {
		c.most = max(c.most, step)
		c.ahead += step - at.Sub(c.at).Seconds()
		c.least, c.great = min(c.least, c.ahead), max(c.great, c.ahead)
		c.jitter = c.great - c.least
	}
	c.any, c.pcr, c.at = true, pcr, at
}
