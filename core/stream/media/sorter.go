package media

import "time"

// Bounds of what a sorter holds back: packets, and 90 kHz ticks of RTP time, so that a slow stream is not held up for long by a packet
// that never comes.
const (
	mostHeld = 8
	longHeld = 9000
)

// A sorter brings RTP packets that came out of order, as over UDP, back into it. Packets behind a gap are held until what is missing has
// come, or is given up. It allocates nothing per packet once its buffers have grown.
type sorter struct {
	begun bool
	next  uint16 // the number that is waited for
	bad   int    // the number behind one that came from far behind; -1 for none
	fresh heldPacket
	has   bool // fresh is not dealt with yet
	held  [mostHeld]heldPacket
	n     int
}

// heldPacket is one packet with what its order rests on. The bytes of a held one are the sorter's own.
type heldPacket struct {
	b     []byte
	seq   uint16
	stamp uint32
	at    time.Time
}

// straight takes the number of a packet and reports whether it is the one that is due, and nothing is held: then it needs no put, which is
// nearly always.
func (s *sorter) straight(seq uint16) bool {
	switch {
	case !s.begun:
		s.begun, s.bad = true, -1
	case s.n > 0 || seq != s.next:
		return false
	}
	s.next = seq + 1
	return true
}

// insert takes another packet. What it leads to is had from take until that yields no more; b must stay as it is until then.
func (s *sorter) insert(b []byte, p packet, at time.Time) {
	s.fresh, s.has = heldPacket{b, p.seq, p.timestamp, at}, true
}

// take returns the next packet in order, and how many before it are missing for good.
func (s *sorter) take() (p heldPacket, gap int, ok bool) {
	if s.has {
		s.has = false
		p = s.fresh
		ahead := int(int16(p.seq - s.next))
		switch {
		case ahead == 0:
			s.next = p.seq + 1
			return p, 0, true
		case ahead >= 64 && s.n > 0: // a long gap: what is held comes first
			s.has = true
			return s.release()
		case ahead >= 64:
			s.next = p.seq + 1
			return p, ahead, true
		case ahead > 0:
			s.hold(p)
		case ahead > -64: // it was given up, or has come already
		case int(p.seq) == s.bad: // the second in a row from elsewhere: the sender began anew
			s.n, s.next = 0, p.seq+1
			return p, 0, true
		default:
			s.bad = int(p.seq + 1)
		}
	}
	if s.n == 0 {
		return p, 0, false
	}
	first := s.first()
	if h := s.held[first]; h.seq != s.next && s.n < mostHeld && int32(s.fresh.stamp-h.stamp) < longHeld {
		return p, 0, false
	}
	return s.release()
}

// hold keeps a copy of a packet, unless it is there already.
func (s *sorter) hold(p heldPacket) {
	for _, h := range s.held[:s.n] {
		if h.seq == p.seq {
			return
		}
	}
	p.b = append(s.held[s.n].b[:0], p.b...)
	s.held[s.n] = p
	s.n++
}

// first returns the place of the held packet that is due first.
func (s *sorter) first() (at int) {
	for i, h := range s.held[:s.n] {
		if int16(h.seq-s.held[at].seq) < 0 {
			at = i
		}
	}
	return at
}

// release lets the first of the held packets go.
func (s *sorter) release() (p heldPacket, gap int, ok bool) {
	at := s.first()
	p = s.held[at]
	s.n--
	s.held[at], s.held[s.n] = s.held[s.n], p // its buffer is used again when the next one is held
	gap = int(int16(p.seq - s.next))
	s.next = p.seq + 1
	return p, gap, true
}
