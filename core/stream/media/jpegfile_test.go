package media

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// picture returns a JPEG of noise, so that its coded data holds every byte.
func picture(width, height int) []byte {
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	r := rand.New(rand.NewPCG(uint64(width), uint64(height)))
	for i := range img.Pix {
		img.Pix[i] = byte(r.UintN(256))
	}
	img.Set(0, 0, color.White)
	var b bytes.Buffer
	jpeg.Encode(&b, img, nil)
	return b.Bytes()
}

// withThumbnail puts a whole JPEG into an application segment, as cameras put small pictures into large ones.
func withThumbnail(b []byte) []byte {
	small := picture(16, 16)
	segment := append([]byte{0xff, 0xe1, byte((len(small) + 2) >> 8), byte(len(small) + 2)}, small...)
	return slices.Insert(slices.Clone(b), 2, segment...)
}

// Whatever stands between the pictures, and however the bytes come, the same pictures are found.
func TestPicturesAreFoundInAStream(t *testing.T) {
	pictures := [][]byte{picture(64, 48), withThumbnail(picture(80, 48)), picture(32, 32)}
	for name, between := range map[string]func(n int) string{
		"boundaries": func(n int) string {
			return fmt.Sprintf("--cut\r\nContent-Type: image/jpeg\r\nContent-Length: %d\r\n\r\n", n)
		},
		"without lengths":       func(int) string { return "\r\ncut\nContent-Type: image/jpeg\n\n" },
		"lengths that are lies": func(int) string { return "--cut\r\nContent-Length: 7\r\n\r\n" },
		"nothing":               func(int) string { return "" },
	} {
		for _, step := range []int{1, 7, 1 << 20} {
			t.Run(fmt.Sprint(name, " ", step), func(t *testing.T) {
				var stream []byte
				for _, p := range pictures {
					stream = append(append(stream, between(len(p))...), p...)
				}
				var got [][]byte
				var s JPEGScanner
				for piece := range slices.Chunk(stream, step) {
					require.NoError(t, s.Take(piece, func(b []byte) { got = append(got, bytes.Clone(b)) }))
				}
				assert.Equal(t, pictures, got)
			})
		}
	}
}

func TestAPictureWithoutEndEndsWhereTheNextBegins(t *testing.T) {
	whole := picture(64, 48)
	var got [][]byte
	var s JPEGScanner
	stream := append(append(slices.Clone(whole[:len(whole)-2]), "\r\n--cut\r\n\r\n"...), whole...)
	require.NoError(t, s.Take(stream, func(b []byte) { got = append(got, bytes.Clone(b)) }))
	require.Len(t, got, 2)
	img, err := jpeg.DecodeConfig(bytes.NewReader(got[0]))
	require.NoError(t, err)
	assert.Equal(t, 64, img.Width)
	assert.Equal(t, whole, got[1])
}

func TestWhatIsNoStreamOfPictures(t *testing.T) {
	for want, piece := range map[string]string{
		"a page came in place of pictures": "--cut\r\n\r\n<!DOCTYPE HTML><p>Sign in",
		"without one":                      "nothing of a picture ",
		"is over 8 MB":                     "coded data ",
		"beginnings of one":                "\xff\xd8\xff\xe0\x00\x00",
	} {
		var s JPEGScanner
		if want == "is over 8 MB" {
			require.NoError(t, s.Take([]byte{0xff, 0xd8, 0xff, 0xda, 0, 2}, nil))
		}
		var err error
		for n := 0; n < 9<<20 && err == nil; n += 64 << 10 {
			err = s.Take(bytes.Repeat([]byte(piece), (64<<10)/len(piece)), func([]byte) { t.Error("a picture") })
		}
		var bad *JPEGStreamError
		require.ErrorAs(t, err, &bad, want)
		assert.Contains(t, bad.Problem, want)
	}
}

// Files are measured as every stream is: size, rate and kind from what came.
func TestFilesAreMeasured(t *testing.T) {
	e, ok := NewElementary("JPEG")
	require.True(t, ok)
	track, _ := e.Track()
	m := NewMeter(track)
	began := time.Unix(1_700_000_000, 0)
	file := picture(320, 184)
	for i := range 21 {
		at := began.Add(time.Duration(i) * 100 * time.Millisecond)
		e.Unit(file, uint64(i)*9000, true, false, func(b []byte) { m.Packet(b, at) })
	}
	got := m.Measured()
	assert.Equal(t, []any{"MJPEG", "Baseline", 320, 184, 0}, []any{got.Codec, got.Profile, got.Width, got.Height, got.Lost})
	assert.InDelta(t, 10, got.FPS, .1)
	require.NotNil(t, m.Keyframe())
	assert.Equal(t, file, m.Keyframe().Data)
}

func FuzzJPEGScanner(f *testing.F) {
	f.Add([]byte("--cut\r\n\r\n"), picture(16, 16))
	f.Add([]byte{0xff, 0xd8, 0xff, 0xff, 0xd8}, []byte{0xff, 0xd9})
	f.Fuzz(func(t *testing.T, a, b []byte) {
		whole, split := JPEGScanner{}, JPEGScanner{}
		var one, other [][]byte
		keep := func(to *[][]byte) func([]byte) {
			return func(b []byte) { *to = append(*to, bytes.Clone(b)) }
		}
		if whole.Take(append(slices.Clone(a), b...), keep(&one)) != nil ||
			split.Take(a, keep(&other)) != nil || split.Take(b, keep(&other)) != nil {
			return
		}
		assert.Equal(t, one, other, "however the bytes come, the pictures are the same")
		for _, p := range one {
			readJPEGHeader(p)
		}
	})
}
