package media

import "encoding/hex"

// maxElement bounds an AudioMuxElement that is spread over packets; a frame of AAC has at most 6144 bits a channel (ISO/IEC 14496-3
// §4.5.3).
const maxElement = 8 << 10

// A latmReader takes access units out of the AudioMuxElements of RFC 6416 §6, of the plain kind that devices send: their configuration
// stands in the description, and there is one program with one layer, whose frames tell their own length.
type latmReader struct {
	frames  int // in an element
	element []byte
	stamp   uint32
	open    bool // an element is under way
}

// newLATM reads StreamMuxConfig (ISO/IEC 14496-3 §1.7.3.1) from the description. config is the AudioSpecificConfig in it; ok is false
// where the stream is of another kind, as one whose configuration stands in band.
func newLATM(fmtp map[string]string) (l *latmReader, config []byte, ok bool) {
	raw, err := hex.DecodeString(fmtp["config"])
	if err != nil || len(raw) == 0 || len(raw) > 64 || fmtp["cpresent"] != "0" {
		return nil, nil, false
	}
	r := &bitReader{b: raw}
	version, together := r.bit(), r.bit()
	frames := int(r.bits(6)) + 1
	if program, layer := r.bits(4), r.bits(3); version || !together || program != 0 || layer != 0 {
		return nil, nil, false
	}
	from := r.at
	if !r.specificConfig() {
		return nil, nil, false
	}
	to := r.at
	if r.bits(3) != 0 || r.short { // frameLengthType: each frame tells its length
		return nil, nil, false
	}
	r.at = from
	for at := from; at < to; at += 8 { // bytes again, the last filled up with zeros
		n := min(8, to-at)
		config = append(config, byte(r.bits(n)<<(8-n)))
	}
	return &latmReader{frames: frames}, config, true
}

// specificConfig reads over an AudioSpecificConfig (§1.6.2.1) of AAC with a channel configuration of the table.
func (r *bitReader) specificConfig() (ok bool) {
	object := r.object()
	r.frequency()
	channels := r.bits(4)
	if object == 5 || object == 29 {
		r.frequency()
		object = r.object()
	}
	if object < 1 || object > 4 || channels == 0 {
		return false
	}
	r.skip(1) // frameLengthFlag (GASpecificConfig, §4.4.1)
	if r.bit() {
		r.skip(14) // coreCoderDelay
	}
	extended := r.bit()
	return !extended && !r.short
}

// packet takes one RTP packet and hands on the access units of the element that it ends.
func (l *latmReader) packet(p packet, each func([]byte)) {
	if !l.open || p.timestamp != l.stamp {
		l.element, l.stamp = l.element[:0], p.timestamp
	}
	l.open = len(l.element)+len(p.payload) <= maxElement
	if !l.open {
		return
	}
	l.element = append(l.element, p.payload...)
	if !p.marker { // the rest follows
		return
	}
	l.open = false
	b := l.element
	for range l.frames {
		size, more := 0, true // PayloadLengthInfo, §1.7.3.1
		for more {
			if len(b) == 0 {
				return
			}
			more = b[0] == 255
			size += int(b[0])
			b = b[1:]
		}
		if size == 0 || size > len(b) {
			return
		}
		each(b[:size])
		b = b[size:]
	}
}
