package media

import (
	"encoding/binary"
	"errors"
)

// H.264 NAL unit types (ITU-T H.264 table 7-1) and RTP payload structures (RFC 6184 table 1).
const (
	nalIDR   = 5
	nalSPS   = 7
	nalPPS   = 8
	nalSTAPA = 24
	nalFUA   = 28
)

var errPayload = errors.New("malformed H.264 payload")

// h264NALs splits one RTP payload into NAL units (RFC 6184 §5.6 to §5.8) and calls each for the first or only part of
// every unit: header is its NAL header, part its bytes after the header, start whether this is its beginning.
// It allocates nothing.
func h264NALs(payload []byte, each func(header byte, part []byte, start bool)) error {
	if len(payload) < 1 {
		return errPayload
	}
	switch kind := payload[0] & 0x1f; {
	case kind >= 1 && kind <= 23:
		each(payload[0], payload[1:], true)
	case kind == nalSTAPA:
		for rest := payload[1:]; len(rest) > 0; {
			if len(rest) < 3 {
				return errPayload
			}
			n := int(binary.BigEndian.Uint16(rest))
			if n == 0 || n > len(rest)-2 {
				return errPayload
			}
			each(rest[2], rest[3:2+n], true)
			rest = rest[2+n:]
		}
	case kind == nalFUA:
		if len(payload) < 2 {
			return errPayload
		}
		each(payload[0]&0xe0|payload[1]&0x1f, payload[2:], payload[1]&0x80 != 0)
	default: // STAP-B, MTAP, FU-B need interleaved mode, which no camera uses
		return errPayload
	}
	return nil
}
