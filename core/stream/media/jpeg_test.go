package media

import (
	"bytes"
	"context"
	"encoding/binary"
	"image"
	"image/color"
	"image/jpeg"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var jpegTrack = Track{Kind: "video", Payload: 96, Codec: "JPEG", ClockRate: 90000}

// A scan is a JPEG picture taken apart as RFC 2435 sends it.
type scan struct {
	width, height int
	tables        []byte
	data          []byte
}

// takeApart reads a baseline JFIF picture.
func takeApart(t testing.TB, jfif []byte) (s scan) {
	b := jfif[2:]
	for {
		require.Equal(t, byte(0xff), b[0])
		n := int(binary.BigEndian.Uint16(b[2:]))
		segment := b[4 : 2+n]
		switch b[1] {
		case 0xdb:
			for len(segment) >= 65 {
				s.tables, segment = append(s.tables, segment[1:65]...), segment[65:]
			}
		case 0xc0:
			s.height, s.width = int(binary.BigEndian.Uint16(segment[1:])), int(binary.BigEndian.Uint16(segment[3:]))
		case 0xda:
			s.data = b[2+n:]
			return s
		}
		b = b[2+n:]
	}
}

// packets writes one picture as a sender would. q from 128 on sends the tables, where tables is set.
func (s scan) packets(out *sender, kind, q byte, restart uint16, tables bool) (list [][]byte) {
	for offset := 0; offset < len(s.data); {
		part := s.data[offset:min(len(s.data), offset+1000)]
		head := []byte{0, byte(offset >> 16), byte(offset >> 8), byte(offset), kind, q, byte(s.width / 8), byte(s.height / 8)}
		if s.width > 2040 {
			head[6], head[7] = 0, 0
		}
		if kind >= 64 {
			head = append(head, byte(restart>>8), byte(restart), 0xff, 0xff)
		}
		if offset == 0 && q >= 128 {
			if tables {
				head = append(append(head, 0, 0, 0, byte(len(s.tables))), s.tables...)
			} else {
				head = append(head, 0, 0, 0, 0)
			}
		}
		offset += len(part)
		list = append(list, out.packet(offset == len(s.data), append(head, part...)...))
	}
	out.stamp += 3600
	return list
}

// drawn returns a picture that differs from corner to corner.
func drawn(width, height int) image.Image {
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			img.Set(x, y, color.RGBA{uint8(x * 255 / width), uint8(y * 255 / height), uint8(x ^ y), 255})
		}
	}
	return img
}

// flat422 codes a picture with 4:2:2 sampling, each block in one colour: a DC difference and the end of the block (ITU-T T.81 §F.1.2).
func flat422(img image.Image) scan {
	b := img.Bounds()
	s := scan{width: b.Dx(), height: b.Dy(), tables: bytes.Repeat([]byte{8}, 128)}
	var acc uint64
	var n int
	put := func(v uint64, bits int) {
		acc, n = acc<<bits|v, n+bits
		for ; n >= 8; n -= 8 {
			c := byte(acc >> (n - 8))
			if s.data = append(s.data, c); c == 0xff {
				s.data = append(s.data, 0)
			}
		}
	}
	code := func(table int, symbol byte) {
		t, v, k := huffmanTables[table], uint64(0), 0
		for length, count := range t.codes {
			for range count {
				if t.symbols[k] == symbol {
					put(v, length+1)
					return
				}
				v, k = v+1, k+1
			}
			v <<= 1
		}
	}
	var last [3]int
	block := func(component int, value uint8) {
		dc := (int(value) - 128) * 8 / 8
		diff, table := dc-last[component], min(component, 1)*2
		last[component] = dc
		size, m := 0, max(diff, -diff)
		for ; m > 0; m >>= 1 {
			size++
		}
		code(table, byte(size))
		if diff < 0 {
			diff += 1<<size - 1
		}
		put(uint64(diff), size)
		code(table+1, 0)
	}
	for y := 0; y < s.height; y += 8 {
		for x := 0; x < s.width; x += 16 {
			at := func(dx int) (uint8, uint8, uint8) {
				r, g, b, _ := img.At(x+dx, y+4).RGBA()
				return color.RGBToYCbCr(uint8(r>>8), uint8(g>>8), uint8(b>>8))
			}
			y0, cb, cr := at(4)
			y1, _, _ := at(12)
			block(0, y0)
			block(0, y1)
			block(1, cb)
			block(2, cr)
		}
	}
	put(0x7f, 7)
	return s
}

// near reports whether two pictures look the same, corner by corner.
func near(t *testing.T, want, got image.Image) {
	t.Helper()
	require.Equal(t, want.Bounds().Size(), got.Bounds().Size())
	b := want.Bounds()
	for _, p := range []image.Point{{4, 4}, {b.Dx() - 4, 4}, {4, b.Dy() - 4}, {b.Dx() - 4, b.Dy() - 4}} {
		r1, g1, _, _ := want.At(p.X, p.Y).RGBA()
		r2, g2, _, _ := got.At(p.X, p.Y).RGBA()
		assert.InDelta(t, r1>>8, r2>>8, 25, "%v", p)
		assert.InDelta(t, g1>>8, g2>>8, 25, "%v", p)
	}
}

func TestJPEGIsRebuilt(t *testing.T) {
	img := drawn(320, 176)
	var buf bytes.Buffer
	require.NoError(t, jpeg.Encode(&buf, img, &jpeg.Options{Quality: 80}))
	half := takeApart(t, buf.Bytes()) // 4:2:0
	full := flat422(img)
	for _, c := range []struct {
		name    string
		s       scan
		kind, q byte
		restart uint16
	}{
		{"type 0, tables in band", full, 0, 255, 0},
		{"type 1, tables in band", half, 1, 200, 0},
		{"type 64, a restart interval", full, 64, 128, 60000},
		{"type 65, a restart interval", half, 65, 255, 60000},
		{"type 1, a Q of the standard's own", half, 1, 80, 0},
	} {
		m := NewMeter(jpegTrack)
		out := &sender{}
		at := time.Unix(1000, 0)
		for range 3 {
			for _, p := range c.s.packets(out, c.kind, c.q, c.restart, true) {
				m.Packet(p, at)
			}
			at = at.Add(40 * time.Millisecond)
		}
		got := m.Measured()
		require.NotNil(t, m.Keyframe(), c.name)
		assert.Equal(t, []int{320, 176, 3, 3, 0}, []int{got.Width, got.Height, got.Frames, got.Keyframes, got.Malformed}, c.name)
		back, err := jpeg.Decode(bytes.NewReader(m.Keyframe().Data))
		require.NoError(t, err, c.name)
		near(t, img, back)
		_, err = Still(context.Background(), *m.Keyframe())
		assert.NoError(t, err, c.name)
	}
}

// A sender may send its tables once: whoever joins later waits for them, and one without any has no picture.
func TestJPEGTablesMayComeOnce(t *testing.T) {
	var buf bytes.Buffer
	require.NoError(t, jpeg.Encode(&buf, drawn(160, 96), nil))
	s := takeApart(t, buf.Bytes())
	m, out := NewMeter(jpegTrack), &sender{}
	give := func(tables bool) {
		for _, p := range s.packets(out, 1, 255, 0, tables) {
			m.Packet(p, time.Now())
		}
	}
	give(false)
	assert.Nil(t, m.Keyframe(), "no tables yet")
	m.format.Keep(false)
	give(true)
	m.format.Keep(true)
	assert.Nil(t, m.Keyframe())
	give(false)
	require.NotNil(t, m.Keyframe(), "those that came before serve")
	_, err := jpeg.Decode(bytes.NewReader(m.Keyframe().Data))
	assert.NoError(t, err)
}

// A size over 2040 has no room in the packet: it comes in the header extension or in the description.
func TestJPEGOfAnySize(t *testing.T) {
	img := drawn(2560, 1440)
	var buf bytes.Buffer
	require.NoError(t, jpeg.Encode(&buf, img, nil))
	s := takeApart(t, buf.Bytes())
	show := func(track Track, change func([]byte) []byte) *Meter {
		m := NewMeter(track)
		for _, p := range s.packets(&sender{}, 1, 255, 0, true) {
			m.Packet(change(p), time.Now())
		}
		return m
	}
	same := func(p []byte) []byte { return p }
	m := show(jpegTrack, same)
	assert.Nil(t, m.Keyframe())
	assert.ErrorContains(t, m.HeaderError(), "0 x 0")
	for _, line := range []string{"a=framesize:96 2560-1440", "a=x-dimensions:2560,1440", "a=cliprect:0,0,1440,2560"} {
		sdp, err := ParseSDP([]byte("m=video 0 RTP/AVP 96\r\na=rtpmap:96 JPEG/90000\r\n" + line + "\r\n"))
		require.NoError(t, err)
		assert.Equal(t, 2560, show(sdp.Tracks[0], same).Measured().Width, line)
	}
	sof := []byte{0xff, 0xc0, 0, 17, 8, 5, 0xa0, 10, 0, 3, 1, 0x22, 0, 2, 0x11, 1, 3, 0x11, 1, 0xff}
	m = show(jpegTrack, func(p []byte) []byte {
		p = bytes.Clone(p)
		p[0] |= 0x10
		return append(append(append(bytes.Clone(p[:12]), 0xff, 0xd8, 0, byte(len(sof)/4)), sof...), p[12:]...)
	})
	require.NotNil(t, m.Keyframe())
	back, err := jpeg.Decode(bytes.NewReader(m.Keyframe().Data))
	require.NoError(t, err)
	near(t, img, back)
}

// A packet counts in blocks of eight pixels; the description may say the size to the pixel, and may be wrong.
func TestJPEGOfAnOddSize(t *testing.T) {
	img := drawn(322, 182)
	var buf bytes.Buffer
	require.NoError(t, jpeg.Encode(&buf, img, nil))
	s := takeApart(t, buf.Bytes())
	s.width, s.height = 328, 184
	for _, c := range []struct{ says, want image.Point }{{image.Pt(322, 182), image.Pt(322, 182)}, {image.Pt(640, 480), image.Pt(328,
		184)}, {image.Point{}, image.Pt(328, 184)}} {
		track := jpegTrack
		track.Width, track.Height = c.says.X, c.says.Y
		m := NewMeter(track)
		for _, p := range s.packets(&sender{}, 1, 255, 0, true) {
			m.Packet(p, time.Now())
		}
		got := m.Measured()
		assert.Equal(t, c.want, image.Pt(got.Width, got.Height), "%v", c.says)
		require.NotNil(t, m.Keyframe())
		_, err := jpeg.Decode(bytes.NewReader(m.Keyframe().Data))
		assert.NoError(t, err)
	}
}

func TestJPEGThatCannotBe(t *testing.T) {
	out := &sender{}
	for name, payload := range map[string][]byte{
		"cut off":                   {0, 0, 0, 0, 1, 80},
		"no restart header":         {0, 0, 0, 0, 64, 80, 10, 10, 0},
		"tables longer than it":     {0, 0, 0, 0, 1, 255, 10, 10, 0, 0, 0, 128, 1, 2},
		"half a table":              append([]byte{0, 0, 0, 0, 1, 255, 10, 10, 0, 0, 0, 32}, make([]byte, 40)...),
		"another type":              {0, 0, 0, 0, 7, 80, 10, 10, 1},
		"a fragment before it":      {0, 0, 9, 0, 1, 80, 10, 10, 1, 2, 3},
		"16-bit tables":             append([]byte{0, 0, 0, 0, 1, 255, 10, 10, 0, 3, 0, 128}, make([]byte, 140)...),
		"nothing behind its header": {0, 0, 0, 0, 1, 255, 10, 10},
	} {
		m := NewMeter(jpegTrack)
		m.Packet(out.packet(true, payload...), time.Now())
		assert.Nil(t, m.Keyframe(), name)
		assert.Positive(t, m.Measured().Malformed, name)
	}
}
