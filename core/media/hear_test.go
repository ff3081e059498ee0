package media

import (
	"encoding/binary"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func heard(t *testing.T, track Track, payload []byte) (out [][]byte) {
	l, ok := NewListener(track)
	require.True(t, ok)
	packet := append([]byte{0x80, track.Payload, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1}, payload...)
	l.Packet(packet, func(b []byte) { out = append(out, append([]byte(nil), b...)) })
	return out
}

// G.711 is played as it was spoken: the samples of ITU-T G.711 with their signs.
func TestSamplesOfG711(t *testing.T) {
	sample := func(b []byte) int16 { return int16(binary.LittleEndian.Uint16(b)) }
	mu := heard(t, Track{Kind: "audio", Codec: "PCMU", ClockRate: 8000}, []byte{0x80, 0x00, 0xff, 0x7f})
	require.Len(t, mu, 1)
	assert.Equal(t, []int16{32124, -32124, 0, 0}, []int16{sample(mu[0]), sample(mu[0][2:]), sample(mu[0][4:]), sample(mu[0][6:])})
	a := heard(t, Track{Kind: "audio", Codec: "PCMA", Payload: 8, ClockRate: 8000}, []byte{0xaa, 0x2a, 0xd5, 0x55})
	assert.Equal(t, []int16{32256, -32256, 8, -8}, []int16{sample(a[0]), sample(a[0][2:]), sample(a[0][4:]), sample(a[0][6:])})
	l16 := heard(t, Track{Kind: "audio", Codec: "L16", Payload: 11, ClockRate: 44100}, []byte{0x12, 0x34})
	assert.Equal(t, []byte{0x34, 0x12}, l16[0])
	for i := range 256 { // each value lies on the other side of nought than its mirror
		assert.Equal(t, muLaw[i], -muLaw[i^0x80])
		assert.Equal(t, aLaw[i], -aLaw[i^0x80])
		assert.InDelta(t, math.Pow(float64(muLaw[i])/32124, 2), muLawPower[i], 1e-9)
	}
}

func aacTrack() Track {
	return Track{Kind: "audio", Payload: 97, Codec: "MPEG4-GENERIC", ClockRate: 16000,
		Fmtp: map[string]string{"config": "1408", "sizelength": "13", "indexlength": "3", "indexdeltalength": "3"}}
}

func TestUnitsOfAAC(t *testing.T) {
	units := heard(t, aacTrack(), []byte{0, 32, 0, 2 << 3, 0, 3 << 3, 'a', 'b', 'c', 'd', 'e'})
	assert.Equal(t, [][]byte{[]byte("ab"), []byte("cde")}, units)
	l, _ := NewListener(aacTrack())
	assert.Equal(t, []any{false, 16000, 1, 2}, []any{l.Samples, l.Rate, l.Channels, l.Object})
	assert.Empty(t, heard(t, aacTrack(), []byte{0, 16, 0xff, 0xf8, 'a'}), "a unit longer than its packet")
	assert.Empty(t, heard(t, aacTrack(), []byte{0xff, 0xff, 1}))
	for _, wrong := range []map[string]string{nil, {"config": "1408"}, {"config": "zz", "sizelength": "13"}, {"config": "1408", "sizelength": "99"}} {
		_, ok := NewListener(Track{Codec: "MPEG4-GENERIC", ClockRate: 16000, Fmtp: wrong})
		assert.False(t, ok)
	}
}

func FuzzListener(f *testing.F) {
	f.Add([]byte{0, 32, 0, 16, 0, 24, 'a', 'b', 'c', 'd', 'e'})
	f.Fuzz(func(t *testing.T, payload []byte) {
		l, _ := NewListener(aacTrack())
		n := 0
		l.Packet(append([]byte{0x80, 97, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1}, payload...), func(b []byte) { n += len(b) })
		if n > len(payload) {
			t.Fatal("more came out than went in")
		}
	})
}
