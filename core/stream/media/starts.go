package media

import "encoding/binary"

// Starts reports whether an RTP packet of a codec begins something that a decoder can begin with: a picture that rests on no other, or the
// parameter sets before it. Of codecs whose every picture stands by itself, each first packet of a picture does. A packet that cannot be
// read begins nothing.
func Starts(codec string, b []byte) bool {
	p, err := parseRTP(b)
	if err != nil || len(p.payload) == 0 {
		return false
	}
	switch codec {
	case "H264":
		return starts264(p.payload)
	case "H265":
		return starts265(p.payload)
	case "JPEG":
		return len(p.payload) >= 4 && p.payload[1] == 0 && p.payload[2] == 0 && p.payload[3] == 0 || // RFC 2435 §3.1: offset 0
			len(p.payload) >= 2 && p.payload[0] == 0xff && p.payload[1] == 0xd8 // a whole file
	case "MP4V-ES":
		return startsMPEG4(p.payload)
	}
	return true
}

// starts264 looks for a sequence parameter set or an IDR picture (H.264 table 7-1) in a packet as RFC 6184 has it.
func starts264(b []byte) bool {
	key := func(header byte) bool { kind := header & 0x1f; return kind == 7 || kind == 5 }
	switch kind := b[0] & 0x1f; kind {
	case 24: // STAP-A: lengths and units
		for b = b[1:]; len(b) > 2; {
			n := int(binary.BigEndian.Uint16(b))
			if b = b[2:]; n == 0 || n > len(b) {
				return false
			}
			if key(b[0]) {
				return true
			}
			b = b[n:]
		}
		return false
	case 28: // FU-A: its second byte says whether it begins a unit, and of which kind
		return len(b) > 1 && b[1]&0x80 != 0 && key(b[1])
	}
	return key(b[0])
}

// starts265 looks for a parameter set or a picture that rests on no other (H.265 table 7-1: IRAP, 16 to 21) in a packet as RFC 7798 has it.
func starts265(b []byte) bool {
	key := func(kind byte) bool { return kind >= 32 && kind <= 34 || kind >= 16 && kind <= 21 }
	switch kind := b[0] >> 1 & 0x3f; kind {
	case 48: // an aggregation packet
		for b = b[min(2, len(b)):]; len(b) > 2; {
			n := int(binary.BigEndian.Uint16(b))
			if b = b[2:]; n == 0 || n > len(b) {
				return false
			}
			if key(b[0] >> 1 & 0x3f) {
				return true
			}
			b = b[n:]
		}
		return false
	case 49: // a fragment
		return len(b) > 2 && b[2]&0x80 != 0 && key(b[2]&0x3f)
	default:
		return key(kind)
	}
}

// startsMPEG4 looks for a header of a sequence, of a group or of a layer, or for an intra-coded picture (ISO/IEC 14496-2 §6.2).
func startsMPEG4(b []byte) bool {
	if len(b) < 5 || b[0] != 0 || b[1] != 0 || b[2] != 1 {
		return false
	}
	switch code := b[3]; {
	case code == 0xb0, code == 0xb3, code >= 0x20 && code <= 0x2f:
		return true
	case code == 0xb6:
		return b[4]>>6 == 0
	}
	return false
}
