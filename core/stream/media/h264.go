package media

import (
	"encoding/binary"
	"errors"
)

// H.264 NAL unit types (ITU-T H.264 table 7-1) and RTP payload structures (RFC 6184 table 1).
const (
	nalSlice = 1
	nalIDR   = 5
	nalSEI   = 6
	nalSPS   = 7
	nalPPS   = 8
	nalSTAPA = 24
	nalFUA   = 28
)

// interleaved are the structures of the interleaved mode of H.264 (RFC 6184 table 1).
var interleaved = map[byte]string{25: "STAP-B", 26: "MTAP16", 27: "MTAP24", 29: "FU-B"}

var errPayload = errors.New("malformed H.264 payload")

// h264 is the Format of H.264 (RFC 6184). Parameter sets in the stream win over those in the description.
type h264 struct {
	pic       *Picture
	picErr    error
	setSPS    []byte // newest, from the description until one comes in band
	setPPS    []byte
	building  []byte // NAL unit under collection for a parameter set
	buildKind byte
	idr       bool
	recovery  bool // a recovery point (§D.1.8) stands before the frame: decoding may begin at it
	kinds     [5]int
	slices    int
	drop      bool
	nals      []byte // Annex B of the frame under way, without parameter sets
	out       []byte
}

func newH264(t Track) Format {
	f := &h264{}
	for _, set := range t.ParameterSets("sprop-parameter-sets") {
		f.parameterSet(set)
	}
	return f
}

func (f *h264) Decoder() string { return "h264" }

func (f *h264) Keep(on bool) { f.drop = !on }

func (f *h264) Payload(b []byte) error { return h264NALs(b, f.nal) }

// kind tells the frame by its slices (table 7-6). Intra pictures behind a recovery point are key frames as good as IDR pictures: some
// encoders send no others after the first.
func (f *h264) kind() FrameKind {
	intraOnly := f.slices > 0 && f.kinds[2]+f.kinds[4] == f.slices
	switch {
	case f.idr, f.recovery && intraOnly:
		return Key
	case f.kinds[1] > 0:
		return Bidirectional
	}
	return Predicted
}

func (f *h264) EndFrame() Frame {
	f.finishSet()
	frame := Frame{Kind: f.kind(), Slices: f.slices}
	key := frame.Kind == Key
	if len(f.nals) > 0 && (!key || f.pic != nil && f.setPPS != nil) {
		f.out = f.out[:0]
		if key {
			f.out = append(append(f.out, startCode...), f.setSPS...)
			f.out = append(append(f.out, startCode...), f.setPPS...)
		}
		f.out = append(f.out, f.nals...)
		frame.Data = f.out
	}
	f.idr, f.recovery, f.kinds, f.slices, f.nals = false, false, [5]int{}, 0, f.nals[:0]
	return frame
}

// startCode goes before each NAL unit of a byte stream (ITU-T H.264 annex B).
var startCode = []byte{0, 0, 0, 1}

func (f *h264) Picture() (*Picture, error) {
	f.finishSet()
	if f.pic == nil {
		return nil, f.picErr
	}
	return f.pic, nil
}

// nal takes one NAL unit or a part of one, in order.
func (f *h264) nal(header byte, part []byte, start bool) {
	kind := header & 0x1f
	if start {
		f.finishSet()
		switch kind {
		case nalSlice, nalIDR:
			f.idr = f.idr || kind == nalIDR
			f.slices++
			var head [16]byte
			r := bitReader{b: unescaped(head[:0], part)}
			r.ue() // first_mb_in_slice
			f.kinds[r.ue()%5]++
		case nalSEI:
			f.recovery = f.recovery || len(part) > 0 && part[0] == 6
		case nalSPS, nalPPS:
			f.buildKind = kind
			f.building = append(append(f.building[:0], header), part...)
		}
	} else if f.buildKind != 0 && len(f.building) < maxSet {
		f.building = append(f.building, part...)
	}
	if f.drop || len(f.nals)+len(part) > maxKeyframe || kind == nalSPS || kind == nalPPS {
		return
	}
	if start {
		f.nals = append(append(f.nals, startCode...), header)
	}
	f.nals = append(f.nals, part...)
}

func (f *h264) finishSet() {
	if f.buildKind != 0 {
		f.buildKind = 0
		f.parameterSet(f.building)
	}
}

func (f *h264) parameterSet(nal []byte) {
	switch nal[0] & 0x1f {
	case nalSPS:
		if string(nal) == string(f.setSPS) {
			return
		}
		s, err := ParseSPS(nal)
		if err != nil {
			f.picErr = err
			return
		}
		f.pic, f.setSPS, f.picErr = s, append([]byte(nil), nal...), nil
	case nalPPS:
		if string(nal) != string(f.setPPS) {
			f.setPPS = append([]byte(nil), nal...)
		}
	}
}

// h264NALs splits one RTP payload into NAL units (RFC 6184 §5.6 to §5.8) and calls each for the first or only part of
// every unit: header is its NAL header, part its bytes after the header, start whether this is its beginning.
// It allocates nothing. A structure of the interleaved mode is an *UnreadError.
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
	default:
		if name, ok := interleaved[kind]; ok {
			return &UnreadError{"H.264", name}
		}
		return errPayload
	}
	return nil
}
