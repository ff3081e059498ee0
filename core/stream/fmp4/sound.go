package fmp4

import (
	"fmt"

	"unlatch/core/stream/media"
)

// A Sound writes live AAC (ISO/IEC 14496-3) or Opus (RFC 6716). Its times count samples. It is not safe for concurrent use.
type Sound struct {
	Opus     bool
	Config   []byte // of AAC: the AudioSpecificConfig (§1.6.2.1), at most 64 bytes
	Object   int    // of AAC: audio object type, 2 for LC
	Rate     int    // samples a second; of Opus 48000
	Channels int

	// Time is that of the next frame, in samples; for sound beside a picture it is set before the first.
	Time uint64

	seq uint32
}

// samplesAFrame is what a frame of AAC holds (§4.5.2.1.1); the short frames of 960 samples are not met in cameras.
const samplesAFrame = 1024

// Frame appends the fragment of one access unit, or packet of Opus, to dst.
func (s *Sound) Frame(dst, unit []byte) []byte {
	lasts := uint32(s.Samples(unit))
	s.seq++
	dst = sample{soundTrack, s.seq, lasts, s.Time, 0, true, unit}.fragment(dst)
	s.Time += uint64(lasts)
	return dst
}

// Samples returns how many samples an access unit, or packet of Opus, holds.
func (s *Sound) Samples(unit []byte) int {
	if s.Opus {
		return int(media.OpusSamples(unit))
	}
	return samplesAFrame
}

// Init appends the initialisation segment.
func (s *Sound) Init(b []byte) []byte {
	return initial(b, s.track())
}

func (s *Sound) track() track {
	return track{id: soundTrack, handler: "soun", timescale: uint32(s.Rate), entry: s.entry}
}

// MIME returns the type for a browser.
func (s *Sound) MIME() string { return fmt.Sprintf("audio/mp4; codecs=%q", s.Codec()) }

// Codec returns the name of the codec in such a type (RFC 6381 §3.3).
func (s *Sound) Codec() string {
	if s.Opus {
		return "opus"
	}
	return fmt.Sprintf("mp4a.40.%d", s.Object)
}

func (s *Sound) entry(b []byte) []byte {
	kind := "mp4a"
	if s.Opus {
		kind = "Opus"
	}
	b, entry := open(b, kind)
	b = u16(b, 0, 0, 0, 1)
	b = u32(b, 0, 0)
	b = u16(b, uint16(s.Channels), 16, 0, 0)
	b = u32(b, uint32(min(s.Rate, 0xffff))<<16)
	if s.Opus { // the specific box of the encapsulation of Opus in ISO media files: version 0, no samples to skip, no gain, one stream
		b, at := open(b, "dOps")
		b = append(b, 0, byte(s.Channels), 0, 0)
		b = u32(b, uint32(s.Rate))
		b = append(b, 0, 0, 0)
		return shut(shut(b, at), entry)
	}
	b, at := open(b, "esds") // ISO/IEC 14496-14 §5.6, with the descriptors of 14496-1 §7.2.6
	b = u32(b, 0)
	n := byte(len(s.Config))
	b = append(b, 3, 23+n, 0, 0, 0)             // ES descriptor
	b = append(b, 4, 15+n, 0x40, 0x15, 0, 0, 0) // decoder configuration: AAC, an audio stream
	b = u32(b, 0, 0)
	b = append(append(b, 5, n), s.Config...)
	b = append(b, 6, 1, 2) // sync layer: as in MP4
	return shut(shut(b, at), entry)
}
