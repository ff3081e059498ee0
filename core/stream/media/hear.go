package media

import (
	"encoding/hex"
	"slices"
	"strconv"
)

// A Sounding is the form in which a Listener hands on sound.
type Sounding string

// The forms of sound.
const (
	Samples Sounding = "samples" // of 16 bits, least significant byte first
	AAC     Sounding = "aac"     // access units
	Opus    Sounding = "opus"    // packets (RFC 6716 §3)
)

// A Listener turns the RTP packets of an audio track into what can be played: samples of G.711, G.726 and L16, access units of AAC, packets
// of Opus. It is not safe for concurrent use and allocates nothing per packet once its buffers have grown.
type Listener struct {
	Form     Sounding
	Rate     int // samples a second
	Channels int
	Config   []byte // of AAC: its AudioSpecificConfig (ISO/IEC 14496-3 §1.6.2.1)
	Object   int    // of AAC: its object type

	track  Track
	read   func(p packet, each func([]byte))
	buffer []byte
}

// NewListener prepares a listener; ok is false for a codec that is not played. What the track says of AAC must be right.
func NewListener(t Track) (l *Listener, ok bool) {
	l = &Listener{Form: Samples, track: t, Rate: t.ClockRate, Channels: max(1, t.Channels)}
	switch t.Codec {
	case "PCMU":
		l.read = func(p packet, each func([]byte)) { l.table(p.payload, &muLaw, each) }
	case "PCMA":
		l.read = func(p packet, each func([]byte)) { l.table(p.payload, &aLaw, each) }
	case "L16":
		l.read = func(p packet, each func([]byte)) { l.l16(p.payload, each) }
	case "OPUS": // two channels, whatever the packets hold (RFC 7587 §4.1); each tells for how long it sounds
		l.Form, l.Rate, l.Channels = Opus, 48000, 2
		l.read = func(p packet, each func([]byte)) {
			if len(p.payload) > 0 {
				each(p.payload)
			}
		}
	case "MPEG4-GENERIC":
		units := unitReader{}
		raw, err := hex.DecodeString(t.Fmtp["config"])
		if err != nil || !units.set(t.Fmtp) || !l.aac(raw) {
			return nil, false
		}
		l.read = func(p packet, each func([]byte)) { units.payload(p.payload, each) }
	case "MP4A-LATM":
		latm, config, ok := newLATM(t.Fmtp)
		if !ok || !l.aac(config) {
			return nil, false
		}
		l.read = latm.packet
	default:
		if !l.g726() {
			return nil, false
		}
	}
	if l.Rate < 1000 || l.Rate > 96000 || l.Channels > 8 {
		return nil, false
	}
	return l, true
}

// Packet takes one RTP packet as it arrived and hands on what it holds, which is valid during the call.
func (l *Listener) Packet(b []byte, each func([]byte)) {
	if p, err := parseRTP(b); err == nil && p.payloadType == l.track.Payload {
		l.read(p, each)
	}
}

// aac takes what the description says of AAC.
func (l *Listener) aac(config []byte) (ok bool) {
	m := &AudioMeter{a: Audio{Channels: l.Channels}}
	if m.config(&bitReader{b: config}); m.a.Problem != "" || len(config) < 2 || len(config) > 64 {
		return false
	}
	l.Form, l.Config, l.Rate, l.Channels = AAC, config, m.a.SampleRate, m.a.Channels
	l.Object = int((&bitReader{b: config}).object())
	return true
}

// g726Bits are the bits a sample by the rate in kbit/s.
var g726Bits = map[string]int{"16": 2, "24": 3, "32": 4, "40": 5}

// g726 decodes G.726; ok is false for a track of another codec, rate or number of channels.
func (l *Listener) g726() (ok bool) {
	kbps, aal2, packed := l.track.g726()
	bits := g726Bits[kbps]
	decoder, ok := newG726(bits)
	l.read = func(p packet, each func([]byte)) {
		l.buffer = l.buffer[:0]
		held, have := 0, 0 // bits that are read and make no whole code yet
		for _, b := range p.payload {
			if aal2 {
				held = held<<8 | int(b)
			} else {
				held |= int(b) << have
			}
			for have += 8; have >= bits; have -= bits {
				code := held & (1<<bits - 1)
				if aal2 {
					code = held >> (have - bits)
					held &= 1<<(have-bits) - 1
				} else {
					held >>= bits
				}
				x := decoder.sample(code)
				l.buffer = append(l.buffer, byte(x), byte(uint16(x)>>8))
			}
		}
		each(l.buffer)
	}
	return packed && ok && l.Channels == 1
}

// l16 turns samples round (RFC 3551 §4.5.11: most significant byte first).
func (l *Listener) l16(b []byte, each func([]byte)) {
	l.buffer = l.buffer[:0]
	for ; len(b) >= 2; b = b[2:] {
		l.buffer = append(l.buffer, b[1], b[0])
	}
	each(l.buffer)
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

// ADTS returns the header of one access unit of AAC of some bytes, as a stream of them has it (ISO/IEC 13818-7 §6.2): without a CRC. The
// object type that it tells is at most 4, which is all that it has room for.
func (l *Listener) ADTS(size int) []byte {
	index := max(0, slices.Index(samplingRates, l.Rate))
	n := size + 7
	return []byte{0xff, 0xf1, byte(min(max(l.Object, 1), 4)-1)<<6 | byte(index)<<2 | byte(l.Channels>>2&1),
		byte(l.Channels&3)<<6 | byte(n>>11&3), byte(n >> 3), byte(n&7)<<5 | 0x1f, 0xfc}
}
