package media

import (
	"bytes"
	"fmt"
)

// An SPSError says why a sequence parameter set cannot be right.
type SPSError struct{ Problem string }

func (e *SPSError) Error() string { return "the stream's parameter set (SPS) " + e.Problem }

// SPS is what an H.264 sequence parameter set says of the picture (ITU-T H.264 §7.3.2.1.1).
type SPS struct {
	Profile       string // "Baseline", "Constrained Baseline", "Main", "High", ...
	Level         string // "3.1"
	Width, Height int    // pixels, after cropping
}

const maxDimension = 16384

// ParseSPS reads a parameter set, NAL header included. A size of zero, over 16384 a side or over
// maxPixels in all is an *SPSError.
func ParseSPS(nal []byte) (*SPS, error) {
	if len(nal) < 5 || len(nal) > 4096 || nal[0]&0x1f != nalSPS {
		return nil, &SPSError{"is no parameter set"}
	}
	// Emulation prevention bytes are not part of the syntax (§7.3.1).
	r := &bitReader{b: bytes.ReplaceAll(nal[1:], []byte{0, 0, 3}, []byte{0, 0})}
	profile, constraints, level := r.bits(8), r.bits(8), r.bits(8)
	s := &SPS{Profile: profileName(profile, constraints), Level: fmt.Sprintf("%d.%d", level/10, level%10)}
	r.ue() // seq_parameter_set_id
	chroma, separate := 1, false
	switch profile {
	case 100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135:
		chroma = int(r.ue())
		if chroma == 3 {
			separate = r.bit()
		}
		r.ue()
		r.ue()
		r.bit()
		if r.bit() {
			r.scalingMatrix(chroma)
		}
	}
	r.ue() // log2_max_frame_num_minus4
	switch r.ue() {
	case 0:
		r.ue()
	case 1:
		r.bit()
		r.se()
		r.se()
		for range min(r.ue(), 256) {
			r.se()
		}
	}
	r.ue() // max_num_ref_frames
	r.bit()
	widthMBs, heightUnits := int64(r.ue())+1, int64(r.ue())+1
	frameOnly := r.bit()
	fields := int64(2)
	if frameOnly {
		fields = 1
	} else {
		r.bit()
	}
	r.bit()
	var left, right, top, bottom int64
	if r.bit() {
		left, right, top, bottom = int64(r.ue()), int64(r.ue()), int64(r.ue()), int64(r.ue())
	}
	if r.short {
		return nil, &SPSError{"ends too early"}
	}
	// Crop units follow from the chroma format (§7.4.2.1.1, table 6-1).
	unitX, unitY := int64(1), fields
	if !separate && (chroma == 1 || chroma == 2) {
		unitX = 2
	}
	if !separate && chroma == 1 {
		unitY *= 2
	}
	width := widthMBs*16 - unitX*(left+right)
	height := heightUnits*16*fields - unitY*(top+bottom)
	if width <= 0 || height <= 0 || width > maxDimension || height > maxDimension || width*height > maxPixels {
		return nil, &SPSError{fmt.Sprintf("claims a picture of %d x %d", width, height)}
	}
	s.Width, s.Height = int(width), int(height)
	return s, nil
}

func profileName(profile, constraints uint32) string {
	switch profile {
	case 66:
		if constraints&0x40 != 0 {
			return "Constrained Baseline"
		}
		return "Baseline"
	case 77:
		return "Main"
	case 88:
		return "Extended"
	case 100:
		return "High"
	case 110:
		return "High 10"
	case 122:
		return "High 4:2:2"
	case 244:
		return "High 4:4:4"
	}
	return fmt.Sprintf("profile %d", profile)
}

// bitReader reads the descriptors of ITU-T H.264 §7.2 and §9.1. Past the end it yields zeros and sets short.
type bitReader struct {
	b     []byte
	at    int
	short bool
}

func (r *bitReader) bit() bool { return r.bits(1) == 1 }

func (r *bitReader) bits(n int) (v uint32) {
	for range n {
		v <<= 1
		if r.at>>3 >= len(r.b) {
			r.short = true
			continue
		}
		v |= uint32(r.b[r.at>>3]>>(7-r.at&7)) & 1
		r.at++
	}
	return v
}

func (r *bitReader) ue() uint32 {
	zeros := 0
	for !r.short && zeros < 32 && !r.bit() {
		zeros++
	}
	if zeros >= 32 {
		r.short = true
		return 0
	}
	return 1<<zeros - 1 + r.bits(zeros)
}

func (r *bitReader) se() int32 {
	k := r.ue()
	if k&1 == 1 {
		return int32(k/2 + 1)
	}
	return -int32(k / 2)
}

func (r *bitReader) scalingMatrix(chroma int) {
	lists := 8
	if chroma == 3 {
		lists = 12
	}
	for i := range lists {
		if !r.bit() {
			continue
		}
		size := 16
		if i >= 6 {
			size = 64
		}
		last, next := int32(8), int32(8)
		for range size {
			if next != 0 {
				next = (last + r.se() + 256) % 256
			}
			if next != 0 {
				last = next
			}
		}
	}
}
