package media

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"os/exec"
	"strings"
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
	assert.Equal(t, []any{AAC, 16000, 1, 2}, []any{l.Form, l.Rate, l.Channels, l.Object})
	assert.Empty(t, heard(t, aacTrack(), []byte{0, 16, 0xff, 0xf8, 'a'}), "a unit longer than its packet")
	assert.Empty(t, heard(t, aacTrack(), []byte{0xff, 0xff, 1}))
	for _, wrong := range []map[string]string{nil, {"config": "1408"}, {"config": "zz", "sizelength": "13"},
		{"config": "1408", "sizelength": "99"}} {
		_, ok := NewListener(Track{Codec: "MPEG4-GENERIC", ClockRate: 16000, Fmtp: wrong})
		assert.False(t, ok)
	}
}

// piped runs ffmpeg on bytes.
func piped(t *testing.T, in []byte, args ...string) []byte {
	t.Helper()
	cmd := exec.Command("ffmpeg", append([]string{"-v", "error"}, args...)...)
	cmd.Stdin = bytes.NewReader(in)
	out, err := cmd.Output()
	require.NoError(t, err)
	return out
}

// sweep is a tone that rises, a pause and another tone: signals that change over, and what is told as a tone.
const sweep = "aevalsrc=if(lt(t\\,1)\\,0.3*sin(2000*t*t)\\,if(lt(t\\,1.2)\\,0\\,0.4*sin(6000*t))):s=8000:d=2"

// decoded hands coded G.726 to a listener in packets of 20 ms.
func decoded(t *testing.T, codec string, coded []byte) (out []byte) {
	l, ok := NewListener(Track{Kind: "audio", Codec: codec, Payload: 98, ClockRate: 8000})
	require.True(t, ok, codec)
	for size := 20 * l.Rate / 8000 * g726Bits[codec[len(codec)-2:]]; len(coded) > 0; {
		n := min(len(coded), size)
		l.Packet(append([]byte{0x80, 98, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1}, coded[:n]...), func(b []byte) { out = append(out, b...) })
		coded = coded[n:]
	}
	return out
}

// noise returns how far samples lie from others, in dB below these.
func noise(t *testing.T, got, want []byte) float64 {
	require.Greater(t, len(got), 2*15900)
	var signal, apart float64
	for i := 0; i+2 <= min(len(got), len(want)); i += 2 {
		a, b := float64(int16(binary.LittleEndian.Uint16(got[i:]))), float64(int16(binary.LittleEndian.Uint16(want[i:])))
		signal += b * b
		apart += (a - b) * (a - b)
	}
	return 10 * math.Log10(signal/apart)
}

// G.726 in both orders of its bits is decoded to what another decoder makes of it. That one rounds the scale factor in a way of its own, so
// that single samples differ by little; at 40 kbit/s its predictor forgets twice as fast as the Recommendation's, and it is no measure.
func TestSamplesOfG726(t *testing.T) {
	t.Parallel()
	for _, kbps := range []string{"16", "24", "32"} {
		for prefix, format := range map[string]string{"": "g726le", "AAL2-": "g726"} {
			coded := piped(t, nil, "-f", "lavfi", "-i", sweep, "-c:a", format, "-b:a", kbps+"k", "-f", format, "pipe:1")
			want := piped(t, coded, "-f", format, "-code_size", fmt.Sprint(g726Bits[kbps]), "-sample_rate", "8000", "-i", "pipe:0",
				"-f", "s16le", "pipe:1")
			assert.Greater(t, noise(t, decoded(t, prefix+"G726-"+kbps, coded), want), 25.0, "%sG726-%s", prefix, kbps)
		}
	}
	for _, wrong := range []Track{{Codec: "G726-48"}, {Codec: "G726-"}, {Codec: "G726-32", Channels: 2}} {
		wrong.ClockRate = 8000
		_, ok := NewListener(wrong)
		assert.False(t, ok, wrong.Codec)
	}
}

// What is coded by trying which code comes nearest sounds like what was coded, the better the more bits there are.
func TestG726ThereAndBack(t *testing.T) {
	t.Parallel()
	spoken := piped(t, nil, "-f", "lavfi", "-i", sweep, "-f", "s16le", "pipe:1")
	before := 0.0
	for _, kbps := range []string{"16", "24", "32", "40"} {
		bits := g726Bits[kbps]
		state, _ := newG726(bits)
		var coded []byte
		held, have := 0, 0
		for i := 0; i+2 <= len(spoken); i += 2 {
			wanted, best, nearest := int(int16(binary.LittleEndian.Uint16(spoken[i:]))), 0, 1<<20
			for code := range 1 << bits {
				tried := *state
				if apart := abs(int(tried.sample(code)) - wanted); apart < nearest {
					best, nearest = code, apart
				}
			}
			state.sample(best)
			held |= best << have // least significant bits first
			for have += bits; have >= 8; have -= 8 {
				coded = append(coded, byte(held))
				held >>= 8
			}
		}
		now := noise(t, decoded(t, "G726-"+kbps, coded), spoken)
		assert.Greater(t, now, before+.5, "G726-%s", kbps)
		before = now
	}
	assert.Greater(t, before, 30.0)
}

// AAC in LATM is taken apart into the units that were put in; what is of another kind is not played.
func TestUnitsOfLATM(t *testing.T) {
	t.Parallel()
	// As a common sender describes 16 kHz in one channel: version 0, one frame an element, AAC-LC, frames that tell their length.
	track := Track{Kind: "audio", Payload: 97, Codec: "MP4A-LATM", ClockRate: 16000,
		Fmtp: map[string]string{"cpresent": "0", "config": "40002810" + "3fc0"}}
	l, ok := NewListener(track)
	require.True(t, ok)
	assert.Equal(t, []any{AAC, 16000, 1, 2, []byte{0x14, 0x08}}, []any{l.Form, l.Rate, l.Channels, l.Object, l.Config})
	var units []string
	packet := func(marker, stamp byte, payload string) {
		head := []byte{0x80, 97 | marker<<7, 0, 1, 0, 0, 0, stamp, 0, 0, 0, 1}
		l.Packet(append(head, payload...), func(b []byte) { units = append(units, string(b)) })
	}
	long := strings.Repeat("x", 300)
	packet(1, 1, "\x03abc")
	packet(0, 2, "\xff\x2d"+long[:100]) // 255 and 45, spread over two packets
	packet(1, 2, long[100:])
	packet(0, 3, "\x05lo") // its end is lost
	packet(1, 4, "\x02de")
	packet(1, 5, "\x09short")
	packet(1, 6, "\xff")
	packet(1, 7, "")
	packet(0, 8, strings.Repeat("y", maxElement))
	packet(1, 8, "too long")
	packet(1, 9, "\x01z")
	assert.Equal(t, []string{"abc", long, "de", "z"}, units)

	for name, fmtp := range map[string]map[string]string{
		"in band":           {"config": "400028103fc0"},
		"no configuration":  {"cpresent": "0"},
		"no hexadecimal":    {"cpresent": "0", "config": "4000zz"},
		"cut off":           {"cpresent": "0", "config": "4000"},
		"another version":   {"cpresent": "0", "config": "c00028103fc0"},
		"apart in time":     {"cpresent": "0", "config": "000028103fc0"},
		"another layer":     {"cpresent": "0", "config": "400128103fc0"},
		"a length of bits":  {"cpresent": "0", "config": "400028107fc0"},
		"very long":         {"cpresent": "0", "config": strings.Repeat("40", 65)},
		"no channels given": {"cpresent": "0", "config": "400028003fc0"},
	} {
		track.Fmtp = fmtp
		_, ok := NewListener(track)
		assert.False(t, ok, name)
	}
}

func TestPacketsOfOpus(t *testing.T) {
	t.Parallel()
	track := Track{Kind: "audio", Payload: 97, Codec: "OPUS", ClockRate: 48000, Channels: 2}
	assert.Equal(t, [][]byte{{0x78, 1, 2}}, heard(t, track, []byte{0x78, 1, 2}))
	assert.Empty(t, heard(t, track, nil))
	l, _ := NewListener(track)
	assert.Equal(t, []any{Opus, 48000, 2}, []any{l.Form, l.Rate, l.Channels})
}

func FuzzListener(f *testing.F) {
	f.Add(byte(0), []byte{0, 32, 0, 16, 0, 24, 'a', 'b', 'c', 'd', 'e'})
	f.Add(byte(1), []byte("\xff\x2dabc"))
	f.Add(byte(2), []byte{1, 2, 3, 4, 5})
	f.Add(byte(3), []byte{0x78, 1})
	tracks := []Track{aacTrack(),
		{Payload: 97, Codec: "MP4A-LATM", ClockRate: 16000, Fmtp: map[string]string{"cpresent": "0", "config": "400028103fc0"}},
		{Payload: 97, Codec: "AAL2-G726-24", ClockRate: 8000}, {Payload: 97, Codec: "OPUS", ClockRate: 48000}}
	f.Fuzz(func(t *testing.T, which byte, payload []byte) {
		l, ok := NewListener(tracks[int(which)%len(tracks)])
		if !ok {
			t.Fatal("a good description is not taken")
		}
		n := 0
		l.Packet(append([]byte{0x80, 0xe1, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1}, payload...), func(b []byte) { n += len(b) })
		if most := len(payload) * 16; n > most { // a byte of G.726 holds four samples at the most
			t.Fatal("more came out than went in")
		}
	})
}

// A description from outside is any text.
func FuzzLATMConfiguration(f *testing.F) {
	f.Add("400028103fc0")
	f.Fuzz(func(t *testing.T, config string) {
		if _, asc, ok := newLATM(map[string]string{"cpresent": "0", "config": config}); ok && (len(asc) == 0 || len(asc) > 64) {
			t.Fatalf("%q was taken with %x", config, asc)
		}
	})
}
