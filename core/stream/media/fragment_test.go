package media

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is cut is put together again as it was.
func TestFragmentsArePutTogether(t *testing.T) {
	t.Parallel()
	for codec, head := range map[string][]byte{"H264": {0x65}, "H265": {0x26, 1}} {
		for _, size := range []int{10, maxFragment - len(head), maxFragment + 1, 5000, 100_000} {
			unit := append(bytes.Clone(head), bytes.Repeat([]byte{0x5a, 0xa5, 7}, size/3+1)[:size]...)
			whole := append([]byte{0x80, 96 | 0x80, 9, 9, 0, 0, 1, 0, 0, 0, 0, 7}, unit...)
			f := &Fragmenter{Codec: codec}
			var got []byte
			packets := 0
			f.Packet(whole, func(b []byte) {
				packets++
				assert.LessOrEqual(t, len(b), 12+maxFragment)
				assert.Equal(t, byte(packets-1), b[3], "numbers without gaps")
				got = append(got, unfragmented(codec, b[12:])...)
				assert.Equal(t, len(got) == len(unit), b[1]&0x80 != 0, "the marker is the last one's")
			})
			assert.Equal(t, 1+(len(unit)-1)/maxFragment > 1, packets > 1, "%s of %d bytes", codec, size)
			assert.True(t, bytes.Equal(unit, got), "%s of %d bytes", codec, size)
		}
	}
}

// unfragmented returns what a payload adds to its unit (RFC 6184 §5.8, RFC 7798 §4.4.3).
func unfragmented(codec string, p []byte) []byte {
	switch {
	case codec == "H264" && p[0]&0x1f == 28 && p[1]&0x80 != 0:
		return append([]byte{p[0]&0xe0 | p[1]&0x1f}, p[2:]...)
	case codec == "H264" && p[0]&0x1f == 28:
		return p[2:]
	case codec == "H265" && p[0]>>1&0x3f == 49 && p[2]&0x80 != 0:
		return append([]byte{p[0]&0x81 | p[2]&0x3f<<1, p[1]}, p[3:]...)
	case codec == "H265" && p[0]>>1&0x3f == 49:
		return p[3:]
	}
	return p
}

func TestWhatCannotBeCutBecomesNothing(t *testing.T) {
	t.Parallel()
	never := func([]byte) { t.Error("it became something") }
	f := &Fragmenter{Codec: "JPEG"}
	f.Packet([]byte{0x80, 26}, never)
	f.Packet(append(make([]byte, 12), make([]byte, 5000)...), never)
	long := append([]byte{0x80, 26, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, make([]byte, 5000)...)
	f.Packet(long, never)
}

func FuzzFragmenter(f *testing.F) {
	f.Add([]byte{0x80, 96, 0, 1, 0, 0, 0, 9, 0, 0, 0, 7, 0x65, 1}, 3000)
	f.Fuzz(func(t *testing.T, b []byte, more int) {
		if more > 0 {
			b = append(b, make([]byte, more%10_000)...)
		}
		for _, codec := range []string{"H264", "H265", "JPEG"} {
			(&Fragmenter{Codec: codec}).Packet(b, func(p []byte) {
				if len(p) > 12+maxFragment {
					t.Fatalf("%d bytes", len(p))
				}
			})
		}
	})
}
