package media

import (
	"bytes"
	"encoding/base64"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var h265Track = Track{Kind: "video", Payload: 96, Codec: "H265", ClockRate: 90000}

// sps265 writes an H.265 sequence parameter set with layers sub-layers and a conformance window in chroma units.
func sps265(width, height uint32, layers uint32, window [4]uint32) []byte {
	w := (&bitWriter{}).bits(hevcSPS<<1, 8).bits(1, 8).bits(0, 4).bits(layers, 3).bits(1, 1)
	w.bits(0, 2).bits(1, 1).bits(2, 5).bits(0x60000000, 32).bits(1, 1).bits(0, 1).bits(0, 32).bits(0, 14).bits(123,
		8) // High tier, Main 10, 4.1
	if layers > 0 {
		w.bits(0xc000, 16).bits(0, 32).bits(0, 32).bits(0, 24).bits(90, 8) // the first has a profile and a level of its own
	}
	w.ue(0).ue(1).ue(width).ue(height)
	if window != [4]uint32{} {
		w.bits(1, 1).ue(window[0]).ue(window[1]).ue(window[2]).ue(window[3])
	} else {
		w.bits(0, 1)
	}
	return w.ue(0).bits(1, 1).b
}

func TestParseSPS265(t *testing.T) {
	for _, c := range []struct {
		name string
		nal  []byte
		w, h int
	}{
		{"plain", sps265(640, 480, 0, [4]uint32{}), 640, 480},
		{"1080 lines need the conformance window", sps265(1920, 1088, 0, [4]uint32{0, 0, 0, 4}), 1920, 1080},
		{"sub-layers are passed over", sps265(2592, 1944, 1, [4]uint32{1, 2, 0, 0}), 2586, 1944},
	} {
		got, err := parseSPS265(c.nal)
		require.NoError(t, err, c.name)
		assert.Equal(t, Picture{Profile: "Main 10", Level: "4.1", Tier: "High", Width: c.w, Height: c.h}, *got, c.name)
	}
	for name, nal := range map[string][]byte{
		"0 x 0":           sps265(0, 0, 0, [4]uint32{}),
		"65,535 x 65,535": sps265(65535, 65535, 0, [4]uint32{}),
		"cropped away":    sps265(64, 64, 0, [4]uint32{16, 16, 0, 0}),
		"cut short":       sps265(640, 480, 0, [4]uint32{})[:14],
		"endless zero":    append([]byte{hevcSPS << 1, 1}, make([]byte, 100)...),
	} {
		_, err := parseSPS265(nal)
		assert.ErrorAs(t, err, new(*HeaderError), name)
	}
}

// pps265 is a picture parameter set whose slices have two extra bits in their headers.
var pps265 = (&bitWriter{}).bits(hevcPPS<<1, 8).bits(1, 8).ue(0).ue(0).bits(0, 2).bits(2, 3).bits(1, 1).b

func slice265(kind byte, sliceType uint32) []byte {
	w := (&bitWriter{}).bits(uint32(kind)<<1, 8).bits(1, 8).bits(1, 1)
	if kind >= hevcFirstIRAP && kind <= hevcLastIRAP {
		w.bits(0, 1)
	}
	return append(w.ue(0).bits(3, 2).ue(sliceType).bits(1, 1).b, 9, 9, 9)
}

func TestH265PayloadStructures(t *testing.T) {
	vps, set := []byte{hevcVPS << 1, 1, 7, 7}, sps265(640, 480, 0, [4]uint32{})
	idr, trail := slice265(19, 2), slice265(1, 0)
	unit := func(pre []byte, nal []byte) []byte { return append(append(pre, 0, byte(len(nal))), nal...) }
	for _, donl := range []bool{false, true} {
		track := h265Track
		if donl {
			track.Fmtp = map[string]string{"sprop-max-don-diff": "1"}
		}
		order := func(n int) []byte { // DONL before the first unit, DOND before the others
			switch {
			case donl && n == 0:
				return []byte{0, 1}
			case donl:
				return []byte{0}
			}
			return nil
		}
		m, s := NewMeter(track), &sender{}
		ap := []byte{hevcAP << 1, 1}
		for i, nal := range [][]byte{vps, set, pps265} {
			ap = append(ap, unit(order(i), nal)...)
		}
		at := time.Unix(1000, 0)
		m.Packet(s.packet(false, ap...), at)
		first := append([]byte{hevcFU << 1, 1, 0x80 | 19}, order(0)...)
		m.Packet(s.packet(false, append(first, idr[2:4]...)...), at)
		m.Packet(s.packet(false, append([]byte{hevcFU << 1, 1, 19}, idr[4:5]...)...), at)
		m.Packet(s.packet(true, append([]byte{hevcFU << 1, 1, 0x40 | 19}, idr[5:]...)...), at)
		s.stamp += 3600
		m.Packet(s.packet(true, append(append(bytes.Clone(trail[:2]), order(0)...), trail[2:]...)...), at.Add(40*time.Millisecond))
		got := m.Measured()
		assert.Equal(t, []int{640, 480, 2, 1, 0}, []int{got.Width, got.Height, got.Frames, got.Keyframes, got.Malformed}, "donl %v", donl)
		require.NotNil(t, m.Keyframe())
		var want []byte
		for _, nal := range [][]byte{vps, set, pps265, idr} {
			want = append(append(want, startCode...), nal...)
		}
		assert.Equal(t, want, m.Keyframe().Data, "the key frame is whole, its parameter sets before it")
		assert.Equal(t, 1, got.Sizes.Bidirectional.Count, "the slice type stands behind the extra bits that the PPS asks for")
	}
}

func TestH265ThatCannotBe(t *testing.T) {
	for name, payload := range map[string][]byte{
		"cut off":                         {hevcFU << 1, 1},
		"an aggregation past its end":     {hevcAP << 1, 1, 0, 99, 1, 2, 3},
		"an aggregation of nothing":       {hevcAP << 1, 1, 0, 0, 1},
		"a structure that does not exist": {51 << 1, 1, 3},
	} {
		m := NewMeter(h265Track)
		m.Packet((&sender{}).packet(true, payload...), time.Now())
		assert.Equal(t, 1, m.Measured().Malformed, name)
		assert.Nil(t, m.Keyframe(), name)
	}
	m := NewMeter(h265Track)
	m.Packet((&sender{}).packet(true, hevcPACI<<1, 1, 3, 4), time.Now())
	assert.Equal(t, "PACI", m.Measured().Unread, "it is told by its name")
	// A fragment without its beginning is no key frame, and 200 parameter sets are one.
	s := &sender{}
	m.Packet(s.packet(true, hevcFU<<1, 1, 0x40|19, 1, 2, 3), time.Now())
	for range 200 {
		m.Packet(s.packet(false, sps265(640, 480, 0, [4]uint32{})...), time.Now())
	}
	assert.Nil(t, m.Keyframe())
	assert.Zero(t, m.Measured().Keyframes)
}

func TestH265TakesParameterSetsOfTheDescription(t *testing.T) {
	track := h265Track
	b64 := base64.StdEncoding.EncodeToString
	track.Fmtp = map[string]string{"sprop-vps": b64([]byte{hevcVPS << 1, 1, 7, 7}), "sprop-sps": b64(sps265(640, 480, 0, [4]uint32{})),
		"sprop-pps": b64(pps265)}
	m := NewMeter(track)
	assert.Equal(t, 640, m.Measured().Width)
	m.Packet((&sender{}).packet(true, slice265(21, 2)...), time.Now()) // CRA
	require.NotNil(t, m.Keyframe(), "sets that never come in band")
}
