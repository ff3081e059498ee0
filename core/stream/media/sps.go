package media

import "fmt"

const maxDimension = 16384

// ParseSPS reads what an H.264 sequence parameter set, NAL header included, says of the picture (ITU-T H.264 §7.3.2.1.1). A size of zero,
// over 16384 a side or over maxPixels in all is an *HeaderError.
func ParseSPS(nal []byte) (*Picture, error) {
	if len(nal) < 5 || len(nal) > maxSet || nal[0]&0x1f != nalSPS {
		return nil, &HeaderError{"parameter set (SPS)", "is no parameter set"}
	}
	r := &bitReader{b: unescaped(make([]byte, 0, len(nal)), nal[1:])}
	profile, constraints, level := r.bits(8), r.bits(8), r.bits(8)
	s := &Picture{Profile: profileName(profile, constraints), Level: fmt.Sprintf("%d.%d", level/10, level%10)}
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
		return nil, &HeaderError{"parameter set (SPS)", "ends too early"}
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
	if problem := sizeError(width, height); problem != "" {
		return nil, &HeaderError{"parameter set (SPS)", problem}
	}
	s.Width, s.Height, s.Interlaced = int(width), int(height), !frameOnly
	if r.bit() { // VUI; a set that ends here says nothing of the aspect
		s.Aspect = r.aspect()
	}
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

// aspect reads the sample aspect ratio at the beginning of the VUI (§E.1.1, table E-1); "" for square and unknown ones.
func (r *bitReader) aspect() string {
	if !r.bit() {
		return ""
	}
	ratios := []string{"", "", "12:11", "10:11", "16:11", "40:33", "24:11", "20:11", "32:11", "80:33", "18:11", "15:11", "64:33", "160:99",
		"4:3", "3:2", "2:1"}
	n := int(r.bits(8))
	if n == 255 {
		w, h := r.bits(16), r.bits(16)
		if r.short || w == h || w == 0 || h == 0 {
			return ""
		}
		return fmt.Sprintf("%d:%d", w, h)
	}
	if r.short || n >= len(ratios) {
		return ""
	}
	return ratios[n]
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
