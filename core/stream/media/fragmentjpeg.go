package media

import (
	"bytes"
	"encoding/binary"
	"errors"
)

// Why a JPEG file cannot be sent over RTP, which carries one way of coding alone (RFC 2435 §3.1.3, §4.1).
var (
	errJPEGSize     = errors.New("a picture over 2040 pixels wide or high does not fit into JPEG over RTP")
	errJPEGSampling = errors.New("JPEG over RTP carries baseline pictures of three components, 4:2:0 or 4:2:2")
	errJPEGHuffman  = errors.New("JPEG over RTP carries pictures with the standard Huffman tables alone")
	errJPEGTables   = errors.New("JPEG over RTP carries two quantisation tables of 8 bits")
)

// A jpegParts is a JPEG file taken apart into what RFC 2435 sends.
type jpegParts struct {
	kind          byte // 0 for 4:2:2, 1 for 4:2:0; 64 more where there are restart markers
	width, height int  // in blocks of eight pixels
	restart       uint16
	tables        [128]byte // as the file has them; luma, then chroma once it is taken apart
	of            [2]byte   // which of them luma and chroma have
	scan          []byte
}

// takeJPEGApart reads a baseline file. The scan is a part of b.
func takeJPEGApart(b []byte) (p jpegParts, err error) {
	if !bytes.HasPrefix(b, startOfImage) {
		return p, errNoJPEG
	}
	have := 0 // quantisation tables, a bit each
	for at := 2; at+4 <= len(b); {
		marker, n := b[at+1], int(binary.BigEndian.Uint16(b[at+2:]))
		switch {
		case b[at] != 0xff:
			return p, errNoJPEG
		case marker == 0xff: // fill
			at++
			continue
		case n < 2 || at+2+n > len(b):
			return p, errNoJPEG
		}
		segment := b[at+4 : at+2+n]
		at += 2 + n
		switch marker {
		case 0xdb:
			err = p.quantisation(segment, &have)
		case 0xc0:
			err = p.frame(segment)
		case 0xc1, 0xc2, 0xc3, 0xc5, 0xc6, 0xc7, 0xc9, 0xca, 0xcb, 0xcd, 0xce, 0xcf:
			err = errJPEGSampling
		case 0xc4:
			err = standardHuffman(segment)
		case 0xdd:
			if len(segment) >= 2 {
				p.restart = binary.BigEndian.Uint16(segment)
			}
		case startOfScan:
			if p.scan = b[at:]; p.width == 0 || len(p.scan) == 0 {
				return p, errNoJPEG
			}
			if have>>p.of[0]&1 == 0 || have>>p.of[1]&1 == 0 {
				return p, errJPEGTables
			}
			file := p.tables
			copy(p.tables[:64], file[64*int(p.of[0]):])
			copy(p.tables[64:], file[64*int(p.of[1]):][:64])
			if p.restart > 0 {
				p.kind |= 64
			}
			return p, nil
		}
		if err != nil {
			return p, err
		}
	}
	return p, errNoJPEG
}

// quantisation takes tables (ITU-T T.81 §B.2.4.1).
func (p *jpegParts) quantisation(b []byte, have *int) error {
	for ; len(b) >= 65; b = b[65:] {
		if b[0] > 1 {
			return errJPEGTables
		}
		copy(p.tables[64*int(b[0]):], b[1:65])
		*have |= 1 << b[0]
	}
	return nil
}

// frame takes a baseline frame header (§B.2.2).
func (p *jpegParts) frame(b []byte) error {
	if len(b) < 15 || b[0] != 8 || b[5] != 3 {
		return errJPEGSampling
	}
	height, width := int(binary.BigEndian.Uint16(b[1:])), int(binary.BigEndian.Uint16(b[3:]))
	p.width, p.height = (width+7)/8, (height+7)/8
	if p.width > 255 || p.height > 255 || width == 0 || height == 0 {
		return errJPEGSize
	}
	switch b[7] {
	case 0x21:
		p.kind = 0
	case 0x22:
		p.kind = 1
	default:
		return errJPEGSampling
	}
	if b[10] != 0x11 || b[13] != 0x11 {
		return errJPEGSampling
	}
	if p.of = [2]byte{b[8], b[11]}; b[8] > 1 || b[11] > 1 || b[14] != b[11] {
		return errJPEGTables
	}
	return nil
}

// standardHuffman reports an error for tables other than those of ITU-T T.81 annex K.3.
func standardHuffman(b []byte) error {
	for len(b) > 17 {
		known := false
		for _, t := range huffmanTables {
			if n := 17 + len(t.symbols); b[0] == t.class && len(b) >= n && bytes.Equal(b[1:17], t.codes) && bytes.Equal(b[17:n], t.symbols) {
				known, b = true, b[n:]
				break
			}
		}
		if !known {
			return errJPEGHuffman
		}
	}
	return nil
}

// file sends a JPEG file as RFC 2435 has it: its scan in parts, each behind a header that says where it belongs, the first one with the
// tables too.
func (f *Fragmenter) file(head, b []byte, each func([]byte)) error {
	p, err := takeJPEGApart(b)
	if err != nil {
		return err
	}
	for offset := 0; offset < len(p.scan); {
		f.head = append(f.head[:0], 0, byte(offset>>16), byte(offset>>8), byte(offset), p.kind, 255, byte(p.width), byte(p.height))
		if p.restart > 0 {
			f.head = append(f.head, byte(p.restart>>8), byte(p.restart), 0xff, 0xff)
		}
		if offset == 0 {
			f.head = append(append(f.head, 0, 0, 0, byte(len(p.tables))), p.tables[:]...)
		}
		n := min(len(p.scan)-offset, maxFragment-len(f.head))
		part := p.scan[offset : offset+n]
		offset += n
		f.send(head, offset == len(p.scan), f.head, part, each)
	}
	return nil
}
