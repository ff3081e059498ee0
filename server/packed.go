package server

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"hash/crc32"
	"slices"
)

// A packedList is a site's devices as JSON, deflated in pieces. Each piece is deflated by itself and ends at a byte (RFC 1951 §3.2.4), so
// that pieces can be put behind each other: who loads everything costs the work of deflating what has changed since somebody last did.
type packedList struct {
	pieces  []packedPiece
	deflate *flate.Writer
}

// A packedPiece is some devices that follow each other.
type packedPiece struct {
	of       []*lineUpRow
	deflated []byte
}

// pieceDevices is how many devices one piece has. Their JSON is several times the 32 KiB that deflate looks back.
const pieceDevices = 32

// gzip returns head, the devices in their order with commas between them, and tail, as one gzip member (RFC 1952).
func (p *packedList) gzip(head []byte, order []*lineUpRow, tail []byte) []byte {
	at := 0
	for i := 0; i < len(order); i += pieceDevices {
		of := order[i:min(i+pieceDevices, len(order))]
		switch {
		case at == len(p.pieces):
			p.pieces = append(p.pieces, p.pack(of, i == 0))
		case !slices.Equal(p.pieces[at].of, of):
			p.pieces[at] = p.pack(of, i == 0)
		}
		at++
	}
	p.pieces = p.pieces[:at]

	sum, size := crc32.Update(0, crc32.IEEETable, head), len(head)
	for i, x := range order {
		if i > 0 {
			sum, size = crc32.Update(sum, crc32.IEEETable, comma), size+1
		}
		sum, size = crc32.Update(sum, crc32.IEEETable, x.encoded), size+len(x.encoded)
	}
	sum, size = crc32.Update(sum, crc32.IEEETable, tail), size+len(tail)

	out := append([]byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 255}, p.deflated(head, false)...) // no name, no time, unknown system
	for _, x := range p.pieces {
		out = append(out, x.deflated...)
	}
	out = append(out, p.deflated(tail, true)...)
	return binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(out, sum), uint32(size))
}

var comma = []byte{','}

// pack deflates one piece. All but the first piece begin with the comma behind the piece before.
func (p *packedList) pack(of []*lineUpRow, first bool) packedPiece {
	var raw []byte
	for i, x := range of {
		if i > 0 || !first {
			raw = append(raw, ',')
		}
		raw = append(raw, x.encoded...)
	}
	return packedPiece{slices.Clone(of), p.deflated(raw, false)}
}

// deflated is raw, deflated with nothing before it to look back to. The last part of a stream ends it.
func (p *packedList) deflated(raw []byte, last bool) []byte {
	var out bytes.Buffer
	if p.deflate == nil {
		p.deflate, _ = flate.NewWriter(&out, flate.BestSpeed) // the level is a good one
	} else {
		p.deflate.Reset(&out)
	}
	p.deflate.Write(raw) // a buffer takes everything
	if last {
		p.deflate.Close()
	} else {
		p.deflate.Flush()
	}
	return out.Bytes()
}
