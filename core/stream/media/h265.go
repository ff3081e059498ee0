package media

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// H.265 NAL unit types (ITU-T H.265 table 7-1) and RTP payload structures (RFC 7798 §4.4).
const (
	hevcFirstIRAP = 16 // intra random access pictures: BLA, IDR and CRA
	hevcLastIRAP  = 23
	hevcLastVCL   = 31
	hevcVPS       = 32
	hevcSPS       = 33
	hevcPPS       = 34
	hevcAP        = 48
	hevcFU        = 49
	hevcPACI      = 50
)

var errPayload265 = errors.New("malformed H.265 payload")

// h265 is the Format of H.265 (RFC 7798). Parameter sets in the stream win over those in the description.
type h265 struct {
	pic       *Picture
	picErr    error
	sets      [3][]byte // newest VPS, SPS, PPS
	extraBits int       // num_extra_slice_header_bits of the PPS
	donl      bool      // units carry decoding order numbers (RFC 7798 §4.4)
	building  []byte    // NAL unit under collection for a parameter set, with its header
	buildKind byte
	irap      bool
	kinds     [3]int // slices of type B, P, I
	slices    int
	drop      bool
	nals      []byte
	out       []byte
}

func newH265(t Track) Format {
	f := &h265{donl: t.Fmtp["sprop-max-don-diff"] != "" && t.Fmtp["sprop-max-don-diff"] != "0"}
	for _, name := range []string{"sprop-vps", "sprop-sps", "sprop-pps"} {
		for _, set := range t.ParameterSets(name) {
			f.parameterSet(set)
		}
	}
	return f
}

func (f *h265) Decoder() string { return "hevc" }

func (f *h265) Keep(on bool) { f.drop = !on }

func (f *h265) Picture() (*Picture, error) {
	f.finishSet()
	if f.pic == nil {
		return nil, f.picErr
	}
	return f.pic, nil
}

// Payload splits one RTP payload into NAL units (RFC 7798 §4.4.1 to §4.4.3).
func (f *h265) Payload(b []byte) error {
	if len(b) < 3 {
		return errPayload265
	}
	kind, rest := b[0]>>1&0x3f, b[2:]
	switch {
	case kind < hevcAP:
		if f.donl {
			if len(rest) < 3 {
				return errPayload265
			}
			rest = rest[2:]
		}
		f.nal([2]byte{b[0], b[1]}, rest, true)
	case kind == hevcAP:
		return f.aggregation(rest)
	case kind == hevcFU:
		start := rest[0]&0x80 != 0
		head := [2]byte{b[0]&0x81 | rest[0]&0x3f<<1, b[1]}
		if rest = rest[1:]; start && f.donl {
			if len(rest) < 2 {
				return errPayload265
			}
			rest = rest[2:]
		}
		f.nal(head, rest, start)
	case kind == hevcPACI:
		return &UnreadError{"H.265", "PACI"}
	default:
		return errPayload265
	}
	return nil
}

// aggregation takes the units of an aggregation packet (RFC 7798 §4.4.2).
func (f *h265) aggregation(rest []byte) error {
	for first := true; len(rest) > 0; first = false {
		skip := 0
		switch {
		case f.donl && first:
			skip = 2
		case f.donl:
			skip = 1
		}
		if len(rest) < skip+2 {
			return errPayload265
		}
		rest = rest[skip:]
		n := int(binary.BigEndian.Uint16(rest))
		if n < 3 || n > len(rest)-2 {
			return errPayload265
		}
		f.nal([2]byte{rest[2], rest[3]}, rest[4:2+n], true)
		rest = rest[2+n:]
	}
	return nil
}

// nal takes one NAL unit or a part of one, in order.
func (f *h265) nal(head [2]byte, part []byte, start bool) {
	kind := head[0] >> 1 & 0x3f
	set := kind >= hevcVPS && kind <= hevcPPS
	if start {
		f.finishSet()
		switch {
		case set:
			f.buildKind = kind
			f.building = append(append(f.building[:0], head[:]...), part...)
		case kind <= hevcLastVCL:
			f.slice(kind, part)
		}
	} else if f.buildKind != 0 && len(f.building) < maxSet {
		f.building = append(f.building, part...)
	}
	if f.drop || set || len(f.nals)+len(part) > maxKeyframe {
		return
	}
	if start {
		f.nals = append(append(f.nals, startCode...), head[:]...)
	}
	f.nals = append(f.nals, part...)
}

// slice reads the type of a picture's slice from its header (ITU-T H.265 §7.3.6.1). Those behind the first segment have their address
// before it, whose length follows from the size; the first one speaks for the picture.
func (f *h265) slice(kind byte, part []byte) {
	f.slices++
	irap := kind >= hevcFirstIRAP && kind <= hevcLastIRAP
	f.irap = f.irap || irap
	var head [16]byte
	r := bitReader{b: unescaped(head[:0], part)}
	if !r.bit() { // first_slice_segment_in_pic_flag
		return
	}
	if irap {
		r.bit() // no_output_of_prior_pics_flag
	}
	r.ue() // slice_pic_parameter_set_id
	r.skip(f.extraBits)
	if t := r.ue(); !r.short && t < 3 {
		f.kinds[t]++
	}
}

func (f *h265) EndFrame() Frame {
	f.finishSet()
	frame := Frame{Slices: f.slices}
	switch {
	case f.irap:
		frame.Kind = Key
	case f.kinds[0] > 0:
		frame.Kind = Bidirectional
	}
	complete := f.pic != nil && f.sets[0] != nil && f.sets[2] != nil
	if len(f.nals) > 0 && (frame.Kind != Key || complete) {
		f.out = f.out[:0]
		for _, set := range f.sets {
			if frame.Kind == Key {
				f.out = append(append(f.out, startCode...), set...)
			}
		}
		f.out = append(f.out, f.nals...)
		frame.Data = f.out
	}
	f.irap, f.kinds, f.slices, f.nals = false, [3]int{}, 0, f.nals[:0]
	return frame
}

func (f *h265) finishSet() {
	if f.buildKind != 0 {
		f.buildKind = 0
		f.parameterSet(f.building)
	}
}

func (f *h265) parameterSet(nal []byte) {
	if len(nal) < 3 || len(nal) > maxSet {
		return
	}
	i := int(nal[0]>>1&0x3f) - hevcVPS
	if i < 0 || i > 2 || string(nal) == string(f.sets[i]) {
		return
	}
	switch i + hevcVPS {
	case hevcSPS:
		pic, err := parseSPS265(nal)
		if err != nil {
			f.picErr = err
			return
		}
		f.pic, f.picErr = pic, nil
	case hevcPPS: // ITU-T H.265 §7.3.2.3.1
		r := bitReader{b: unescaped(make([]byte, 0, 16), nal[2:])}
		r.ue()
		r.ue()
		r.skip(2)
		f.extraBits = int(r.bits(3))
	}
	f.sets[i] = append([]byte(nil), nal...)
}

// ParseSPS265 reads what an H.265 sequence parameter set, NAL header included, says of the picture, and its profile, tier and level as they
// stand there: general_profile_space to general_level_idc (ITU-T H.265 §7.3.3).
func ParseSPS265(nal []byte) (pic *Picture, ptl [12]byte, err error) {
	if len(nal) < 3 {
		return nil, ptl, &HeaderError{"H.265 parameter set (SPS)", "ends too early"}
	}
	if pic, err = parseSPS265(nal); err == nil {
		copy(ptl[:], unescaped(make([]byte, 0, len(nal)), nal[2:])[1:])
	}
	return pic, ptl, err
}

// parseSPS265 reads what an H.265 sequence parameter set, NAL header included, says of the picture (ITU-T H.265 §7.3.2.2).
func parseSPS265(nal []byte) (*Picture, error) {
	bad := func(problem string) error { return &HeaderError{"H.265 parameter set (SPS)", problem} }
	r := &bitReader{b: unescaped(make([]byte, 0, len(nal)), nal[2:])}
	r.bits(4) // sps_video_parameter_set_id
	layers := int(r.bits(3))
	r.bit()
	p := &Picture{}
	r.profileTierLevel(p, layers)
	r.ue() // sps_seq_parameter_set_id
	chroma := r.ue()
	separate := chroma == 3 && r.bit()
	width, height := int64(r.ue()), int64(r.ue())
	if r.bit() { // conformance window, in chroma units (table 6-1)
		unitX, unitY := int64(1), int64(1)
		if !separate && (chroma == 1 || chroma == 2) {
			unitX = 2
		}
		if !separate && chroma == 1 {
			unitY = 2
		}
		left, right, top, bottom := int64(r.ue()), int64(r.ue()), int64(r.ue()), int64(r.ue())
		width -= unitX * (left + right)
		height -= unitY * (top + bottom)
	}
	if r.short {
		return nil, bad("ends too early")
	}
	if problem := sizeError(width, height); problem != "" {
		return nil, bad(problem)
	}
	p.Width, p.Height = int(width), int(height)
	return p, nil
}

// profileTierLevel reads §7.3.3 for the stream as a whole, and passes over what it says of sub-layers.
func (r *bitReader) profileTierLevel(p *Picture, layers int) {
	r.bits(2)
	p.Tier = "Main"
	if r.bit() {
		p.Tier = "High"
	}
	profile := r.bits(5)
	names := map[uint32]string{1: "Main", 2: "Main 10", 3: "Main Still Picture", 4: "Format Range Extensions", 9: "Screen Content"}
	if p.Profile = names[profile]; p.Profile == "" {
		p.Profile = fmt.Sprintf("profile %d", profile)
	}
	r.skip(32) // compatibility flags
	progressive, interlaced := r.bit(), r.bit()
	p.Interlaced = interlaced && !progressive
	r.skip(46)
	level := r.bits(8) // thirty times the level (§A.4.1)
	p.Level = fmt.Sprintf("%d.%d", level/30, level%30/3)
	if layers == 0 {
		return
	}
	flags := r.bits(16)
	for i := range layers {
		if flags>>(15-2*i)&1 == 1 {
			r.skip(88)
		}
		if flags>>(14-2*i)&1 == 1 {
			r.skip(8)
		}
	}
}
