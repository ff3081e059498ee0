package media

import "math/bits"

// A g726 decodes adaptive differential PCM (ITU-T G.726, whose clauses are named here) of 2 to 5 bits a sample. The names of its fields are
// those of the signals in the Recommendation, whose fixed-point arithmetic it follows, so that it never drifts from a sender that does.
type g726 struct {
	bits  int
	table *g726Table

	yu, yl   int    // quantizer scale factor, unlocked and locked (2.5)
	dms, dml int    // means of the weighted code, of short and long term (2.6)
	ap       int    // speed control
	a        [2]int // coefficients of the second-order predictor (2.7)
	b        [6]int // of the sixth-order one
	dq       [6]int // quantized differences, as floating point of 11 bits
	sr       [2]int // reconstructed signal, likewise
	pk       [2]bool
	td       bool // a tone was detected
}

// A g726Table is what a rate's codes stand for, by magnitude: the logarithm of the difference (2.4), the multiplier W of the scale factor
// (2.5) and the weight F for the speed control (2.6).
type g726Table struct{ ln, w, f []int }

var g726Tables = map[int]*g726Table{
	2: {[]int{116, 365}, []int{-22, 439}, []int{0, 7}},
	3: {[]int{-2048, 135, 273, 373}, []int{-4, 30, 137, 582}, []int{0, 1, 2, 7}},
	4: {[]int{-2048, 4, 135, 213, 273, 323, 373, 425}, []int{-12, 18, 41, 64, 112, 198, 355, 1122}, []int{0, 0, 0, 1, 1, 1, 3, 7}},
	5: {[]int{-2048, -66, 28, 104, 169, 224, 274, 318, 358, 395, 429, 459, 488, 514, 539, 566},
		[]int{14, 14, 24, 39, 40, 41, 58, 100, 141, 179, 219, 280, 358, 440, 529, 696},
		[]int{0, 0, 0, 0, 0, 1, 1, 1, 1, 1, 2, 3, 4, 5, 6, 6}},
}

// newG726 prepares a decoder for codes of so many bits; ok is false for other than 2 to 5.
func newG726(bits int) (d *g726, ok bool) {
	table := g726Tables[bits]
	return &g726{bits: bits, table: table, yu: 544, yl: 34816, dq: [6]int{32, 32, 32, 32, 32, 32}, sr: [2]int{32, 32}}, table != nil
}

// sample decodes one code (RECONST to the output of 14 bits, then as 16).
func (d *g726) sample(code int) int16 {
	negative := code&(1<<(d.bits-1)) != 0
	magnitude := code
	if negative {
		magnitude = code ^ (1<<d.bits - 1)
	}
	zeros := 0
	for i, b := range d.b {
		zeros += g726Product(b>>2, d.dq[i])
	}
	whole := zeros + g726Product(d.a[1]>>2, d.sr[1]) + g726Product(d.a[0]>>2, d.sr[0])
	estimate, partial := int(int16(whole))>>1, int(int16(zeros))>>1

	y := d.scale()
	difference := 0 // its magnitude
	if log := d.table.ln[magnitude] + y>>2; log >= 0 {
		difference = (128 + log&127) << 7 >> (14 - log>>7&15)
	}
	signed := difference
	if negative {
		signed = -difference
	}
	out := estimate + signed
	d.adapt(y, magnitude, difference, negative, out, signed+partial)
	return int16(min(max(out, -8192), 8191) << 2)
}

// scale mixes the two scale factors by the speed control (MIX).
func (d *g726) scale() int {
	if d.ap >= 256 {
		return d.yu
	}
	y, apart, al := d.yl>>6, d.yu-d.yl>>6, d.ap>>2
	if apart >= 0 {
		return y + apart*al>>6
	}
	return y - (-apart*al)>>6
}

// adapt brings the state on by one sample: out is the reconstructed signal, fault the difference together
// with the partial estimate.
func (d *g726) adapt(y, code, difference int, negative bool, out, fault int) {
	// TRANS: a partial-band signal changes over to another.
	threshold := (32 + d.yl>>10&31) << (d.yl >> 15)
	if d.yl>>15 > 9 {
		threshold = 31 << 10
	}
	changed := d.td && difference > (threshold+threshold>>1)>>1

	d.yu = min(max(y+(d.table.w[code]<<5-y)>>5, 544), 5120)
	d.yl += d.yu + (-d.yl)>>6

	pk, tone := fault < 0, false
	if changed {
		d.a, d.b = [2]int{}, [6]int{}
	} else {
		tone = d.coefficients(pk, fault == 0, difference, negative)
	}
	copy(d.dq[1:], d.dq[:5])
	d.dq[0] = g726Float(difference, negative)
	d.sr[1], d.sr[0] = d.sr[0], g726Float(abs(out), out < 0)
	d.pk[1], d.pk[0] = d.pk[0], pk
	d.td = tone

	f := d.table.f[code] << 9
	d.dms += (f - d.dms) >> 5
	d.dml += (f<<2 - d.dml) >> 7
	switch {
	case changed:
		d.ap = 256
	case y < 1536, d.td, abs(d.dms<<2-d.dml) >= d.dml>>3:
		d.ap += (512 - d.ap) >> 4
	default:
		d.ap += -d.ap >> 4
	}
}

// coefficients brings the predictor on (UPA1, UPA2, UPB with their limits) and reports whether it shows a tone (TONE).
func (d *g726) coefficients(pk, still bool, difference int, negative bool) (tone bool) {
	unlike := pk != d.pk[0]
	a2 := d.a[1] - d.a[1]>>7
	if !still {
		f := d.a[0]
		if !unlike {
			f = -f
		}
		switch {
		case f < -8191:
			a2 -= 256
		case f > 8191:
			a2 += 255
		default:
			a2 += f >> 5
		}
		if pk != d.pk[1] {
			a2 -= 128
		} else {
			a2 += 128
		}
		a2 = min(max(a2, -12288), 12288)
	}
	d.a[1] = a2
	d.a[0] -= d.a[0] >> 8
	if !still {
		if unlike {
			d.a[0] -= 192
		} else {
			d.a[0] += 192
		}
	}
	most := 15360 - a2
	d.a[0] = min(max(d.a[0], -most), most)

	leak := 8
	if d.bits == 5 {
		leak = 9
	}
	for i := range d.b {
		d.b[i] -= d.b[i] >> leak
		switch {
		case difference == 0:
		case negative == (d.dq[i] < 0):
			d.b[i] += 128
		default:
			d.b[i] -= 128
		}
	}
	return a2 < -11776
}

// g726Float returns a magnitude as floating point: an exponent above 6 bits of mantissa, less 1024 where it is negative (FLOATA, FLOATB).
func g726Float(magnitude int, negative bool) int {
	v := 32
	if magnitude > 0 {
		exponent := bitLength(magnitude)
		v = exponent<<6 + magnitude<<6>>exponent
	}
	if negative {
		v -= 1024
	}
	return v
}

// g726Product multiplies a coefficient with a value in floating point (FMULT).
func g726Product(a, v int) int {
	magnitude, exponent, mantissa := a, -6, 32
	if a <= 0 {
		magnitude = -a & 0x1fff
	}
	if magnitude > 0 {
		exponent += bitLength(magnitude)
		if mantissa = magnitude >> max(exponent, 0); exponent < 0 {
			mantissa = magnitude << -exponent
		}
	}
	exponent += v>>6&15 - 13
	product := (mantissa*(v&63) + 48) >> 4
	if exponent >= 0 {
		product = product << exponent & 0x7fff
	} else {
		product >>= -exponent
	}
	if (a < 0) != (v < 0) {
		return -product
	}
	return product
}

// bitLength returns the exponent of a magnitude.
func bitLength(v int) int { return min(bits.Len(uint(v)), 15) }

func abs(v int) int { return max(v, -v) }
