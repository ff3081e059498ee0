package mpegts

import (
	"encoding/binary"
	"slices"

	"unlatch/core/ground/wiretext"
)

// Bounds of a table: a section has at most 1021 bytes behind its length (§2.4.4.3, §2.4.4.8).
const (
	sectionHead = 3
	maxSection  = 1021
)

// A section is one that is put together from packets.
type section struct {
	b    []byte
	open bool
}

// table takes the part of a PAT or PMT that one packet holds.
func (d *Demuxer) table(pid uint16, b []byte, begins, lost bool) {
	if d.tables == nil {
		d.tables = map[uint16]*section{}
	}
	s := d.tables[pid]
	if s == nil {
		s = &section{}
		d.tables[pid] = s
	}
	if lost {
		s.open = false
	}
	if begins {
		if len(b) == 0 || int(b[0]) >= len(b) {
			d.m.Malformed++
			return
		}
		rest := b[1 : 1+int(b[0])]
		if s.open {
			s.b = append(s.b, rest...)
			d.sections(pid, s)
		}
		s.b, s.open = append(s.b[:0], b[1+int(b[0]):]...), true
	} else if s.open {
		s.b = append(s.b, b...)
	}
	if s.open {
		d.sections(pid, s)
	}
}

// sections reads the sections that are whole.
func (d *Demuxer) sections(pid uint16, s *section) {
	for len(s.b) >= sectionHead && s.b[0] != 0xff { // what follows the last section is stuffed
		n := int(binary.BigEndian.Uint16(s.b[1:]) & 0x0fff)
		if n > maxSection || n < 9 {
			d.m.Malformed++
			s.open = false
			return
		}
		if len(s.b) < sectionHead+n {
			return
		}
		whole := s.b[:sectionHead+n]
		if crc(whole) != 0 {
			d.m.Malformed++
		} else if whole[0] == 0 && pid == 0 {
			d.programs(whole)
		} else if whole[0] == 2 && pid != 0 {
			d.streamsOf(whole)
		}
		s.b = s.b[sectionHead+n:]
	}
	s.open = false
}

// programs reads a program association section (§2.4.4.3): the first program that is none of network information counts.
func (d *Demuxer) programs(b []byte) {
	if b[5]&1 == 0 { // it applies later
		return
	}
	found := 0
	for e := b[8 : len(b)-4]; len(e) >= 4; e = e[4:] {
		number, pid := int(binary.BigEndian.Uint16(e)), binary.BigEndian.Uint16(e[2:])&nullPID
		if number == 0 || pid == 0 || pid == nullPID {
			continue
		}
		if found++; found > 1 {
			d.m.Programs = found
			continue
		}
		if number != d.program || pid != d.pmt {
			d.program, d.pmt, d.known, d.streams, d.units = number, pid, false, nil, nil
			d.m.Program = number
		}
	}
}

// streamsOf reads a program map section (§2.4.4.8).
func (d *Demuxer) streamsOf(b []byte) {
	if len(b) < 16 || b[5]&1 == 0 || int(binary.BigEndian.Uint16(b[3:])) != d.program {
		return
	}
	skip := int(binary.BigEndian.Uint16(b[10:]) & 0x0fff)
	e := b[12 : len(b)-4]
	if skip > len(e) {
		d.m.Malformed++
		return
	}
	var streams []Stream
	for e = e[skip:]; len(e) >= 5 && len(streams) < maxStreams; {
		pid, n := binary.BigEndian.Uint16(e[1:])&nullPID, int(binary.BigEndian.Uint16(e[3:])&0x0fff)
		s := Stream{PID: pid, Type: StreamType(e[0])}
		if n > len(e)-5 {
			d.m.Malformed++
			streams = append(streams, s)
			break
		}
		s.Registered = registered(e[5 : 5+n])
		streams = append(streams, s)
		e = e[5+n:]
	}
	if d.known && slices.Equal(d.streams, streams) {
		return
	}
	d.streams, d.known, d.units = streams, true, map[uint16]*assembly{}
	for _, s := range streams {
		d.units[s.PID] = &assembly{stream: s}
	}
}

// registered returns the format identifier of the registration descriptor among some descriptors (§2.6.8), or "".
func registered(b []byte) string {
	for len(b) >= 2 && int(b[1]) <= len(b)-2 {
		body := b[2 : 2+int(b[1])]
		if b[0] == 0x05 && len(body) >= 4 {
			return wiretext.Line(string(body[:4]), 4)
		}
		b = b[2+len(body):]
	}
	return ""
}

// crcTable is that of CRC_32 (annex A): the polynomial 0x04c11db7, most significant bit first, no turning round.
var crcTable = func() (t [256]uint32) {
	for i := range t {
		c := uint32(i) << 24
		for range 8 {
			if c&0x80000000 != 0 {
				c = c<<1 ^ 0x04c11db7
			} else {
				c <<= 1
			}
		}
		t[i] = c
	}
	return t
}()

// crc is 0 over a section with its own CRC.
func crc(b []byte) uint32 {
	c := ^uint32(0)
	for _, x := range b {
		c = c<<8 ^ crcTable[byte(c>>24)^x]
	}
	return c
}
