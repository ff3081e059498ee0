package media

// bitReader reads the descriptors of ITU-T H.264 §7.2 and §9.1, which H.265 and MPEG-4 share. Past the end it yields zeros and sets short.
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

func (r *bitReader) skip(n int) {
	if r.at += n; r.at > 8*len(r.b) {
		r.short = true
	}
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

// unescaped takes the emulation prevention bytes out of a NAL unit (ITU-T H.264 §7.3.1, H.265 §7.3.1.1): 00 00 03 becomes 00 00. The
// result stands in to, as far as it has room.
func unescaped(to, nal []byte) []byte {
	to = to[:0]
	zeros := 0
	for _, b := range nal {
		if len(to) == cap(to) {
			break
		}
		if zeros >= 2 && b == 3 {
			zeros = 0
			continue
		}
		if to = append(to, b); b == 0 {
			zeros++
		} else {
			zeros = 0
		}
	}
	return to
}
