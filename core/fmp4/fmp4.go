// Package fmp4 writes fragmented MP4 (ISO/IEC 14496-12, -15) of live H.264 for a browser's Media Source: an initialisation segment, and a
// fragment a frame, so that a picture is shown as soon as it has come. It is written into buffers of the caller's and allocates nothing a
// frame once those have grown.
package fmp4

import (
	"encoding/binary"
	"fmt"

	"unlatch/core/media"
)

// Timescale is the clock of all times, in Hz: that of RTP video.
const Timescale = 90000

// usualTicks is how long a frame is taken to last before a second one tells.
const usualTicks = Timescale / 25

// longestTicks bounds what one frame may last: a camera that was away goes on where the browser is, and not a minute later.
const longestTicks = 10 * Timescale

// A Muxer writes one live picture. It is not safe for concurrent use.
type Muxer struct {
	sps, pps []byte
	pic      media.Picture
	// Generation counts the initialisation segments: with another one everything begins anew.
	Generation int

	seq     uint32
	begun   bool
	stamp   uint32 // of the last frame, as it came
	time    uint64 // of the last frame, in ticks since the first; it never goes back
	last    uint64 // ticks that the last frame lasted
	lengths []byte // the frame under way with the length before each NAL unit
}

// Frame takes one frame, a byte stream of NAL units (ITU-T H.264 annex B) with its RTP time, and appends its fragment to dst. ok is false while
// nothing can be shown yet: before the first key frame with its parameter sets. A key frame with other parameter sets raises Generation.
func (m *Muxer) Frame(dst []byte, frame []byte, key bool, stamp uint32) (out []byte, ok bool) {
	m.lengths = m.lengths[:0]
	for rest := frame; ; {
		var nal []byte
		if nal, rest = next(rest); nal == nil {
			break
		}
		switch nal[0] & 0x1f {
		case 7:
			if key {
				m.parameterSets(nal, nil)
			}
		case 8:
			if key {
				m.parameterSets(nil, nal)
			}
		case 9: // an access unit delimiter says nothing in MP4
		default:
			m.lengths = append(binary.BigEndian.AppendUint32(m.lengths, uint32(len(nal))), nal...)
		}
	}
	if m.pic.Width == 0 || m.pps == nil || !m.begun && !key || len(m.lengths) == 0 {
		return dst, false
	}
	m.advance(stamp)
	return m.fragment(dst, key), true
}

// parameterSets keeps new ones; others than before begin a generation.
func (m *Muxer) parameterSets(sps, pps []byte) {
	if sps != nil && string(sps) != string(m.sps) {
		pic, err := media.ParseSPS(sps)
		if err != nil {
			return
		}
		m.sps, m.pic = append([]byte(nil), sps...), *pic
		m.Generation++
	}
	if pps != nil && string(pps) != string(m.pps) {
		m.pps = append([]byte(nil), pps...)
		m.Generation++
	}
}

// advance moves the time on by what the RTP clock says. A clock that jumps, back or far ahead, moves it by a usual frame.
func (m *Muxer) advance(stamp uint32) {
	if !m.begun {
		m.begun, m.stamp, m.last = true, stamp, usualTicks
		return
	}
	delta := uint64(stamp - m.stamp) // modulo 2^32: the clock wraps every thirteen hours
	if delta == 0 || delta > longestTicks {
		delta = m.last
	}
	m.time += delta
	m.stamp, m.last = stamp, delta
}

// Time is the decode time of the last frame in ticks.
func (m *Muxer) Time() uint64 { return m.time }

// MIME is the type for a browser: it names profile, constraints and level (RFC 6381 §3.3).
func (m *Muxer) MIME() string {
	if len(m.sps) < 4 {
		return ""
	}
	return fmt.Sprintf(`video/mp4; codecs="avc1.%02X%02X%02X"`, m.sps[1], m.sps[2], m.sps[3])
}

// Size is the size of the picture in pixels.
func (m *Muxer) Size() (width, height int) { return m.pic.Width, m.pic.Height }

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

// startCode is where the first NAL unit begins, or -1.
func startCode(b []byte) int {
	for i := 0; i+2 < len(b); i++ {
		if b[i] == 0 && b[i+1] == 0 && b[i+2] == 1 {
			return i + 3
		}
	}
	return -1
}
