package mpegts

import (
	"encoding/binary"
	"time"
)

// An assembly puts the packets of one elementary stream together.
type assembly struct {
	stream  Stream
	b       []byte
	open    bool
	damaged bool
	at      time.Time // when its first packet came
}

// unit takes the part of an elementary stream that one packet holds.
func (d *Demuxer) unit(pid uint16, b []byte, begins, lost bool, at time.Time) {
	a := d.units[pid]
	if a == nil {
		return // of another program, or of a table that is not read
	}
	a.damaged = a.damaged || lost
	if begins {
		d.end(a)
		a.open, a.damaged, a.at = true, false, at
	}
	if !a.open {
		return
	}
	if len(a.b)+len(b) > maxUnit {
		a.damaged = true
		return
	}
	a.b = append(a.b, b...)
	if n := whole(a.b); n > 0 && len(a.b) >= n {
		a.b = a.b[:n]
		d.end(a)
	}
}

// whole returns how long a packet of an elementary stream says it is, with its head; 0 for one that does not say, as those of pictures
// may.
func whole(b []byte) int {
	if len(b) < 6 {
		return 0
	}
	if n := int(binary.BigEndian.Uint16(b[4:])); n > 0 {
		return 6 + n
	}
	return 0
}

// Flush hands on what has not ended yet: the last unit of a stream that says no lengths.
func (d *Demuxer) Flush() {
	for _, a := range d.units {
		d.end(a)
	}
}

// end reads the head of what was put together (§2.4.3.7) and hands it on.
func (d *Demuxer) end(a *assembly) {
	b := a.b
	open := a.open
	a.b, a.open = a.b[:0], false
	if !open {
		return
	}
	if len(b) < 9 || b[0] != 0 || b[1] != 0 || b[2] != 1 || b[6]>>6 != 2 || 9+int(b[8]) > len(b) {
		d.m.Malformed++
		return
	}
	if n := whole(b); n > len(b) { // it was cut short
		a.damaged = true
	}
	u := Unit{Stream: a.stream, Data: b[9+int(b[8]):], Damaged: a.damaged, At: a.at}
	if b[6]&0x30 != 0 { // scrambled within
		d.m.Scrambled++
		return
	}
	if b[7]&0x80 != 0 && b[8] >= 5 {
		u.PTS, u.HasPTS = stamp(b[9:]), true
	}
	d.Each(u)
}

// stamp reads a time of 33 bits out of its five bytes.
func stamp(b []byte) uint64 {
	return uint64(b[0]>>1&7)<<30 | uint64(binary.BigEndian.Uint16(b[1:])>>1)<<15 | uint64(binary.BigEndian.Uint16(b[3:])>>1)
}
