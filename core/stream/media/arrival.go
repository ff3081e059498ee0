package media

import (
	"encoding/binary"
	"time"
)

// A sequence follows the sequence numbers of one sender (RFC 3550 §A.1). The zero value begins with the first packet.
type sequence struct {
	started                     bool
	newest                      uint16
	seen                        uint64 // bit n: the packet n before the newest has come
	bad                         int    // the number behind one that came from far behind
	lost, reordered, duplicates int
}

// next takes the number of the next packet. late says that a later one came before it.
func (s *sequence) next(seq uint16) (late bool) {
	if !s.started {
		s.started, s.newest, s.seen = true, seq, 1
		return false
	}
	ahead := seq - s.newest
	if ahead > 0 && ahead < 1<<15 {
		s.newest = seq
		s.seen = s.seen<<ahead | 1
		s.lost += int(ahead) - 1
		return false
	}
	behind := s.newest - seq
	switch {
	case behind < 64 && s.seen>>behind&1 == 1:
		s.duplicates++
	case behind < 64 && s.lost > 0: // it was counted as lost, and only came late
		s.seen |= 1 << behind
		s.lost--
		s.reordered++
	case behind >= 64 && int(seq) == s.bad: // the second in a row from elsewhere: the sender began anew
		s.newest, s.seen = seq, 1
		return false
	case behind >= 64:
		s.bad = int(seq + 1)
	default:
		s.reordered++
	}
	return true
}

// A jitter is the interarrival jitter of RFC 3550 §6.4.1, in units of the RTP clock.
type jitter struct {
	started bool
	transit int64
	value   float64
}

func (j *jitter) packet(stamp uint32, arrived time.Duration, rate int) {
	transit := int64(arrived)*int64(rate)/int64(time.Second) - int64(stamp)
	if j.started {
		d := int64(int32(transit - j.transit)) // time stamps wrap
		j.value += (float64(max(d, -d)) - j.value) / 16
	}
	j.started, j.transit = true, transit
}

func (j *jitter) ms(rate int) float64 { return j.value * 1000 / float64(rate) }

// ntpEpoch is when NTP time begins (RFC 5905 §6).
var ntpEpoch = time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC)

// senderReport reads the wall clock of the first sender report in a compound RTCP packet (RFC 3550 §6.4.1). A report without a wall clock
// has nought there.
func senderReport(b []byte) (sent time.Time, ok bool) {
	for len(b) >= 8 && b[0]>>6 == 2 {
		n := 4 * (int(binary.BigEndian.Uint16(b[2:])) + 1)
		if n > len(b) {
			return sent, false
		}
		if b[1] == 200 && n >= 28 {
			ntp := binary.BigEndian.Uint64(b[8:])
			return timeOfNTP(ntp), ntp>>32 != 0
		}
		b = b[n:]
	}
	return sent, false
}
