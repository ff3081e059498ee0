package media

import (
	"bytes"
	"image"
	"image/jpeg"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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

// A JPEG file that is sent over RTP comes out with the same scan and tables; what RTP does not carry is said, and becomes nothing.
func TestJPEGFilesAreSent(t *testing.T) {
	t.Parallel()
	for _, size := range [][2]int{{640, 360}, {320, 240}, {100, 52}} {
		var file bytes.Buffer
		require.NoError(t, jpeg.Encode(&file, drawn(size[0], size[1]), &jpeg.Options{Quality: 70}))
		f := &Fragmenter{Codec: "JPEG", Files: true}
		a, ok := NewAssembler(Track{Kind: "video", Payload: 26, Codec: "JPEG", ClockRate: 90000, Width: size[0], Height: size[1]})
		require.True(t, ok)
		var got []byte
		whole := append([]byte{0x80, 26 | 0x80, 9, 9, 0, 0, 1, 0, 0, 0, 0, 7}, file.Bytes()...)
		require.NoError(t, f.Packet(whole, func(b []byte) {
			assert.LessOrEqual(t, len(b), 12+maxFragment)
			a.Packet(b, func(f Frame, stamp uint32) { got = bytes.Clone(f.Data); assert.Equal(t, uint32(256), stamp) })
		}))
		want, have := takeApart(t, file.Bytes()), takeApart(t, got)
		assert.Equal(t, want.tables, have.tables)
		assert.Equal(t, want.data, have.data)
		assert.Equal(t, size, [2]int{have.width, have.height})
	}
	// A file whose components share one table, as encoders write that are in a hurry.
	var file bytes.Buffer
	require.NoError(t, jpeg.Encode(&file, drawn(64, 48), nil))
	one := bytes.Clone(file.Bytes())
	frame := bytes.Index(one, []byte{0xff, 0xc0})
	one[frame+15], one[frame+18] = 0, 0
	p, err := takeJPEGApart(one)
	require.NoError(t, err)
	assert.Equal(t, p.tables[:64], p.tables[64:])

	never := func([]byte) { t.Error("it became something") }
	refused := func(b []byte) error {
		return (&Fragmenter{Codec: "JPEG", Files: true}).Packet(append([]byte{0x80, 26, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, b...), never)
	}
	var grey, large bytes.Buffer
	require.NoError(t, jpeg.Encode(&grey, image.NewGray(image.Rect(0, 0, 64, 64)), nil))
	require.NoError(t, jpeg.Encode(&large, image.NewRGBA(image.Rect(0, 0, 2048, 64)), nil))
	assert.ErrorIs(t, refused(grey.Bytes()), errJPEGSampling)
	assert.ErrorIs(t, refused(large.Bytes()), errJPEGSize)
	assert.ErrorIs(t, refused([]byte("GIF89a")), errNoJPEG)
	assert.ErrorIs(t, refused(large.Bytes()[:40]), errNoJPEG)
	assert.ErrorIs(t, standardHuffman(append([]byte{0, 0, 2}, make([]byte, 20)...)), errJPEGHuffman)
}

func FuzzJPEGFragmenter(f *testing.F) {
	var file bytes.Buffer
	_ = jpeg.Encode(&file, drawn(64, 48), nil)
	f.Add(file.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		x := &Fragmenter{Codec: "JPEG", Files: true}
		_ = x.Packet(append([]byte{0x80, 26, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, b...), func(b []byte) {
			if len(b) > 12+maxFragment {
				t.Fatal("a packet is too long")
			}
		})
	})
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
