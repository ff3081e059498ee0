package media

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bitWriter builds parameter sets for the tests.
type bitWriter struct {
	b []byte
	n int
}

func (w *bitWriter) bits(v uint32, n int) *bitWriter {
	for i := n - 1; i >= 0; i-- {
		if w.n%8 == 0 {
			w.b = append(w.b, 0)
		}
		w.b[w.n/8] |= byte(v>>i&1) << (7 - w.n%8)
		w.n++
	}
	return w
}

func (w *bitWriter) ue(v uint32) *bitWriter {
	n := 0
	for x := v + 1; x > 1; x >>= 1 {
		n++
	}
	return w.bits(0, n).bits(v+1, n+1)
}

// sps writes a parameter set with a size in macroblocks and a crop in crop units.
func sps(profile, constraints uint32, mbs, rows uint32, frameOnly uint32, crop [4]uint32) []byte {
	w := (&bitWriter{}).bits(0x67, 8).bits(profile, 8).bits(constraints, 8).bits(31, 8).ue(0)
	if profile == 100 {
		w.ue(1).ue(0).ue(0).bits(0, 1).bits(0, 1)
	}
	w.ue(0).ue(2).ue(1).bits(0, 1).ue(mbs-1).ue(rows-1).bits(frameOnly, 1)
	if frameOnly == 0 {
		w.bits(0, 1)
	}
	w.bits(0, 1)
	if crop != [4]uint32{} {
		w.bits(1, 1).ue(crop[0]).ue(crop[1]).ue(crop[2]).ue(crop[3])
	} else {
		w.bits(0, 1)
	}
	return w.bits(0, 1).bits(1, 1).b
}

func TestParseSPS(t *testing.T) {
	for _, c := range []struct {
		name    string
		nal     []byte
		profile string
		w, h    int
	}{
		{"plain", sps(77, 0, 40, 30, 1, [4]uint32{}), "Main", 640, 480},
		{"1080 lines need cropping", sps(100, 0, 120, 68, 1, [4]uint32{0, 0, 0, 4}), "High", 1920, 1080},
		{"cropped on every side", sps(66, 0x40, 40, 30, 1, [4]uint32{1, 2, 3, 4}), "Constrained Baseline", 634, 466},
		{"fields", sps(77, 0, 45, 18, 0, [4]uint32{}), "Main", 720, 576},
	} {
		got, err := ParseSPS(c.nal)
		require.NoError(t, err, c.name)
		assert.Equal(t, Picture{Profile: c.profile, Level: "3.1", Width: c.w, Height: c.h, Interlaced: c.name == "fields"}, *got, c.name)
	}
}

func TestSPSThatCannotBe(t *testing.T) {
	for name, nal := range map[string][]byte{
		"empty":        nil,
		"another unit": {0x68, 1, 2, 3, 4},
		"cut short":    sps(100, 0, 120, 68, 1, [4]uint32{})[:6],
		"cropped away": sps(77, 0, 40, 30, 1, [4]uint32{160, 160, 0, 0}),
		"absurd":       sps(77, 0, 5000, 30, 1, [4]uint32{}),
		"endless zero": append([]byte{0x67, 77, 0, 31}, make([]byte, 200)...),
		"over 4096":    append(sps(77, 0, 40, 30, 1, [4]uint32{}), make([]byte, 5000)...),
	} {
		_, err := ParseSPS(nal)
		var e *HeaderError
		assert.ErrorAs(t, err, &e, name)
	}
}

func TestParseSDP(t *testing.T) {
	s, err := ParseSDP([]byte("v=0\r\ns=x\r\na=control:*\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 h264/90000\r\na=fmtp:96 " +
		"packetization-mode=1; sprop-parameter-sets=Z00=,aO4=\r\na=control:rtsp://h/x/track1\r\n" +
		"m=audio 0 RTP/AVP 0\r\na=control:track2\r\nm=application 0 RTP/AVP 107\r\na=rtpmap:107 vnd.onvif.metadata/90000\r\n"))
	require.NoError(t, err)
	assert.Equal(t, "*", s.Control)
	require.Len(t, s.Tracks, 3)
	v := s.First("video")
	assert.Equal(t, "H.264", v.CodecName())
	assert.Equal(t, 90000, v.ClockRate)
	assert.Equal(t, [][]byte{{0x67, 0x4d}, {0x68, 0xee}}, v.ParameterSets("sprop-parameter-sets"))
	a := s.First("audio")
	assert.Equal(t, []any{"G.711 µ-law", 8000, "track2"}, []any{a.CodecName(), a.ClockRate, a.Control},
		"a static payload type needs no rtpmap")
	assert.Nil(t, s.First("text"))
	for _, bad := range []string{"", " \r\n", "v=0\r\n", "nonsense", "m"} {
		_, err := ParseSDP([]byte(bad))
		assert.Error(t, err, bad)
	}
	_, err = ParseSDP(bytes.Repeat([]byte("m=video 0 RTP/AVP 96\r\n"), 1000))
	assert.ErrorContains(t, err, "longer than any honest one")
}

func TestControlURL(t *testing.T) {
	for _, c := range [][3]string{
		{"rtsp://h/x", "", "rtsp://h/x"},
		{"rtsp://h/x/", "*", "rtsp://h/x/"},
		{"rtsp://h/x", "track1", "rtsp://h/x/track1"},
		{"rtsp://h/x/", "track1", "rtsp://h/x/track1"},
		{"rtsp://h/x?a=b", "track1", "rtsp://h/x?a=b/track1"},
		{"rtsp://h/x", "rtsp://g/y", "rtsp://g/y"},
		{"rtsp://h/x", "?track=1", "rtsp://h/x?track=1"},
	} {
		assert.Equal(t, c[2], ControlURL(c[0], c[1]))
	}
}

// sender makes RTP packets as a camera would.
type sender struct {
	seq   uint16
	stamp uint32
}

func (s *sender) packet(marker bool, payload ...byte) []byte {
	b := []byte{0x80, 96, 0, 0, 0, 0, 0, 0, 0, 0, 0, 7}
	if marker {
		b[1] |= 0x80
	}
	binary.BigEndian.PutUint16(b[2:], s.seq)
	binary.BigEndian.PutUint32(b[4:], s.stamp)
	s.seq++
	return append(b, payload...)
}

var h264Track = Track{Kind: "video", Payload: 96, Codec: "H264", ClockRate: 90000}

// play feeds seconds of a stream with a key frame every gop frames. Key frames come as STAP-A with the parameter sets, then FU-A.
func play(m *Meter, s *sender, fps, gop, frames int, lose func(i int) bool) {
	set := sps(77, 0, 40, 30, 1, [4]uint32{})
	at := time.Unix(1000, 0)
	for i := range frames {
		var packets [][]byte
		if i%gop == 0 {
			stap := append([]byte{24, 0, byte(len(set))}, set...)
			stap = append(stap, 0, 3, 0x68, 0xee, 0x01)
			packets = append(packets, s.packet(false, stap...), s.packet(false, append([]byte{0x7c, 0x85}, make([]byte, 1000)...)...),
				s.packet(true, append([]byte{0x7c, 0x45}, make([]byte, 500)...)...))
		} else {
			packets = append(packets, s.packet(true, append([]byte{0x61}, make([]byte, 300)...)...))
		}
		for _, p := range packets {
			if lose == nil || !lose(i) {
				m.Packet(p, at)
			}
		}
		s.stamp += uint32(90000 / fps)
		at = at.Add(time.Second / time.Duration(fps))
	}
}

func TestMeterMeasures(t *testing.T) {
	m := NewMeter(h264Track)
	play(m, &sender{seq: 65530, stamp: 1<<32 - 50000}, 25, 50, 150, nil)
	got := m.Measured()
	assert.Equal(t, []any{"H.264", "Main", 640, 480}, []any{got.Codec, got.Profile, got.Width, got.Height})
	assert.InDelta(t, 25, got.FPS, .01, "over the turn of the RTP clock")
	assert.InDelta(t, 2, got.GOPSeconds, .001)
	assert.InDelta(t, 50, got.GOPFrames, .001)
	assert.Equal(t, []int{3, 150, 0, 0}, []int{got.Keyframes, got.Frames, got.Lost, got.Malformed}, "over the turn of the sequence number")
	perGOP := 49*301 + 1002 + 502 + len(sps(77, 0, 40, 30, 1, [4]uint32{})) + 8
	assert.InEpsilon(t, float64(perGOP)*8/1000/2, got.BitrateKbps, .01)
	key := m.Keyframe()
	assert.Equal(t, time.Unix(1000, 0), key.At)
	assert.True(t, bytes.HasPrefix(key.Data, []byte{0, 0, 0, 1, 0x67}))
	assert.Len(t, key.Data, 4+len(sps(77, 0, 40, 30, 1, [4]uint32{}))+4+3+4+1+1000+500)
}

func TestMeterCountsLossAndWaitsForAWholeKeyframe(t *testing.T) {
	m := NewMeter(h264Track)
	s := &sender{}
	first := true
	play(m, s, 25, 10, 40, func(i int) bool { // the first key frame loses a packet
		drop := i == 0 && !first
		first = first && i != 0
		return drop
	})
	got := m.Measured()
	assert.Positive(t, got.Lost)
	assert.Equal(t, time.Unix(1000, 0).Add(400*time.Millisecond), m.Keyframe().At, "the damaged key frame is no proof; the next is")
}

func TestMeterTakesParameterSetsInBandOverTheDescription(t *testing.T) {
	track := h264Track
	track.Fmtp = map[string]string{"sprop-parameter-sets": base64.StdEncoding.EncodeToString(sps(77, 0, 120, 68, 1, [4]uint32{}))}
	m := NewMeter(track)
	assert.Equal(t, 1920, m.Measured().Width)
	play(m, &sender{}, 25, 10, 11, nil)
	assert.Equal(t, 640, m.Measured().Width)
}

func TestMeterDoesNotBelieveAClockThatDoesNotRun(t *testing.T) {
	m := NewMeter(h264Track)
	s := &sender{}
	at := time.Unix(1000, 0)
	for range 50 {
		m.Packet(s.packet(true, 0x61, 1, 2, 3), at)
		s.stamp += 9 // ten thousand times too slow
		at = at.Add(40 * time.Millisecond)
	}
	got := m.Measured()
	assert.InDelta(t, 25, got.FPS, .6)
	assert.NotEmpty(t, got.ClockDrift)
}

func TestMeterSurvivesTruncatedPackets(t *testing.T) {
	m := NewMeter(h264Track)
	for _, p := range [][]byte{
		nil, {0x80}, make([]byte, 12), {0x40, 96, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0},
		{0x8f, 96, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0},              // 15 sources that are not there
		{0x90, 96, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 99}, // an extension longer than the packet
		{0xa0, 96, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 255},         // padding longer than the packet
		(&sender{}).packet(true), (&sender{}).packet(true, 24, 0, 99, 1), (&sender{}).packet(true, 28), (&sender{}).packet(true, 29, 1, 2),
	} {
		assert.NotPanics(t, func() { m.Packet(p, time.Now()) })
	}
	assert.Positive(t, m.Measured().Malformed)
	assert.Nil(t, m.Keyframe())
}

func TestStillRefusesWhatDoesNotDecode(t *testing.T) {
	_, err := Still(context.Background(), Keyframe{Decoder: "h264", Data: bytes.Repeat([]byte{0, 0, 0, 1, 0x65, 1, 2}, 50)})
	assert.ErrorContains(t, err, "does not decode")
	t.Setenv("PATH", "")
	_, err = Still(context.Background(), Keyframe{Decoder: "h264"})
	assert.ErrorContains(t, err, "not installed")
}

func FuzzParseSPS(f *testing.F) {
	f.Add(sps(77, 0, 40, 30, 1, [4]uint32{}))
	f.Add(sps(100, 0, 120, 68, 1, [4]uint32{0, 0, 0, 4}))
	f.Add([]byte{0x67, 244, 0, 31, 0xff})
	f.Fuzz(func(t *testing.T, b []byte) {
		if s, err := ParseSPS(b); err == nil && (s.Width <= 0 || s.Height <= 0 || s.Width > maxDimension || s.Height > maxDimension) {
			t.Fatalf("%+v", s)
		}
	})
}

func FuzzParseSDP(f *testing.F) {
	f.Add([]byte("v=0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:x\r\n"))
	f.Add([]byte("m=\na=rtpmap:\na=fmtp:\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := ParseSDP(b)
		if err != nil {
			return
		}
		for i := range s.Tracks {
			NewMeter(s.Tracks[i]).Measured()
			ControlURL("rtsp://h/", s.Tracks[i].Control)
		}
	})
}

func FuzzMeter(f *testing.F) {
	s := &sender{}
	f.Add(s.packet(true, 0x65, 1, 2), s.packet(false, 0x7c, 0x85, 1))
	f.Add(s.packet(true, append([]byte{24, 0, 20}, sps(77, 0, 40, 30, 1, [4]uint32{})...)...), []byte{0x80})
	f.Fuzz(func(t *testing.T, a, b []byte) {
		m := NewMeter(h264Track)
		for _, p := range [][]byte{a, b, a} {
			m.Packet(p, time.Now())
		}
		m.Measured()
		m.HeaderError()
	})
}
