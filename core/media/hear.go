package media

import (
	"encoding/hex"
	"strconv"
)

// A Listener turns the RTP packets of an audio track into what can be played: samples of G.711 and L16, access units of AAC. It is not safe
// for concurrent use and allocates nothing per packet once its buffers have grown.
type Listener struct {
	// Samples says that what comes is 16-bit samples, least significant byte first; else it is access units of AAC.
	Samples  bool
	Rate     int // samples a second
	Channels int
	Config   []byte // of AAC: its AudioSpecificConfig (ISO/IEC 14496-3 §1.6.2.1)
	Object   int    // of AAC: its object type

	track  Track
	read   func(payload []byte, each func([]byte))
	buffer []byte
	units  unitReader
}

// NewListener prepares a listener; ok is false for a codec that is not played. What the track says of AAC must be right.
func NewListener(t Track) (l *Listener, ok bool) {
	l = &Listener{track: t, Rate: t.ClockRate, Channels: max(1, t.Channels), Samples: true}
	switch t.Codec {
	case "PCMU":
		l.read = func(b []byte, each func([]byte)) { l.table(b, &muLaw, each) }
	case "PCMA":
		l.read = func(b []byte, each func([]byte)) { l.table(b, &aLaw, each) }
	case "L16": // RFC 3551 §4.5.11: most significant byte first
		l.read = func(b []byte, each func([]byte)) {
			l.buffer = l.buffer[:0]
			for ; len(b) >= 2; b = b[2:] {
				l.buffer = append(l.buffer, b[1], b[0])
			}
			each(l.buffer)
		}
	case "MPEG4-GENERIC":
		m := NewAudioMeter(t)
		raw, err := hex.DecodeString(t.Fmtp["config"])
		if err != nil || len(raw) < 2 || len(raw) > 64 || m.a.Problem != "" || !l.units.set(t.Fmtp) {
			return nil, false
		}
		r := bitReader{b: raw}
		l.Samples, l.Config, l.Object, l.Rate, l.Channels = false, raw, int(r.object()), m.a.SampleRate, m.a.Channels
		l.read = l.units.payload
	default:
		return nil, false
	}
	if l.Rate < 1000 || l.Rate > 96000 || l.Channels > 8 {
		return nil, false
	}
	return l, true
}

// Packet takes one RTP packet as it arrived and hands on what it holds, which is valid during the call.
func (l *Listener) Packet(b []byte, each func([]byte)) {
	if p, err := parseRTP(b); err == nil && p.payloadType == l.track.Payload {
		l.read(p.payload, each)
	}
}

func (l *Listener) table(b []byte, table *[256]int16, each func([]byte)) {
	l.buffer = l.buffer[:0]
	for _, x := range b {
		l.buffer = append(l.buffer, byte(table[x]), byte(uint16(table[x])>>8))
	}
	each(l.buffer)
}

// muLaw and aLaw are the samples of G.711 as 16 bits (ITU-T G.711 tables 1 and 2).
var muLaw, aLaw = func() (mu, a [256]int16) {
	for i := range 256 {
		m := ^byte(i)
		x := (int(m&0x0f)<<3+132)<<(m>>4&7) - 132
		if m&0x80 != 0 {
			x = -x
		}
		mu[i] = int16(x)
		v := byte(i) ^ 0x55
		y := int(v&0x0f)<<4 + 8
		if segment := v >> 4 & 7; segment > 0 {
			y = (y + 256) << (segment - 1)
		}
		if v&0x80 == 0 {
			y = -y
		}
		a[i] = int16(y)
	}
	return mu, a
}()

// A unitReader takes access units out of packets (RFC 3640 §3.2).
type unitReader struct{ size, index, delta int }

// maxUnits bounds the access units of one packet.
const maxUnits = 64

// set reads how long the fields of an AU header are; ok is false where that cannot be.
func (u *unitReader) set(fmtp map[string]string) (ok bool) {
	for name, to := range map[string]*int{"sizelength": &u.size, "indexlength": &u.index, "indexdeltalength": &u.delta} {
		if text := fmtp[name]; text != "" {
			n, err := strconv.Atoi(text)
			if err != nil || n < 0 || n > 16 {
				return false
			}
			*to = n
		}
	}
	return u.size > 0
}

// payload hands on the whole access units of a packet; one that is spread over several packets is left out.
func (u *unitReader) payload(b []byte, each func([]byte)) {
	if len(b) < 2 {
		return
	}
	bits := int(b[0])<<8 | int(b[1])
	n := (bits + 7) / 8
	if n > len(b)-2 {
		return
	}
	r := bitReader{b: b[2 : 2+n]}
	data := b[2+n:]
	for i := 0; i < maxUnits && bits >= u.size; i++ {
		size := int(r.bits(u.size))
		after := u.delta
		if i == 0 {
			after = u.index
		}
		r.skip(after)
		bits -= u.size + after
		if r.short || size == 0 || size > len(data) {
			return
		}
		each(data[:size])
		data = data[size:]
	}
}
