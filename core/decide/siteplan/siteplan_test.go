package siteplan

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func drawing(t *testing.T, width, height int) []byte {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, width, height))
	for x := range width {
		img.Set(x, height/2, color.NRGBA{A: 255})
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	return b.Bytes()
}

// pngHead is the head of a PNG that says it has so many pixels, and none of them.
func pngHead(width, height uint32) []byte {
	head := append([]byte("IHDR"), binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, width), height)...)
	head = append(head, 8, 2, 0, 0, 0)
	out := append([]byte("\x89PNG\r\n\x1a\n"), 0, 0, 0, 13)
	out = append(out, head...)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(head))
}

func TestReadAPicture(t *testing.T) {
	p, err := Read(drawing(t, 6000, 3000))
	require.NoError(t, err)
	assert.Equal(t, "image/png", p.Type)
	assert.Equal(t, []int{4096, 2048}, []int{p.Width, p.Height})
	img, err := png.Decode(bytes.NewReader(p.Data))
	require.NoError(t, err)
	r, g, b, a := img.At(10, 10).RGBA()
	assert.Equal(t, []uint32{0xffff, 0xffff, 0xffff, 0xffff}, []uint32{r, g, b, a}, "what was transparent is white")

	var photo bytes.Buffer
	require.NoError(t, jpeg.Encode(&photo, image.NewGray(image.Rect(0, 0, 200, 100)), nil))
	p, err = Read(photo.Bytes())
	require.NoError(t, err)
	assert.Equal(t, "image/jpeg", p.Type)
	assert.Equal(t, 200, p.Width)
}

func TestPicturesThatAreNotTaken(t *testing.T) {
	whole := drawing(t, 300, 200)
	for name, c := range map[string]struct {
		raw  []byte
		says string
	}{
		"100 MB":               {make([]byte, 100<<20), "100 MB"},
		"a huge bitmap":        {pngHead(60_000, 60_000), "60000×60000"},
		"one that overflows":   {pngHead(1<<31-1, 1<<31-1), "overflow"},
		"a PDF":                {[]byte("%PDF-1.7\n/JavaScript"), "PDF"},
		"text":                 {[]byte("no picture"), "no picture"},
		"nothing":              {nil, "no picture"},
		"one that is cut off":  {whole[:len(whole)/2], "damaged"},
		"one of a few pixels":  {drawing(t, 10, 10), "10×10"},
		"a head with no image": {pngHead(300, 200), "damaged"},
	} {
		_, err := Read(c.raw)
		var refused *BadPictureError
		require.ErrorAs(t, err, &refused, name)
		assert.Contains(t, refused.Problem, c.says, name)
		assert.NotEmpty(t, refused.Fix, name)
	}
}

func TestMarks(t *testing.T) {
	turn := func(d float64) *float64 { return &d }
	m, err := Mark{X: 0.5, Y: 1, Direction: turn(-90)}.Check()
	require.NoError(t, err)
	assert.Equal(t, 270.0, *m.Direction)
	assert.Equal(t, float64(UsualView), m.View)
	for _, m := range []Mark{{X: 1.01}, {Y: -0.1}, {X: math.NaN()}, {Direction: turn(math.Inf(1))}} {
		_, err := m.Check()
		assert.Error(t, err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(pngHead(300, 200))
	f.Add([]byte("\xff\xd8\xff\xe0"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		p, err := Read(raw)
		if err == nil && (p.Width > keptSide || p.Height > keptSide) {
			t.Fatalf("%dx%d", p.Width, p.Height)
		}
	})
}
