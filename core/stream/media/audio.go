package media

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"time"
)

// Audio is what came out of one audio track, measured.
type Audio struct {
	Codec       string   `json:"codec"`
	Profile     string   `json:"profile,omitempty" doc:"of AAC: its object type"`
	SampleRate  int      `json:"sample_rate"`
	Channels    int      `json:"channels,omitempty"`
	Packets     int      `json:"packets"`
	BitrateKbps float64  `json:"bitrate_kbps,omitempty" doc:"payload"`
	LevelDBFS   *float64 `json:"level_dbfs,omitempty" doc:"mean level below full scale, of codecs that tell it without decoding: G.711, L16"`
	Silent      bool     `json:"silent,omitempty" doc:"there is a track, and nothing in it"`
	Problem     string   `json:"problem,omitempty" doc:"why its configuration cannot be right"`
}

// silence is the level in dBFS below which a track is silent; a quiet room lies well above it.
const silence = -70

// An AudioMeter measures one audio track from its RTP packets. It is not safe for concurrent use and allocates nothing per packet.
type AudioMeter struct {
	track       Track
	first, last time.Time
	bytes       int64
	lastBytes   int64
	a           Audio
	samples     int64
	power       float64
	sample      func(b []byte) (n int, power float64) // nil where the codec tells no level
}

// NewAudioMeter prepares a meter for an audio track. What the description says of rate and channels stands in the codec's own
// configuration for AAC, and in a fixed clock rate for G.722 (RFC 3551 §4.5.2) and Opus (RFC 7587 §4.1).
func NewAudioMeter(t Track) *AudioMeter {
	m := &AudioMeter{track: t, a: Audio{Codec: t.CodecName(), SampleRate: t.ClockRate, Channels: max(1, t.Channels)}}
	switch t.Codec {
	case "PCMU":
		m.sample = func(b []byte) (int, float64) { return tablePower(b, &muLawPower) }
	case "PCMA":
		m.sample = func(b []byte) (int, float64) { return tablePower(b, &aLawPower) }
	case "L16":
		m.sample = l16Power
	case "G722":
		m.a.SampleRate = 16000
	case "OPUS": // the rtpmap always says two (RFC 7587 §7)
		if t.Fmtp["sprop-stereo"] != "1" {
			m.a.Channels = 1
		}
	case "MPA":
		if rate, err := strconv.Atoi(t.Fmtp["rate"]); err == nil {
			m.a.SampleRate = rate
		}
	case "MPEG4-GENERIC", "MP4A-LATM":
		m.aac()
	}
	if _, aal2, ok := t.g726(); ok {
		m.a.Profile = "least significant bits first"
		if aal2 {
			m.a.Profile = "most significant bits first"
		}
	}
	return m
}

// aac reads what the description says of an AAC stream; in a LATM stream with cpresent=1 that is nothing, since it stands in band.
func (m *AudioMeter) aac() {
	text := m.track.Fmtp["config"]
	if text == "" {
		return
	}
	if len(text) > 2*maxSet {
		m.a.Problem = fmt.Sprintf("the configuration is %d bytes long", len(text)/2)
		return
	}
	raw, err := hex.DecodeString(text)
	if err != nil {
		m.a.Problem = "the configuration is not in hexadecimal"
		return
	}
	r := &bitReader{b: raw}
	if m.track.Codec == "MP4A-LATM" {
		r.latm()
	}
	m.config(r)
}

// latm reads the beginning of StreamMuxConfig (ISO/IEC 14496-3 §1.7.3.1), up to the AudioSpecificConfig of the first layer.
func (r *bitReader) latm() {
	if version := r.bit(); version {
		if reserved := r.bit(); reserved { // audioMuxVersionA
			r.short = true
			return
		}
	}
	r.skip(1 + 6 + 4 + 3) // allStreamsSameTimeFraming, numSubFrames, numProgram, numLayer
}

// objectTypes are the audio object types that are met (ISO/IEC 14496-3 table 1.17).
var objectTypes = map[uint32]string{1: "Main", 2: "LC", 3: "SSR", 4: "LTP", 5: "HE-AAC", 23: "LD", 29: "HE-AAC v2", 39: "ELD",
	42: "xHE-AAC"}

// config reads an AudioSpecificConfig (ISO/IEC 14496-3 §1.6.2.1).
func (m *AudioMeter) config(r *bitReader) {
	object := r.object()
	rate := r.frequency()
	channels := r.bits(4)
	if object == 5 || object == 29 { // the rate of what is played is that of the extension
		rate = r.frequency()
	}
	if r.short || rate == 0 || rate > 96000 {
		m.a.Problem = "the configuration cannot be read"
		return
	}
	m.a.SampleRate = int(rate)
	if m.a.Profile = objectTypes[object]; m.a.Profile == "" {
		m.a.Profile = fmt.Sprintf("object type %d", object)
	}
	switch {
	case channels == 7:
		m.a.Channels = 8
	case channels > 0 && channels < 7:
		m.a.Channels = int(channels)
	}
}

func (r *bitReader) object() uint32 {
	if n := r.bits(5); n != 31 {
		return n
	}
	return 32 + r.bits(6)
}

// frequency reads samplingFrequencyIndex (table 1.18), or the frequency itself.
func (r *bitReader) frequency() uint32 {
	n := int(r.bits(4))
	switch {
	case n == 15:
		return r.bits(24)
	case n < len(samplingRates):
		return uint32(samplingRates[n])
	}
	return 0
}

// Packet takes one RTP packet as it arrived.
func (m *AudioMeter) Packet(b []byte, at time.Time) {
	p, err := parseRTP(b)
	if err != nil || p.payloadType != m.track.Payload {
		return
	}
	if m.first.IsZero() {
		m.first = at
	}
	m.a.Packets++
	m.last, m.lastBytes = at, int64(len(p.payload))
	m.bytes += int64(len(p.payload))
	if m.sample != nil {
		n, power := m.sample(p.payload)
		m.samples += int64(n)
		m.power += power
	}
	if m.a.Packets == 1 && m.track.Codec == "MP4A-LATM" && m.track.Fmtp["config"] == "" {
		m.inBand(p.payload)
	}
}

// inBand reads the configuration at the beginning of an AudioMuxElement (ISO/IEC 14496-3 §1.7.3.1).
func (m *AudioMeter) inBand(b []byte) {
	r := &bitReader{b: b[:min(len(b), 64)]}
	if r.bit() { // useSameStreamMux: as before, of which nothing is known
		return
	}
	r.latm()
	m.config(r)
}

// Measured sums up what has come; nil where nothing has.
func (m *AudioMeter) Measured() *Audio {
	if m.a.Packets == 0 {
		return nil
	}
	out := m.a
	if d := m.last.Sub(m.first).Seconds(); d > 0 {
		out.BitrateKbps = math.Round(float64(m.bytes-m.lastBytes)*8/100/d) / 10
	}
	if m.samples > 0 {
		level := -96.0 // the floor of 16 bits
		if m.power > 0 {
			level = max(level, 10*math.Log10(m.power/float64(m.samples)))
		}
		level = math.Round(level*10) / 10
		out.LevelDBFS, out.Silent = &level, level < silence
	}
	return &out
}

// muLawPower and aLawPower are the squares of the samples of G.711, full scale as 1.
var muLawPower, aLawPower = func() (mu, a [256]float64) {
	for i := range 256 {
		x := float64(muLaw[i]) / 32124
		mu[i] = x * x
		y := float64(aLaw[i]) / 32256
		if aLaw[i] == 8 || aLaw[i] == -8 { // the smallest value of A-law stands for nothing
			y = 0
		}
		a[i] = y * y
	}
	return mu, a
}()

func tablePower(b []byte, table *[256]float64) (n int, power float64) {
	for _, s := range b {
		power += table[s]
	}
	return len(b), power
}

// l16Power reads 16-bit samples in network order (RFC 3551 §4.5.11).
func l16Power(b []byte) (n int, power float64) {
	for ; len(b) >= 2; b = b[2:] {
		x := float64(int16(binary.BigEndian.Uint16(b))) / 32768
		power += x * x
		n++
	}
	return n, power
}
