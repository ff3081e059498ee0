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

// A track is what the initialisation segment says of the one track of a file.
type track struct {
	handler       string // "vide" or "soun" (§8.4.3)
	timescale     uint32
	width, height int
	entry         func(b []byte) []byte // appends the sample entry
}

// initial appends ftyp and moov of one track, all of whose samples are in fragments.
func (t track) initial(b []byte) []byte {
	b, at := open(b, "ftyp")
	b = append(b, "iso5\x00\x00\x00\x01iso5iso6mp41"...)
	b = shut(b, at)
	b, moov := open(b, "moov")

	b, at = open(b, "mvhd")
	b = u32(b, 0, 0, 0, t.timescale, 0, 0x10000) // times and duration are those of the fragments
	b = u16(b, 0x0100, 0)
	b = u32(b, 0, 0)
	b = u32(b, unity...)
	b = u32(b, 0, 0, 0, 0, 0, 0, 2)
	b = shut(b, at)

	sound := t.handler == "soun"
	b, trak := open(b, "trak")
	b, at = open(b, "tkhd")
	b = u32(b, 3, 0, 0, 1, 0, 0) // enabled, in the presentation
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
	b = shut(b, trak)

	b, mvex := open(b, "mvex")
	b, at = open(b, "trex")
	b = u32(b, 0, 1, 1, 0, 0, 0)
	b = shut(b, at)
	b = shut(b, mvex)
	return shut(b, moov)
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
	seq, duration uint32
	time          uint64
	key           bool // it rests on no other
	data          []byte
}

// fragment appends moof and mdat of a sample (§8.8).
func (s sample) fragment(b []byte) []byte {
	b, moof := open(b, "moof")
	b, at := open(b, "mfhd")
	b = u32(b, 0, s.seq)
	b = shut(b, at)
	b, traf := open(b, "traf")
	b, at = open(b, "tfhd")
	b = u32(b, 0x020000, 1) // offsets count from the moof
	b = shut(b, at)
	b, at = open(b, "tfdt")
	b = u32(b, 0x01000000)
	b = binary.BigEndian.AppendUint64(b, s.time)
	b = shut(b, at)
	b, at = open(b, "trun")
	b = u32(b, 0x000701, 1) // data offset; duration, size and flags of the one sample
	offset := len(b)
	flags := uint32(0x01010000) // rests on others
	if s.key {
		flags = 0x02000000
	}
	b = u32(b, 0, s.duration, uint32(len(s.data)), flags)
	b = shut(b, at)
	b = shut(b, traf)
	b = shut(b, moof)
	binary.BigEndian.PutUint32(b[offset:], uint32(len(b)-moof+8))
	b, at = open(b, "mdat")
	b = append(b, s.data...)
	return shut(b, at)
}
