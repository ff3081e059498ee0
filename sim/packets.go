package sim

import (
	"bytes"
	"encoding/binary"
	"time"

	"unlatch/sim/scene"
)

// Packets returns the RTP packets of a whole clip, as a stand-in sends them.
func Packets(c *scene.Clip) (out [][]byte) {
	p := packetiser{ssrc: 1, send: func(packet []byte) { out = append(out, bytes.Clone(packet)) }}
	for k, f := range c.Frames {
		p.frame(c, f, uint32(k*90000/c.FPS))
	}
	return out
}

// packetiser writes pictures as RTP packets.
type packetiser struct {
	send func(packet []byte)
	ssrc uint32
	seq  uint16
	out  []byte
	// encrypts makes nonsense of the pictures, as a maker's own encryption does to everybody without its key.
	encrypts bool
	drops    int // of a hundred packets, how many get lost
}

const maxPayload = 1400

func (p *packetiser) frame(c *scene.Clip, f scene.Frame, stamp uint32) {
	switch c.Codec {
	case scene.H265:
		p.nals(f, stamp, 2, func(head []byte) []byte { return []byte{head[0]&0x81 | 49<<1, head[1], head[0] >> 1 & 0x3f} })
	case scene.JPEG:
		p.jpeg(f.NALs[0], stamp)
	case scene.MPEG4:
		p.cut(f.NALs[0], stamp)
	default:
		p.nals(f, stamp, 1, func(head []byte) []byte { return []byte{head[0]&0xe0 | 28, head[0] & 0x1f} })
	}
}

// nals writes NAL units as they are, or in fragments: FU-A of H.264 (RFC 6184 §5.8), FU of H.265 (RFC 7798 §4.4.3). header is how long the
// header of a unit is, and fragment what stands in its place before each part, the fragment header last.
func (p *packetiser) nals(f scene.Frame, stamp uint32, header int, fragment func(head []byte) []byte) {
	for i, nal := range f.NALs {
		if p.encrypts {
			nal = bytes.Clone(nal)
			for j := header; j < len(nal); j++ {
				nal[j] ^= byte(j*7 + 90)
			}
		}
		last := i == len(f.NALs)-1
		if len(nal) <= maxPayload {
			p.packet(96, stamp, last, nil, nal)
			continue
		}
		rest := nal[header:]
		for first := true; len(rest) > 0; first = false {
			n := min(len(rest), maxPayload-header-1)
			fu := fragment(nal)
			if first {
				fu[len(fu)-1] |= 0x80
			}
			if n == len(rest) {
				fu[len(fu)-1] |= 0x40
			}
			p.packet(96, stamp, last && n == len(rest), fu, rest[:n])
			rest = rest[n:]
		}
	}
}

// cut writes a coded picture in parts, cut anywhere (RFC 6416 §5).
func (p *packetiser) cut(picture []byte, stamp uint32) {
	for len(picture) > 0 {
		n := min(len(picture), maxPayload)
		p.packet(96, stamp, n == len(picture), nil, picture[:n])
		picture = picture[n:]
	}
}

// jpeg writes the scan of a picture with its tables before it (RFC 2435 §3.1).
func (p *packetiser) jpeg(jfif []byte, stamp uint32) {
	var tables []byte
	width, height := 0, 0
	b := jfif[2:]
	for len(b) >= 4 {
		n := int(binary.BigEndian.Uint16(b[2:]))
		segment := b[4 : 2+n]
		kind := b[1]
		b = b[2+n:]
		switch kind {
		case 0xdb:
			for len(segment) >= 65 {
				tables, segment = append(tables, segment[1:65]...), segment[65:]
			}
		case 0xc0:
			height, width = int(binary.BigEndian.Uint16(segment[1:])), int(binary.BigEndian.Uint16(segment[3:]))
		}
		if kind == 0xda {
			break
		}
	}
	for offset := 0; offset < len(b); {
		n := min(len(b)-offset, maxPayload-160)
		head := []byte{0, byte(offset >> 16), byte(offset >> 8), byte(offset), 1, 255, byte(width / 8), byte(height / 8)}
		if offset == 0 {
			head = append(append(head, 0, 0, 0, byte(len(tables))), tables...)
		}
		p.packet(26, stamp, offset+n == len(b), head, b[offset:offset+n])
		offset += n
	}
}

func (p *packetiser) packet(payloadType byte, stamp uint32, marker bool, head, body []byte) {
	if marker {
		payloadType |= 0x80
	}
	p.out = append(p.out[:0], 0x80, payloadType)
	p.out = binary.BigEndian.AppendUint16(p.out, p.seq)
	p.out = binary.BigEndian.AppendUint32(p.out, stamp)
	p.out = binary.BigEndian.AppendUint32(p.out, p.ssrc)
	p.out = append(append(p.out, head...), body...)
	p.seq++
	if p.drops > 0 && int(p.seq)*p.drops/100 != int(p.seq-1)*p.drops/100 {
		return
	}
	p.send(p.out)
}

// senderReport tells a wall clock (RFC 3550 §6.4.1).
func senderReport(ssrc uint32, clock time.Time, stamp uint32) []byte {
	d := clock.Sub(time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC))
	b := []byte{0x80, 200, 0, 6}
	b = binary.BigEndian.AppendUint32(b, ssrc)
	b = binary.BigEndian.AppendUint32(b, uint32(d/time.Second))
	b = binary.BigEndian.AppendUint32(b, uint32(uint64(d%time.Second)<<32/uint64(time.Second)))
	b = binary.BigEndian.AppendUint32(b, stamp)
	return append(b, make([]byte, 8)...)
}
