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

// Init appends the initialisation segment: ftyp and moov of one video track. It may be called once Frame has returned ok.
func (m *Muxer) Init(b []byte) []byte {
	b, at := open(b, "ftyp")
	b = append(b, "iso5\x00\x00\x00\x01iso5iso6mp41avc1"...)
	b = shut(b, at)
	b, moov := open(b, "moov")

	b, at = open(b, "mvhd")
	b = u32(b, 0, 0, 0, Timescale, 0, 0x10000) // times and duration are those of the fragments
	b = u16(b, 0x0100, 0)
	b = u32(b, 0, 0)
	b = u32(b, unity...)
	b = u32(b, 0, 0, 0, 0, 0, 0, 2)
	b = shut(b, at)

	b, trak := open(b, "trak")
	b, at = open(b, "tkhd")
	b = u32(b, 3, 0, 0, 1, 0, 0) // enabled, in the presentation
	b = u32(b, 0, 0)
	b = u16(b, 0, 0, 0, 0)
	b = u32(b, unity...)
	b = u32(b, uint32(m.pic.Width)<<16, uint32(m.pic.Height)<<16)
	b = shut(b, at)
	b, mdia := open(b, "mdia")
	b, at = open(b, "mdhd")
	b = u32(b, 0, 0, 0, Timescale, 0)
	b = u16(b, 0x55c4, 0) // no language
	b = shut(b, at)
	b, at = open(b, "hdlr")
	b = u32(b, 0, 0)
	b = append(b, "vide"...)
	b = u32(b, 0, 0, 0)
	b = append(b, "picture\x00"...)
	b = shut(b, at)
	b, minf := open(b, "minf")
	b, at = open(b, "vmhd")
	b = u32(b, 1)
	b = u16(b, 0, 0, 0, 0)
	b = shut(b, at)
	b, dinf := open(b, "dinf")
	b, at = open(b, "dref")
	b = u32(b, 0, 1)
	b, url := open(b, "url ")
	b = u32(b, 1) // in this very file
	b = shut(b, url)
	b = shut(b, at)
	b = shut(b, dinf)
	b = m.sampleTable(b)
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

// sampleTable is the stbl: what the samples are, and none of them, since all are in fragments.
func (m *Muxer) sampleTable(b []byte) []byte {
	b, stbl := open(b, "stbl")
	b, stsd := open(b, "stsd")
	b = u32(b, 0, 1)
	b, avc1 := open(b, "avc1") // §12.1.3, -15 §5.4.2
	b = u16(b, 0, 0, 0, 1, 0, 0)
	b = u32(b, 0, 0, 0)
	b = u16(b, uint16(m.pic.Width), uint16(m.pic.Height))
	b = u32(b, 0x480000, 0x480000, 0)
	b = u16(b, 1)
	b = append(b, make([]byte, 32)...)
	b = u16(b, 24, 0xffff)
	b, at := open(b, "avcC") // -15 §5.3.3.1
	b = append(b, 1, m.sps[1], m.sps[2], m.sps[3], 0xff, 0xe1)
	b = append(u16(b, uint16(len(m.sps))), m.sps...)
	b = append(b, 1)
	b = append(u16(b, uint16(len(m.pps))), m.pps...)
	b = shut(b, at)
	b = shut(b, avc1)
	b = shut(b, stsd)
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

// fragment appends moof and mdat of the frame under way.
func (m *Muxer) fragment(b []byte, key bool) []byte {
	m.seq++
	b, moof := open(b, "moof")
	b, at := open(b, "mfhd")
	b = u32(b, 0, m.seq)
	b = shut(b, at)
	b, traf := open(b, "traf")
	b, at = open(b, "tfhd")
	b = u32(b, 0x020000, 1) // offsets count from the moof
	b = shut(b, at)
	b, at = open(b, "tfdt")
	b = u32(b, 0x01000000)
	b = binary.BigEndian.AppendUint64(b, m.time)
	b = shut(b, at)
	b, at = open(b, "trun")
	b = u32(b, 0x000701, 1) // data offset; duration, size and flags of the one sample
	offset := len(b)
	flags := uint32(0x01010000) // rests on others
	if key {
		flags = 0x02000000
	}
	b = u32(b, 0, uint32(m.last), uint32(len(m.lengths)), flags)
	b = shut(b, at)
	b = shut(b, traf)
	b = shut(b, moof)
	binary.BigEndian.PutUint32(b[offset:], uint32(len(b)-moof+8))
	b, at = open(b, "mdat")
	b = append(b, m.lengths...)
	return shut(b, at)
}
