package media

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDecodeTimesOfAStreamInOrder(t *testing.T) {
	t.Parallel()
	var d DecodeTimes
	for i := range 100 {
		decode, show := d.Next(uint32(math.MaxUint32 - 7200 + i*3600)) // the clock wraps
		assert.EqualValues(t, i*3600, decode)
		assert.EqualValues(t, i*3600, show)
	}
}

// Frames of which two are shown before one that came earlier: after the first few each is decoded before it is shown, in steps of a frame.
func TestDecodeTimesOfBFrames(t *testing.T) {
	t.Parallel()
	for name, group := range map[string][]int{"one B-frame": {2, 1}, "two B-frames": {3, 1, 2}, "a pyramid": {4, 2, 1, 3}} {
		var d DecodeTimes
		d.Next(0)
		last := int64(0)
		for n := range 50 {
			for i, at := range group {
				decode, show := d.Next(uint32((n*len(group) + at) * 3600))
				assert.Greater(t, decode, last, name)
				assert.EqualValues(t, (n*len(group)+at)*3600, show, name)
				if n >= 3 {
					assert.LessOrEqual(t, decode, show, "%s: frame %d of group %d", name, i, n)
					assert.EqualValues(t, 3600, decode-last, "%s: frame %d of group %d", name, i, n)
				}
				last = decode
			}
		}
	}
}

// With the times of the first frames told before, every frame is decoded before it is shown, from the first one on.
func TestDecodeTimesThatAreExpected(t *testing.T) {
	t.Parallel()
	for name, group := range map[string][]int{"in order": {1}, "one B-frame": {2, 1}, "two B-frames": {3, 1, 2}, "a pyramid": {4, 2, 1, 3}} {
		stamps := []uint32{0}
		for n := range 10 {
			for _, at := range group {
				stamps = append(stamps, uint32((n*len(group)+at)*3600))
			}
		}
		var d DecodeTimes
		d.Expect(stamps[:LookAhead])
		for i, s := range stamps {
			decode, show := d.Next(s)
			assert.EqualValues(t, i*3600, decode, "%s: frame %d", name, i)
			assert.LessOrEqual(t, decode, show, "%s: frame %d", name, i)
		}
	}
}

func TestDecodeTimesOfAClockThatJumps(t *testing.T) {
	t.Parallel()
	for name, to := range map[string]uint32{"far ahead": 900_000_000, "back": 4_000_000_000, "nowhere": 7200} {
		var d DecodeTimes
		d.Next(0)
		d.Next(3600)
		d.Next(7200)
		decode, show := d.Next(to)
		assert.EqualValues(t, 10_800, decode, name)
		assert.EqualValues(t, 10_800, show, name)
		decode, _ = d.Next(to + 3600)
		assert.EqualValues(t, 14_400, decode, name)
	}
}

func FuzzDecodeTimes(f *testing.F) {
	f.Add([]byte{0, 1, 2, 3, 200, 100})
	f.Fuzz(func(t *testing.T, steps []byte) {
		var d DecodeTimes
		stamp, last := uint32(0), int64(-1)
		for _, s := range steps {
			stamp += uint32(int32(int8(s))) * 1800
			decode, show := d.Next(stamp)
			if decode <= last || show < 0 && decode < 0 {
				t.Fatalf("decode %d after %d, show %d", decode, last, show)
			}
			if len(d.waiting) > mostReordered+1 {
				t.Fatalf("%d frames are held back", len(d.waiting))
			}
			last = decode
		}
	})
}
