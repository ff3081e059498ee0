package media

import (
	"bytes"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNALUnitsOfAByteStream(t *testing.T) {
	for _, c := range []struct {
		in   []byte
		want [][]byte
	}{
		{nil, nil},
		{[]byte{1, 2, 3}, nil},
		{[]byte{0, 0, 1, 5, 6}, [][]byte{{5, 6}}},
		{[]byte{0, 0, 0, 1, 5, 6, 0, 0, 0, 0, 1, 7, 8, 0}, [][]byte{{5, 6}, {7, 8}}},
		{[]byte{9, 0, 0, 1, 0, 0, 1, 4}, [][]byte{{}, {4}}},
	} {
		var got [][]byte
		for b := c.in; ; {
			nal, rest, ok := nextNAL(b)
			if !ok {
				break
			}
			got, b = append(got, nal), rest
		}
		assert.Equal(t, c.want, got, "%v", c.in)
	}
}

// An encoder's byte stream, which knows no RTP, is measured as the same stream in RTP would be.
func TestAnElementaryStreamIsMeasured(t *testing.T) {
	raw, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc=size=320x180:rate=10", "-t", "3", "-c:v", "libx264", "-g",
		"10", "-x264-params", "aud=1", "-f", "h264", "pipe:1").Output()
	require.NoError(t, err)
	e, ok := NewElementary("H264")
	require.True(t, ok)
	track, known := e.Track()
	require.True(t, known)
	m := NewMeter(track)
	at := time.Unix(1000, 0)
	units := bytes.Split(raw, []byte{0, 0, 0, 1, 9}) // each access unit begins with a delimiter
	require.Len(t, units, 31)
	for i, u := range units[1:] {
		u = append([]byte{0, 0, 0, 1, 9}, u...)
		e.Unit(u, uint64(i)*9000+900, true, false, func(b []byte) { m.Packet(b, at) })
		at = at.Add(100 * time.Millisecond)
	}
	got := m.Measured()
	assert.Equal(t, []any{"H.264", 320, 180, 0, 3}, []any{got.Codec, got.Width, got.Height, got.Lost, got.Keyframes})
	assert.InDelta(t, 10, got.FPS, .1)
	require.NotNil(t, m.Keyframe())
	jpeg, err := Still(t.Context(), *m.Keyframe())
	require.NoError(t, err)
	assert.NotEmpty(t, jpeg)
	e.Unit(units[1], 30*9000, true, true, func(b []byte) { m.Packet(b, at) })
	assert.Equal(t, 1, m.Measured().Lost, "what is missing from the stream is missing here")
}

func TestSoundOfElementaryStreams(t *testing.T) {
	for codec, c := range map[string]struct {
		args []string
		want Audio
	}{
		"MPEG4-GENERIC": {[]string{"-c:a", "aac", "-f", "adts"}, Audio{Codec: "AAC", Profile: "LC", SampleRate: 32000, Channels: 1}},
		"MPA":           {[]string{"-c:a", "mp2", "-f", "mp2"}, Audio{Codec: "MPEG audio", SampleRate: 32000, Channels: 1}},
	} {
		raw, err := exec.Command("ffmpeg", append(append([]string{"-v", "error", "-f", "lavfi", "-i", "sine=frequency=440:sample_rate=32000",
			"-t", "1"}, c.args...), "pipe:1")...).Output()
		require.NoError(t, err)
		e, ok := NewElementary(codec)
		require.True(t, ok)
		_, known := e.Track()
		assert.False(t, known, "it says its rate itself")
		var packets [][]byte
		e.Unit(raw, 90000, true, false, func(b []byte) { packets = append(packets, bytes.Clone(b)) })
		track, known := e.Track()
		require.True(t, known, codec)
		require.NotEmpty(t, packets, codec)
		m := NewAudioMeter(track)
		for _, p := range packets {
			m.Packet(p, time.Unix(1000, 0))
		}
		got := m.Measured()
		require.NotNil(t, got, codec)
		assert.Equal(t, []any{c.want.Codec, c.want.Profile, c.want.SampleRate, c.want.Channels}, []any{got.Codec, got.Profile, got.SampleRate,
			got.Channels}, codec)
	}
	_, ok := NewElementary("MP2V")
	assert.False(t, ok)
}

func FuzzElementary(f *testing.F) {
	f.Add([]byte{0, 0, 1, 0x65, 1, 2, 0, 0, 1, 0x41}, "H264")
	f.Add([]byte{0xff, 0xf1, 0x50, 0x40, 1, 0x7f, 0xfc, 1}, "MPEG4-GENERIC")
	f.Add([]byte{0xff, 0xfd, 0xa4, 0xc0}, "MPA")
	f.Fuzz(func(t *testing.T, b []byte, codec string) {
		e, ok := NewElementary(codec)
		if !ok {
			return
		}
		n := 0
		each := func(p []byte) {
			if n += len(p); n > 20*len(b)+64 {
				t.Fatal("more goes out than came in")
			}
			if _, err := parseRTP(p); err != nil {
				t.Fatal(err)
			}
		}
		e.Unit(b, 1, true, false, each)
		e.Unit(b, 0, false, true, each)
	})
}
