package media

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"math/bits"
)

// MPEG-4 start codes, the byte behind 00 00 01 (ISO/IEC 14496-2 table 6-3).
const (
	mpeg4FirstVOL = 0x20 // video object layer, which has the size
	mpeg4LastVOL  = 0x2f
	mpeg4VOS      = 0xb0 // visual object sequence, which has the profile
	mpeg4VOP      = 0xb6 // video object plane: one picture
)

// mpeg4 is the Format of MPEG-4 Part 2 (RFC 6416 §5): the bit stream, cut anywhere. Headers in the stream win over those in the
// description.
type mpeg4 struct {
	pic    Picture
	known  bool
	picErr error
	config []byte // headers of the description, or the newest in band
	frame  []byte // of the frame under way; its beginning only, where nothing is kept
	drop   bool
	out    []byte
}

// mpeg4Head is as much of a frame as is kept to tell its kind: headers and the first byte of the picture.
const mpeg4Head = 512

func newMPEG4(t Track) Format {
	f := &mpeg4{}
	if config, err := hex.DecodeString(t.Fmtp["config"]); err == nil && len(config) <= maxSet {
		f.config = config
		f.headers(config)
	}
	return f
}

func (f *mpeg4) Decoder() string { return "m4v" }

func (f *mpeg4) Keep(on bool) { f.drop = !on }

func (f *mpeg4) Picture() (*Picture, error) {
	if !f.known {
		return nil, f.picErr
	}
	return &f.pic, nil
}

func (f *mpeg4) Payload(b []byte) error {
	most := maxKeyframe
	if f.drop {
		most = mpeg4Head
	}
	f.frame = append(f.frame, b[:min(len(b), max(0, most-len(f.frame)))]...)
	return nil
}

func (f *mpeg4) EndFrame() Frame {
	var frame Frame
	at := f.headers(f.frame)
	if at > 0 && at+4 <= len(f.frame) {
		if own := f.frame[:at-1]; len(own) >= 8 && len(own) <= maxSet && !bytes.Equal(own, f.config) {
			f.config = append(f.config[:0], own...)
		}
		// vop_coding_type (§6.3.5): I, P, B, S
		switch f.frame[at+3] >> 6 {
		case 0:
			frame.Kind = Key
		case 2:
			frame.Kind = Bidirectional
		}
		if !f.drop && (frame.Kind != Key || f.known) {
			f.out = f.out[:0]
			if frame.Kind == Key {
				f.out = append(f.out, f.config...)
			}
			f.out = append(f.out, f.frame[at-1:]...)
			frame.Data = f.out
		}
	}
	f.frame = f.frame[:0]
	return frame
}

// headers reads the headers at the beginning of b and returns where the start code of its first picture stands, counted from 1; 0 for none.
func (f *mpeg4) headers(b []byte) (vop int) {
	for at := 0; ; {
		i := bytes.Index(b[at:], []byte{0, 0, 1})
		if i < 0 || at+i+4 > len(b) {
			return 0
		}
		at += i
		switch code, rest := b[at+3], b[at+4:]; {
		case code == mpeg4VOP:
			return at + 1
		case code == mpeg4VOS && len(rest) > 0:
			f.pic.Profile, f.pic.Level = mpeg4Profile(rest[0])
		case code >= mpeg4FirstVOL && code <= mpeg4LastVOL:
			f.layer(rest)
		}
		at += 4
	}
}

// layer reads a video object layer (ISO/IEC 14496-2 §6.2.3).
func (f *mpeg4) layer(b []byte) {
	r := &bitReader{b: b[:min(len(b), 64)]}
	r.skip(1 + 8)
	if r.bit() { // is_object_layer_identifier
		r.skip(4 + 3)
	}
	aspect := ""
	switch n := r.bits(4); n {
	case 2, 3, 4, 5:
		aspect = []string{"12:11", "10:11", "16:11", "40:33"}[n-2]
	case 15:
		if w, h := r.bits(8), r.bits(8); w != h && w > 0 && h > 0 {
			aspect = fmt.Sprintf("%d:%d", w, h)
		}
	}
	if r.bit() { // vol_control_parameters
		r.skip(2 + 1)
		if r.bit() {
			r.skip(79)
		}
	}
	if shape := r.bits(2); shape != 0 {
		f.picErr = &HeaderError{"MPEG-4 header (VOL)", "describes a picture that is no rectangle"}
		return
	}
	r.bit()
	ticks := r.bits(16)
	r.bit()
	if r.bit() { // fixed_vop_rate, in as many bits as a tick below the resolution needs
		r.skip(max(1, bits.Len32(max(ticks, 1)-1)))
	}
	r.bit()
	width := r.bits(13)
	r.bit()
	height := r.bits(13)
	r.bit()
	interlaced := r.bit()
	problem := sizeError(int64(width), int64(height))
	if r.short {
		problem = "ends too early"
	}
	if problem != "" {
		f.picErr = &HeaderError{"MPEG-4 header (VOL)", problem}
		return
	}
	f.pic.Width, f.pic.Height, f.pic.Aspect, f.pic.Interlaced = int(width), int(height), aspect, interlaced
	f.known, f.picErr = true, nil
}

// mpeg4Profile names profile_and_level_indication (ISO/IEC 14496-2 table G.1).
func mpeg4Profile(b byte) (profile, level string) {
	switch {
	case b == 0x08:
		return "Simple", "0"
	case b >= 0x01 && b <= 0x06:
		return "Simple", fmt.Sprint(b)
	case b >= 0xf0 && b <= 0xf5:
		return "Advanced Simple", fmt.Sprint(b & 0x0f)
	}
	return fmt.Sprintf("profile 0x%02x", b), ""
}
