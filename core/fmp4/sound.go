package fmp4

import "fmt"

// A Sound writes live AAC (ISO/IEC 14496-3). Its times count samples. It is not safe for concurrent use.
type Sound struct {
	Config   []byte // the AudioSpecificConfig (§1.6.2.1), at most 64 bytes
	Object   int    // audio object type: 2 for LC
	Rate     int    // samples a second
	Channels int

	seq  uint32
	time uint64
}

// samplesAFrame is what a frame of AAC holds (§4.5.2.1.1); the short frames of 960 samples are not met in cameras.
const samplesAFrame = 1024

// Frame appends the fragment of one access unit to dst.
func (s *Sound) Frame(dst, unit []byte) []byte {
	s.seq++
	dst = sample{s.seq, samplesAFrame, s.time, true, unit}.fragment(dst)
	s.time += samplesAFrame
	return dst
}

// Init appends the initialisation segment.
func (s *Sound) Init(b []byte) []byte {
	return track{handler: "soun", timescale: uint32(s.Rate), entry: s.entry}.initial(b)
}

// MIME is the type for a browser.
func (s *Sound) MIME() string { return fmt.Sprintf(`audio/mp4; codecs="mp4a.40.%d"`, s.Object) }

func (s *Sound) entry(b []byte) []byte {
	b, mp4a := open(b, "mp4a")
	b = u16(b, 0, 0, 0, 1)
	b = u32(b, 0, 0)
	b = u16(b, uint16(s.Channels), 16, 0, 0)
	b = u32(b, uint32(min(s.Rate, 0xffff))<<16)
	b, at := open(b, "esds") // ISO/IEC 14496-14 §5.6, with the descriptors of 14496-1 §7.2.6
	b = u32(b, 0)
	n := byte(len(s.Config))
	b = append(b, 3, 23+n, 0, 0, 0)             // ES descriptor
	b = append(b, 4, 15+n, 0x40, 0x15, 0, 0, 0) // decoder configuration: AAC, an audio stream
	b = u32(b, 0, 0)
	b = append(append(b, 5, n), s.Config...)
	b = append(b, 6, 1, 2) // sync layer: as in MP4
	return shut(shut(b, at), mp4a)
}
