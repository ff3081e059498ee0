package media

import "encoding/binary"

// maxFragment is the largest payload that is sent in one packet, in bytes: with all heads it fits what networks carry in one piece.
const maxFragment = 1400

// A Fragmenter cuts RTP packets that carry a NAL unit or a JPEG file of any length into packets that a network carries: fragmentation
// units of H.264 (RFC 6184 §5.8) and of H.265 (RFC 7798 §4.4.3), parts of a scan (RFC 2435 §3.1). Packets that fit stay as they are but
// for their sequence numbers, which are counted anew. One is for one track; it is not safe for concurrent use.
type Fragmenter struct {
	Codec string // of the track, as in its rtpmap
	Files bool   // of JPEG: each packet is a whole file, see Track.Files
	seq   uint16
	out   []byte
	head  []byte
}

// Packet hands on the packets that b becomes, each valid during the call. A packet that cannot be read, or that is too long and of another
// codec, becomes none; the error says of a JPEG file why RTP does not carry it.
func (f *Fragmenter) Packet(b []byte, each func([]byte)) error {
	p, err := parseRTP(b)
	if err != nil {
		return nil
	}
	head := b[:12] // contributing sources and extensions are left out
	if f.Files {
		return f.file(head, p.payload, each)
	}
	if len(p.payload) <= maxFragment {
		f.send(head, p.marker, p.payload, nil, each)
		return nil
	}
	var unit, first []byte // what stands before each part, and which bit of its last byte marks the first
	switch h := p.payload; f.Codec {
	case "H264":
		unit, first = []byte{h[0]&0xe0 | 28, h[0] & 0x1f}, h[1:]
	case "H265":
		unit, first = []byte{h[0]&0x81 | 49<<1, h[1], h[0] >> 1 & 0x3f}, h[2:]
	default:
		return nil
	}
	kind := unit[len(unit)-1]
	for rest, start := first, byte(0x80); len(rest) > 0; start = 0 {
		n := min(len(rest), maxFragment-len(unit))
		last := n == len(rest)
		unit[len(unit)-1] = kind | start
		if last {
			unit[len(unit)-1] |= 0x40
		}
		f.send(head, p.marker && last, unit, rest[:n], each)
		rest = rest[n:]
	}
	return nil
}

// send hands on one packet.
func (f *Fragmenter) send(head []byte, marker bool, payload, more []byte, each func([]byte)) {
	f.out = append(f.out[:0], 0x80, head[1]&0x7f)
	if marker {
		f.out[1] |= 0x80
	}
	f.out = binary.BigEndian.AppendUint16(f.out, f.seq)
	f.out = append(append(append(f.out, head[4:12]...), payload...), more...)
	f.seq++
	each(f.out)
}
