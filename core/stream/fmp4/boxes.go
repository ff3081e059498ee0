package fmp4

import "encoding/binary"

// A box begins with its size, which is filled in when it is whole (ISO/IEC 14496-12 §4.2).
func open(b []byte, kind string) ([]byte, int) { return append(append(b, 0, 0, 0, 0), kind...), len(b) }

func shut(b []byte, at int) []byte {
	binary.BigEndian.PutUint32(b[at:], uint32(len(b)-at))
	return b
}

func u16(b []byte, v ...uint16) []byte {
	for _, x := range v {
		b = binary.BigEndian.AppendUint16(b, x)
	}
	return b
}

func u32(b []byte, v ...uint32) []byte {
	for _, x := range v {
		b = binary.BigEndian.AppendUint32(b, x)
	}
	return b
}

// unity is the matrix of a picture that is shown as it is (§8.2.2).
var unity = []uint32{0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000}

// A track is what the initialisation segment says of one track of a file.
type track struct {
	id            uint32
	handler       string // "vide" or "soun" (§8.4.3)
	timescale     uint32
	width, height int
	entry         func(b []byte) []byte // appends the sample entry
}

// initial appends ftyp and moov of some tracks, all of whose samples are in fragments.
func initial(b []byte, tracks ...track) []byte {
	b, at := open(b, "ftyp")
	b = append(b, "iso5\x00\x00\x00\x01iso5iso6mp41"...)
	b = shut(b, at)
	b, moov := open(b, "moov")
	b, at = open(b, "mvhd")
	b = u32(b, 0, 0, 0, tracks[0].timescale, 0, 0x10000) // times and duration are those of the fragments
	b = u16(b, 0x0100, 0)
	b = u32(b, 0, 0)
	b = u32(b, unity...)
	b = u32(b, 0, 0, 0, 0, 0, 0, uint32(len(tracks)+1))
	b = shut(b, at)
	for _, t := range tracks {
		b = t.box(b)
	}
	b, mvex := open(b, "mvex")
	for _, t := range tracks {
		b, at = open(b, "trex")
		b = u32(b, 0, t.id, 1, 0, 0, 0)
		b = shut(b, at)
	}
	b = shut(b, mvex)
	return shut(b, moov)
}

// box appends the trak (§8.3).
func (t track) box(b []byte) []byte {
	sound := t.handler == "soun"
	b, trak := open(b, "trak")
	b, at := open(b, "tkhd")
	b = u32(b, 3, 0, 0, t.id, 0, 0) // enabled, in the presentation
	b = u32(b, 0, 0)
	volume := uint16(0)
	if sound {
		volume = 0x0100
	}
	b = u16(b, 0, 0, volume, 0)
	b = u32(b, unity...)
	b = u32(b, uint32(t.width)<<16, uint32(t.height)<<16)
	b = shut(b, at)
	b, mdia := open(b, "mdia")
	b, at = open(b, "mdhd")
	b = u32(b, 0, 0, 0, t.timescale, 0)
	b = u16(b, 0x55c4, 0) // no language
	b = shut(b, at)
	b, at = open(b, "hdlr")
	b = u32(b, 0, 0)
	b = append(b, t.handler...)
	b = u32(b, 0, 0, 0)
	b = append(b, "camera\x00"...)
	b = shut(b, at)
	b, minf := open(b, "minf")
	if sound {
		b, at = open(b, "smhd")
		b = u32(b, 0, 0)
	} else {
		b, at = open(b, "vmhd")
		b = u32(b, 1)
		b = u16(b, 0, 0, 0, 0)
	}
	b = shut(b, at)
	b, dinf := open(b, "dinf")
	b, at = open(b, "dref")
	b = u32(b, 0, 1)
	b, url := open(b, "url ")
	b = u32(b, 1) // in this very file
	b = shut(b, url)
	b = shut(b, at)
	b = shut(b, dinf)
	b = t.sampleTable(b)
	b = shut(b, minf)
	b = shut(b, mdia)
	return shut(b, trak)
}

// sampleTable returns the stbl: what the samples are, and none of them, since all are in fragments.
func (t track) sampleTable(b []byte) []byte {
	b, stbl := open(b, "stbl")
	b, at := open(b, "stsd")
	b = u32(b, 0, 1)
	b = t.entry(b)
	b = shut(b, at)
	for _, kind := range []string{"stts", "stsc", "stco"} {
		b, at = open(b, kind)
		b = u32(b, 0, 0)
		b = shut(b, at)
	}
	b, at = open(b, "stsz")
	b = u32(b, 0, 0, 0)
	b = shut(b, at)
	return shut(b, stbl)
}

// A sample is one frame, which makes a fragment by itself.
type sample struct {
	track, seq, duration uint32
	time                 uint64 // of decoding
	offset               int32  // by which it is shown later
	key                  bool   // it rests on no other
	data                 []byte
}

// fragment appends moof and mdat of a sample (§8.8).
func (s sample) fragment(b []byte) []byte {
	b, moof := open(b, "moof")
	b, at := open(b, "mfhd")
	b = u32(b, 0, s.seq)
	b = shut(b, at)
	b, traf := open(b, "traf")
	b, at = open(b, "tfhd")
	b = u32(b, 0x020000, s.track) // offsets count from the moof
	b = shut(b, at)
	b, at = open(b, "tfdt")
	b = u32(b, 0x01000000)
	b = binary.BigEndian.AppendUint64(b, s.time)
	b = shut(b, at)
	b, at = open(b, "trun")
	b = u32(b, 0x01000f01, 1) // data offset; duration, size, flags and offset of the one sample
	offset := len(b)
	flags := uint32(0x01010000) // rests on others
	if s.key {
		flags = 0x02000000
	}
	b = u32(b, 0, s.duration, uint32(len(s.data)), flags, uint32(s.offset))
	b = shut(b, at)
	b = shut(b, traf)
	b = shut(b, moof)
	binary.BigEndian.PutUint32(b[offset:], uint32(len(b)-moof+8))
	b, at = open(b, "mdat")
	b = append(b, s.data...)
	return shut(b, at)
}
