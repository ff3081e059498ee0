// Package transport is the stand-in of an encoder that sends a transport stream by datagrams (ISO/IEC 13818-1): its tables, its pictures
// and its sound, with the faults that such encoders have.
package transport

import (
	"encoding/binary"

	"unlatch/sim/scene"
)

// PIDs of the one program.
const (
	pmtPID   = 0x1000
	videoPID = 0x100
	audioPID = 0x101
	program  = 1
)

const packetSize = 188

// A muxer writes transport packets.
type muxer struct {
	clip     *scene.Clip
	sound    bool
	scramble bool
	programs int    // that the tables name; only the first is sent
	shift    uint16 // by which the PIDs in the tables are wrong
	counters map[uint16]byte
	out      []byte
}

func newMuxer(o Options) *muxer {
	m := &muxer{clip: o.Clip, sound: len(o.Sound) > 0, scramble: o.Defect == "scrambled", programs: 1, counters: map[uint16]byte{}}
	if o.Defect == "two_programs" {
		m.programs = 2
	}
	if o.Defect == "wrong_pids" {
		m.shift = 0x40
	}
	return m
}

// tables writes PAT and PMT.
func (m *muxer) tables() {
	pat := []byte{0, 0xb0, byte(9 + 4*m.programs), 0, 1, 0xc1, 0, 0}
	for n := range m.programs {
		pat = append(pat, 0, byte(program+n), 0xe0|byte((pmtPID+n)>>8), byte(pmtPID+n))
	}
	m.section(0, pat)
	kind := byte(0x1b)
	if m.clip.Codec == scene.H265 {
		kind = 0x24
	}
	pid := videoPID + m.shift
	pmt := []byte{2, 0xb0, 0, 0, program, 0xc1, 0, 0, 0xe0 | byte(pid>>8), byte(pid), 0xf0, 0, kind, 0xe0 | byte(pid>>8), byte(pid), 0xf0, 0}
	if m.sound {
		pmt = append(pmt, 0x0f, 0xe0|audioPID>>8, audioPID&0xff, 0xf0, 0)
	}
	pmt[2] = byte(len(pmt) - 3 + 4)
	m.section(pmtPID, pmt)
}

// section writes one section into one packet.
func (m *muxer) section(pid uint16, b []byte) {
	body := append([]byte{0}, binary.BigEndian.AppendUint32(b, crc(b))...)
	for len(body) < packetSize-4 {
		body = append(body, 0xff)
	}
	m.head(pid, true, false)
	m.out = append(m.out, body...)
}

func (m *muxer) head(pid uint16, begins, adapts bool) {
	second, fourth := byte(pid>>8), byte(0x10)|m.counters[pid]
	if begins {
		second |= 0x40
	}
	if adapts {
		fourth |= 0x20
	}
	if m.scramble && pid == videoPID {
		fourth |= 0x80
	}
	m.counters[pid] = (m.counters[pid] + 1) & 0x0f
	m.out = append(m.out, 0x47, second, byte(pid), fourth)
}

// frame writes one picture with its time; its first packet carries the clock.
func (m *muxer) frame(f scene.Frame, pts uint64) {
	var b []byte
	add := func(nal []byte) {
		if len(nal) > 0 {
			b = append(append(b, 0, 0, 0, 1), nal...)
		}
	}
	if m.clip.Codec == scene.H265 {
		add([]byte{35 << 1, 1, 0x50})
	} else {
		add([]byte{9, 0xf0})
	}
	if f.Key {
		add(m.clip.VPS)
		add(m.clip.SPS)
		add(m.clip.PPS)
	}
	for _, nal := range f.NALs {
		add(nal)
	}
	m.unit(videoPID, 0xe0, b, pts, true)
}

// unit writes a packet of an elementary stream (PES).
func (m *muxer) unit(pid uint16, id byte, data []byte, pts uint64, clocked bool) {
	length := len(data) + 8
	if length > 0xffff || id == 0xe0 {
		length = 0
	}
	pes := []byte{0, 0, 1, id, byte(length >> 8), byte(length), 0x80, 0x80, 5, 0x21 | byte(pts>>29)&0x0e, byte(pts >> 22),
		byte(pts>>14) | 1, byte(pts >> 7), byte(pts<<1) | 1}
	pes = append(pes, data...)
	for first := true; len(pes) > 0; first = false {
		var field []byte
		if first && clocked {
			base := pts
			field = []byte{0x10, byte(base >> 25), byte(base >> 17), byte(base >> 9), byte(base >> 1), byte(base<<7) | 0x7e, 0}
		}
		room := packetSize - 4
		if field != nil {
			room -= 1 + len(field)
		}
		if len(pes) < room { // stuffed in the adaptation field
			if field == nil {
				room--
				field = []byte{}
				if len(pes) < room {
					field = append(field, 0)
					room--
				}
			}
			for len(pes) < room {
				field = append(field, 0xff)
				room--
			}
		}
		m.head(pid, first, field != nil)
		if field != nil {
			m.out = append(m.out, byte(len(field)))
			m.out = append(m.out, field...)
		}
		m.out = append(m.out, pes[:room]...)
		pes = pes[room:]
	}
}

// take returns what was written, and begins anew.
func (m *muxer) take() []byte {
	out := m.out
	m.out = nil
	return out
}

func crc(b []byte) uint32 {
	c := ^uint32(0)
	for _, x := range b {
		c ^= uint32(x) << 24
		for range 8 {
			if c&0x80000000 != 0 {
				c = c<<1 ^ 0x04c11db7
			} else {
				c <<= 1
			}
		}
	}
	return c
}
