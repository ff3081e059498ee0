package media

import (
	"encoding/binary"
	"errors"
)

var errPayloadJPEG = errors.New("malformed JPEG payload")

// jpegFormat is the Format of JPEG over RTP (RFC 2435): the scan alone comes, and the headers of a picture are written anew from the few
// bytes of each packet. Every frame is a key frame.
type jpegFormat struct {
	pic    Picture
	known  bool
	picErr error
	track  struct{ width, height int } // of the description, for sizes that the packets cannot say
	wide   struct{ width, height int } // of the header extension (ONVIF Streaming Specification, JPEG over RTP)

	tables  [256][]byte // quantisation tables by Q from 128 on; a sender may send them once
	ext     []byte      // of the header extension, in place of those in band
	kind, q byte
	restart uint16
	scan    []byte
	length  int // of the scan, kept or not
	begun   bool
	drop    bool
	out     []byte
	custom  [128]byte // tables made from Q
}

func newJPEG(t Track) Format {
	if t.Files {
		return &jpegFiles{}
	}
	f := &jpegFormat{}
	f.track.width, f.track.height = t.Width, t.Height
	return f
}

func (f *jpegFormat) Decoder() string { return "mjpeg" }

func (f *jpegFormat) Keep(on bool) { f.drop = !on }

func (f *jpegFormat) Picture() (*Picture, error) {
	if !f.known {
		return nil, f.picErr
	}
	return &f.pic, nil
}

// Payload reads the main header (§3.1), the restart marker header (§3.1.7) and the quantisation tables (§3.1.8), and adds the scan.
func (f *jpegFormat) Payload(b []byte) error {
	if len(b) < 8 {
		return errPayloadJPEG
	}
	offset := int(b[1])<<16 | int(b[2])<<8 | int(b[3])
	kind, q := b[4], b[5]
	width, height := int(b[6])*8, int(b[7])*8
	f.pic.Interlaced = b[0] == 1 || b[0] == 2
	rest := b[8:]
	if kind&0x3f > 1 || kind > 127 {
		return &UnreadError{"JPEG", "types other than 0, 1, 64 and 65"}
	}
	if kind >= 64 {
		if len(rest) < 4 {
			return errPayloadJPEG
		}
		f.restart = binary.BigEndian.Uint16(rest)
		rest = rest[4:]
	} else {
		f.restart = 0
	}
	if offset == 0 {
		f.begun, f.length, f.scan = true, 0, f.scan[:0]
		f.kind, f.q = kind, q
		if q >= 128 {
			var err error
			if rest, err = f.quantisation(q, rest); err != nil {
				return err
			}
		}
		f.size(width, height)
	}
	if !f.begun || offset != f.length {
		f.begun = false
		return errPayloadJPEG // a fragment is missing before it
	}
	f.length += len(rest)
	if f.length > maxKeyframe {
		f.begun = false
		return errPayloadJPEG
	}
	if !f.drop {
		f.scan = append(f.scan, rest...)
	}
	return nil
}

// quantisation takes the tables behind the first header of a frame, if they are there, and returns what follows them.
func (f *jpegFormat) quantisation(q byte, b []byte) ([]byte, error) {
	if len(b) < 4 {
		return nil, errPayloadJPEG
	}
	n := int(binary.BigEndian.Uint16(b[2:]))
	if b[1] != 0 && n > 0 {
		return nil, &UnreadError{"JPEG", "16-bit quantisation tables"}
	}
	if n > len(b)-4 || n > 0 && n != 64 && n != 128 {
		return nil, errPayloadJPEG
	}
	if n > 0 && string(f.tables[q]) != string(b[4:4+n]) {
		f.tables[q] = append(f.tables[q][:0], b[4:4+n]...)
	}
	return b[4+n:], nil
}

// size takes the size from the header extension, the packet or the description, in this order. The packet counts in blocks of eight
// pixels, and has nought for a size over 2040 (§3.1.5): a description that says the same to the pixel is the finer word.
func (f *jpegFormat) size(width, height int) {
	switch {
	case f.wide.width > 0:
		width, height = f.wide.width, f.wide.height
	case width == 0 || height == 0, (f.track.width+7)/8*8 == width && (f.track.height+7)/8*8 == height:
		width, height = f.track.width, f.track.height
	}
	if problem := sizeError(int64(width), int64(height)); problem != "" {
		f.picErr = &HeaderError{"JPEG header", problem}
		return
	}
	f.pic.Width, f.pic.Height, f.known, f.picErr = width, height, true, nil
	f.pic.Profile = "Baseline"
}

// jpegExtension is the id of the RTP header extension that carries JPEG headers (ONVIF Streaming Specification §5.1.3.1).
const jpegExtension = 0xffd8

// Extension reads frame size and tables out of the segments of a JPEG header extension. They count before those of the payload.
func (f *jpegFormat) Extension(id uint16, b []byte) {
	if id != jpegExtension {
		return
	}
	for len(b) >= 4 {
		if b[0] != 0xff {
			return
		}
		if b[1] == 0xff || b[1] == 0xd8 { // padding, or the beginning of a picture
			b = b[1:]
			continue
		}
		n := int(binary.BigEndian.Uint16(b[2:]))
		if n < 2 || n > len(b)-2 {
			return
		}
		switch segment := b[4 : 2+n]; b[1] {
		case 0xc0:
			if len(segment) >= 5 {
				f.wide.height, f.wide.width = int(binary.BigEndian.Uint16(segment[1:])), int(binary.BigEndian.Uint16(segment[3:]))
			}
		case 0xdb:
			f.ext = f.ext[:0]
			for len(segment) >= 65 && segment[0]>>4 == 0 {
				f.ext, segment = append(f.ext, segment[1:65]...), segment[65:]
			}
		}
		b = b[2+n:]
	}
}

func (f *jpegFormat) EndFrame() Frame {
	frame := Frame{Kind: Key}
	if tables := f.quantisers(); !f.drop && f.begun && f.known && f.length > 0 && tables != nil {
		f.out = appendJFIF(f.out[:0], f.pic.Width, f.pic.Height, f.kind&1 == 1, f.restart, tables)
		f.out = append(f.out, f.scan...)
		if n := len(f.out); n < 2 || f.out[n-2] != 0xff || f.out[n-1] != 0xd9 {
			f.out = append(f.out, 0xff, 0xd9)
		}
		frame.Data = f.out
	}
	f.begun, f.length, f.scan = false, 0, f.scan[:0]
	return frame
}

// quantisers returns the tables of the frame, luma and then chroma; nil where none have come.
func (f *jpegFormat) quantisers() []byte {
	switch {
	case len(f.ext) >= 64:
		return f.ext
	case f.q >= 128:
		return f.tables[f.q]
	case f.q == 0 || f.q == 127 || f.q > 99:
		return nil
	}
	// §4.2: the tables of the JPEG standard, scaled.
	factor := int(f.q)
	scale := 200 - 2*factor
	if factor < 50 {
		scale = 5000 / factor
	}
	for i, base := range standardTables {
		f.custom[i] = byte(min(max((int(base)*scale+50)/100, 1), 255))
	}
	return f.custom[:]
}

// appendJFIF writes the headers of a baseline picture (ITU-T T.81 annex B; RFC 2435 appendix B). tables hold luma, then chroma, 64 bytes
// each in zig-zag order; one table serves both.
func appendJFIF(b []byte, width, height int, half bool, restart uint16, tables []byte) []byte {
	b = append(b, 0xff, 0xd8, 0xff, 0xe0, 0, 16, 'J', 'F', 'I', 'F', 0, 1, 1, 0, 0, 1, 0, 1, 0, 0)
	chroma := byte(0)
	for i := 0; i+64 <= len(tables) && i < 128; i += 64 {
		b = append(b, 0xff, 0xdb, 0, 67, byte(i/64))
		b = append(b, tables[i:i+64]...)
		chroma = byte(i / 64)
	}
	if restart > 0 {
		b = append(b, 0xff, 0xdd, 0, 4, byte(restart>>8), byte(restart))
	}
	sampling := byte(0x21) // 4:2:2
	if half {
		sampling = 0x22 // 4:2:0
	}
	b = append(b, 0xff, 0xc0, 0, 17, 8, byte(height>>8), byte(height), byte(width>>8), byte(width), 3,
		1, sampling, 0, 2, 0x11, chroma, 3, 0x11, chroma)
	for _, t := range huffmanTables {
		b = append(b, 0xff, 0xc4, 0, byte(3+len(t.codes)+len(t.symbols)), t.class)
		b = append(append(b, t.codes...), t.symbols...)
	}
	return append(b, 0xff, 0xda, 0, 12, 3, 1, 0, 2, 0x11, 3, 0x11, 0, 63, 0)
}

// standardTables are the quantisation tables of ITU-T T.81 tables K.1 and K.2 in zig-zag order (RFC 2435 appendix A).
var standardTables = [128]byte{
	16, 11, 12, 14, 12, 10, 16, 14, 13, 14, 18, 17, 16, 19, 24, 40, 26, 24, 22, 22, 24, 49, 35, 37, 29, 40, 58, 51, 61, 60, 57, 51,
	56, 55, 64, 72, 92, 78, 64, 68, 87, 69, 55, 56, 80, 109, 81, 87, 95, 98, 103, 104, 103, 62, 77, 113, 121, 112, 100, 120, 92, 101, 103,
	99,
	17, 18, 18, 24, 21, 24, 47, 26, 26, 47, 99, 66, 56, 66, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99,
	99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99,
}

// huffmanTables are those of ITU-T T.81 annex K.3, which JPEG over RTP always uses (RFC 2435 appendix B).
var huffmanTables = []struct {
	class          byte
	codes, symbols []byte
}{
	{0x00, []byte{0, 1, 5, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 0, 0}, []byte{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11}},
	{0x10, []byte{0, 2, 1, 3, 3, 2, 4, 3, 5, 5, 4, 4, 0, 0, 1, 0x7d}, []byte{
		0x01, 0x02, 0x03, 0x00, 0x04, 0x11, 0x05, 0x12, 0x21, 0x31, 0x41, 0x06, 0x13, 0x51, 0x61, 0x07, 0x22, 0x71, 0x14, 0x32, 0x81,
		0x91, 0xa1,
		0x08, 0x23, 0x42, 0xb1, 0xc1, 0x15, 0x52, 0xd1, 0xf0, 0x24, 0x33, 0x62, 0x72, 0x82, 0x09, 0x0a, 0x16, 0x17, 0x18, 0x19, 0x1a,
		0x25, 0x26,
		0x27, 0x28, 0x29, 0x2a, 0x34, 0x35, 0x36, 0x37, 0x38, 0x39, 0x3a, 0x43, 0x44, 0x45, 0x46, 0x47, 0x48, 0x49, 0x4a, 0x53, 0x54,
		0x55, 0x56,
		0x57, 0x58, 0x59, 0x5a, 0x63, 0x64, 0x65, 0x66, 0x67, 0x68, 0x69, 0x6a, 0x73, 0x74, 0x75, 0x76, 0x77, 0x78, 0x79, 0x7a, 0x83,
		0x84, 0x85,
		0x86, 0x87, 0x88, 0x89, 0x8a, 0x92, 0x93, 0x94, 0x95, 0x96, 0x97, 0x98, 0x99, 0x9a, 0xa2, 0xa3, 0xa4, 0xa5, 0xa6, 0xa7, 0xa8,
		0xa9, 0xaa,
		0xb2, 0xb3, 0xb4, 0xb5, 0xb6, 0xb7, 0xb8, 0xb9, 0xba, 0xc2, 0xc3, 0xc4, 0xc5, 0xc6, 0xc7, 0xc8, 0xc9, 0xca, 0xd2, 0xd3, 0xd4,
		0xd5, 0xd6,
		0xd7, 0xd8, 0xd9, 0xda, 0xe1, 0xe2, 0xe3, 0xe4, 0xe5, 0xe6, 0xe7, 0xe8, 0xe9, 0xea, 0xf1, 0xf2, 0xf3, 0xf4, 0xf5, 0xf6, 0xf7,
		0xf8, 0xf9, 0xfa}},
	{0x01, []byte{0, 3, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0}, []byte{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11}},
	{0x11, []byte{0, 2, 1, 2, 4, 4, 3, 4, 7, 5, 4, 4, 0, 1, 2, 0x77}, []byte{
		0x00, 0x01, 0x02, 0x03, 0x11, 0x04, 0x05, 0x21, 0x31, 0x06, 0x12, 0x41, 0x51, 0x07, 0x61, 0x71, 0x13, 0x22, 0x32, 0x81, 0x08,
		0x14, 0x42,
		0x91, 0xa1, 0xb1, 0xc1, 0x09, 0x23, 0x33, 0x52, 0xf0, 0x15, 0x62, 0x72, 0xd1, 0x0a, 0x16, 0x24, 0x34, 0xe1, 0x25, 0xf1, 0x17,
		0x18, 0x19,
		0x1a, 0x26, 0x27, 0x28, 0x29, 0x2a, 0x35, 0x36, 0x37, 0x38, 0x39, 0x3a, 0x43, 0x44, 0x45, 0x46, 0x47, 0x48, 0x49, 0x4a, 0x53,
		0x54, 0x55,
		0x56, 0x57, 0x58, 0x59, 0x5a, 0x63, 0x64, 0x65, 0x66, 0x67, 0x68, 0x69, 0x6a, 0x73, 0x74, 0x75, 0x76, 0x77, 0x78, 0x79, 0x7a,
		0x82, 0x83,
		0x84, 0x85, 0x86, 0x87, 0x88, 0x89, 0x8a, 0x92, 0x93, 0x94, 0x95, 0x96, 0x97, 0x98, 0x99, 0x9a, 0xa2, 0xa3, 0xa4, 0xa5, 0xa6,
		0xa7, 0xa8,
		0xa9, 0xaa, 0xb2, 0xb3, 0xb4, 0xb5, 0xb6, 0xb7, 0xb8, 0xb9, 0xba, 0xc2, 0xc3, 0xc4, 0xc5, 0xc6, 0xc7, 0xc8, 0xc9, 0xca, 0xd2,
		0xd3, 0xd4,
		0xd5, 0xd6, 0xd7, 0xd8, 0xd9, 0xda, 0xe2, 0xe3, 0xe4, 0xe5, 0xe6, 0xe7, 0xe8, 0xe9, 0xea, 0xf2, 0xf3, 0xf4, 0xf5, 0xf6, 0xf7,
		0xf8, 0xf9, 0xfa}},
}
