package media

import (
	"encoding/binary"
	"errors"
)

// errShort is any RTP packet whose header or padding claims more bytes than there are.
var errShort = errors.New("truncated RTP packet")

// A packet is the part of an RTP packet that measuring needs (RFC 3550 §5.1). Payload points into the caller's bytes.
type packet struct {
	payloadType uint8
	marker      bool
	seq         uint16
	timestamp   uint32
	ssrc        uint32
	extension   uint16 // the profile field of a header extension, and its bytes; nil for none
	extended    []byte
	payload     []byte
}

func parseRTP(b []byte) (p packet, err error) {
	if len(b) < 12 || b[0]>>6 != 2 {
		return p, errShort
	}
	p.marker = b[1]&0x80 != 0
	p.payloadType = b[1] & 0x7f
	p.seq = binary.BigEndian.Uint16(b[2:])
	p.timestamp = binary.BigEndian.Uint32(b[4:])
	p.ssrc = binary.BigEndian.Uint32(b[8:])
	at := 12 + 4*int(b[0]&0x0f)
	if b[0]&0x10 != 0 { // header extension
		if len(b) < at+4 {
			return p, errShort
		}
		from := at + 4
		p.extension = binary.BigEndian.Uint16(b[at:])
		at = from + 4*int(binary.BigEndian.Uint16(b[at+2:]))
		if at > len(b) {
			return p, errShort
		}
		p.extended = b[from:at]
	}
	end := len(b)
	if b[0]&0x20 != 0 { // padding, its length in the last byte
		end -= int(b[len(b)-1])
	}
	if at > end {
		return p, errShort
	}
	p.payload = b[at:end]
	return p, nil
}
