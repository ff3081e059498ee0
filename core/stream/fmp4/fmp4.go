// Package fmp4 writes fragmented MP4 (ISO/IEC 14496-12, -14, -15) of live H.264, H.265 and AAC for a browser's Media Source: an
// initialisation segment, and a fragment a frame, so that a picture is shown as soon as it has come. It is written into buffers of the
// caller's and allocates nothing a frame once those have grown.
package fmp4

import (
	"encoding/binary"
	"strings"

	"unlatch/core/stream/media"
)

// Timescale is the clock of all times of a picture, in Hz: that of RTP video.
const Timescale = 90000

// usualTicks is how long a frame is taken to last before a second one tells.
const usualTicks = Timescale / 25

// Numbers of the tracks of a file.
const (
	pictureTrack = 1
	soundTrack   = 2
)

// A codec is how frames of NAL units are described in MP4.
type codec interface {
	// set takes a NAL unit where it is a parameter set or says nothing in MP4 (taken), and reports whether it is another one than before.
	set(nal []byte, key bool) (taken, changed bool)
	// picture is what the parameter sets say; nil while some are missing.
	picture() *media.Picture
	entry(b []byte) []byte // appends the sample entry
	mime() string
}

// A Muxer writes one live picture. Its zero value writes H.264. It is not safe for concurrent use.
type Muxer struct {
	// H265 says that the frames are of H.265.
	H265 bool
	// Generation counts the initialisation segments: with another one everything begins anew.
	Generation int

	codec   codec
	seq     uint32
	begun   bool
	times   media.DecodeTimes
	time    int64  // at which the last frame is decoded, in ticks since the first
	last    int64  // ticks that the last frame lasted
	lengths []byte // the frame under way with the length before each NAL unit
}

// Frame takes one frame, a byte stream of NAL units (annex B of ITU-T H.264 and H.265) with its RTP time, and appends its fragment to dst.
// ok is false while nothing can be shown yet: before the first key frame with its parameter sets. A key frame with other parameter sets
// raises Generation.
func (m *Muxer) Frame(dst []byte, frame []byte, key bool, stamp uint32) (out []byte, ok bool) {
	if m.codec == nil {
		if m.codec = new(avc); m.H265 {
			m.codec = new(hevc)
		}
	}
	m.lengths = m.lengths[:0]
	for rest := frame; ; {
		var nal []byte
		if nal, rest = next(rest); nal == nil {
			break
		}
		taken, changed := m.codec.set(nal, key)
		if changed {
			m.Generation++
		}
		if !taken {
			m.lengths = append(binary.BigEndian.AppendUint32(m.lengths, uint32(len(nal))), nal...)
		}
	}
	if m.codec.picture() == nil || !m.begun && !key || len(m.lengths) == 0 {
		return dst, false
	}
	decode, show := m.times.Next(stamp)
	if m.last = usualTicks; m.begun {
		m.last = decode - m.time
	}
	m.begun, m.time = true, decode
	m.seq++
	return sample{pictureTrack, m.seq, uint32(m.last), uint64(decode), int32(show - decode), key, m.lengths}.fragment(dst), true
}

// Init appends the initialisation segment. It may be called once Frame has returned ok.
func (m *Muxer) Init(b []byte) []byte {
	return initial(b, m.track())
}

// InitWith appends the initialisation segment of a file that has the picture, and sound beside it.
func (m *Muxer) InitWith(b []byte, s *Sound) []byte { return initial(b, m.track(), s.track()) }

func (m *Muxer) track() track {
	w, h := m.Size()
	return track{pictureTrack, "vide", Timescale, w, h, m.codec.entry}
}

// Time returns the decode time of the last frame in ticks.
func (m *Muxer) Time() uint64 { return uint64(m.time) }

// MIME returns the type for a browser: it names profile, constraints and level (RFC 6381 §3.3; ISO/IEC 14496-15 annex E). It is "" before
// Frame has returned ok.
func (m *Muxer) MIME() string {
	if m.codec == nil || m.codec.picture() == nil {
		return ""
	}
	return m.codec.mime()
}

// Codec returns the name of the codec in such a type; "" before Frame has returned ok.
func (m *Muxer) Codec() string {
	_, name, _ := strings.Cut(m.MIME(), `"`)
	return strings.TrimSuffix(name, `"`)
}

// Size returns the size of the picture in pixels.
func (m *Muxer) Size() (width, height int) {
	if m.codec == nil || m.codec.picture() == nil {
		return 0, 0
	}
	p := m.codec.picture()
	return p.Width, p.Height
}

// visual appends what the sample entries of all pictures begin with (§12.1.3).
func visual(b []byte, p *media.Picture) []byte {
	b = u16(b, 0, 0, 0, 1, 0, 0)
	b = u32(b, 0, 0, 0)
	b = u16(b, uint16(p.Width), uint16(p.Height))
	b = u32(b, 0x480000, 0x480000, 0)
	b = u16(b, 1)
	for range 8 {
		b = u32(b, 0)
	}
	return u16(b, 24, 0xffff)
}

// next splits the first NAL unit off a byte stream.
func next(b []byte) (nal, rest []byte) {
	begin := startCode(b)
	if begin < 0 {
		return nil, nil
	}
	b = b[begin:]
	end := len(b)
	for i := 0; i+2 < len(b); i++ {
		if b[i] == 0 && b[i+1] == 0 && b[i+2] == 1 {
			end = i
			break
		}
	}
	nal, rest = b[:end], b[end:]
	for len(nal) > 0 && nal[len(nal)-1] == 0 {
		nal = nal[:len(nal)-1]
	}
	if len(nal) == 0 {
		return next(rest)
	}
	return nal, rest
}

// startCode returns where the first NAL unit begins, or -1.
func startCode(b []byte) int {
	for i := 0; i+2 < len(b); i++ {
		if b[i] == 0 && b[i+1] == 0 && b[i+2] == 1 {
			return i + 3
		}
	}
	return -1
}
