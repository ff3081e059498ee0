package media

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packetsOf lets a common multimedia framework send a stream as RTP, and returns what came with its description. at is a loopback address
// of the test's own.
func packetsOf(t *testing.T, at string, args ...string) (track Track, packets [][]byte) {
	t.Helper()
	l, err := net.ListenPacket("udp4", at+":0")
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, l.(*net.UDPConn).SetReadBuffer(8<<20))
	file := filepath.Join(t.TempDir(), "sdp")
	_, port, _ := strings.Cut(l.LocalAddr().String(), ":")
	var complaint bytes.Buffer
	args = append(append([]string{"-v", "error"}, args...), "-f", "rtp", "-sdp_file", file,
		fmt.Sprintf("rtp://%s:%s?pkt_size=1200&rtcpport=1&localaddr=%s", at, port, at))
	cmd := exec.Command("ffmpeg", args...)
	cmd.Stderr = &complaint
	done := make(chan error, 1)
	go func() { done <- cmd.Run() }()
	buf := make([]byte, 4096)
	for ended := false; ; {
		l.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
		n, _, err := l.ReadFrom(buf)
		if err == nil {
			packets = append(packets, bytes.Clone(buf[:n]))
			continue
		}
		if ended {
			break
		}
		select {
		case err := <-done:
			require.NoError(t, err, complaint.String())
			ended = true
		default:
		}
	}
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	sdp, err := ParseSDP(raw)
	require.NoError(t, err, "%s", raw)
	return sdp.Tracks[0], packets
}

// feed gives packets to a meter at the pace of their time stamps.
func feed(t *testing.T, track Track, packets [][]byte) *Meter {
	t.Helper()
	m := NewMeter(track)
	require.True(t, m.Reads(), track.Codec)
	at := time.Unix(1000, 0)
	var first uint32
	for i, p := range packets {
		x, err := parseRTP(p)
		require.NoError(t, err)
		if i == 0 {
			first = x.timestamp
		}
		m.Packet(p, at.Add(time.Duration(x.timestamp-first)*time.Second/time.Duration(track.ClockRate)))
	}
	return m
}

func TestStreamsOfACommonFramework(t *testing.T) {
	x265 := "log-level=none:pools=1:frame-threads=1:keyint=10:min-keyint=10:scenecut=0:bframes=0"
	for i, c := range []struct {
		name, source string
		args         []string
		want         Measured
	}{
		{"H.264", "322x182", []string{"-c:v", "libx264", "-preset", "ultrafast", "-g", "10", "-bf", "0", "-x264-params", "slices=3"},
			Measured{Codec: "H.264", Profile: "Constrained Baseline", Width: 322, Height: 182, FPS: 25, GOPFrames: 10, MostSlices: 3}},
		{"H.264 with B-frames", "320x180", []string{"-c:v", "libx264", "-preset", "fast", "-g", "10", "-bf", "2", "-b_strategy", "0"},
			Measured{Codec: "H.264", Profile: "High", Width: 320, Height: 180, FPS: 25, GOPFrames: 10, MostSlices: 1}},
		{"H.264, interlaced, pixels not square", "720x576", []string{"-c:v", "libx264", "-preset", "ultrafast", "-g", "10", "-bf", "0",
			"-flags", "+ilme+ildct", "-aspect", "4:3", "-x264-params", "tff=1"},
			Measured{Codec: "H.264", Profile: "Main", Width: 720, Height: 576, FPS: 25, GOPFrames: 10, Aspect: "16:15", Interlaced: true,
				MostSlices: 1}},
		{"H.265", "322x182", []string{"-c:v", "libx265", "-preset", "ultrafast", "-x265-params", x265},
			Measured{Codec: "H.265", Profile: "Main", Tier: "Main", Width: 322, Height: 182, FPS: 25, GOPFrames: 10, MostSlices: 1}},
		{"JPEG", "328x184", []string{"-c:v", "mjpeg", "-huffman", "default", "-pix_fmt", "yuvj420p", "-q:v", "5"},
			Measured{Codec: "MJPEG", Profile: "Baseline", Width: 328, Height: 184, FPS: 25}},
		{"MPEG-4", "322x182", []string{"-c:v", "mpeg4", "-g", "10", "-b:v", "800k"},
			Measured{Codec: "MPEG-4", Profile: "Simple", Width: 322, Height: 182, FPS: 25, GOPFrames: 10}},
	} {
		t.Run(c.name, func(t *testing.T) {
			args := append([]string{"-f", "lavfi", "-i", "testsrc2=size=" + c.source + ":rate=25", "-t", "2.04", "-pix_fmt", "yuv420p"},
				c.args...)
			track, packets := packetsOf(t, fmt.Sprintf("127.41.50.%d", i+1), args...)
			m := feed(t, track, packets)
			got := m.Measured()
			assert.Equal(t, []any{c.want.Codec, c.want.Profile, c.want.Tier, c.want.Width, c.want.Height, c.want.Aspect,
				c.want.Interlaced, c.want.MostSlices},
				[]any{got.Codec, got.Profile, got.Tier, got.Width, got.Height, got.Aspect, got.Interlaced, got.MostSlices})
			assert.InDelta(t, c.want.FPS, got.FPS, .1)
			assert.InDelta(t, c.want.GOPFrames, max(got.GOPFrames, 1)*min(c.want.GOPFrames, 1), .1)
			assert.Zero(t, got.Malformed)
			assert.Empty(t, got.Segments)
			if got.Codec != "MJPEG" && got.Codec != "H.265" {
				assert.NotEmpty(t, got.Level+got.Profile)
			}
			assert.Equal(t, strings.Contains(c.name, "B-frames"), got.Sizes.Bidirectional != nil)
			key := m.Keyframe()
			require.NotNil(t, key)
			still, err := Still(context.Background(), *key)
			require.NoError(t, err)
			img, err := jpeg.Decode(bytes.NewReader(still))
			require.NoError(t, err)
			assert.Equal(t, image.Pt(c.want.Width, c.want.Height), img.Bounds().Size())
		})
	}
}

func TestAudioOfACommonFramework(t *testing.T) {
	for i, c := range []struct {
		name  string
		args  []string
		want  Audio
		level bool
	}{
		{"G.711 µ-law", []string{"-c:a", "pcm_mulaw", "-ar", "8000"}, Audio{Codec: "G.711 µ-law", SampleRate: 8000, Channels: 1,
			BitrateKbps: 64}, true},
		{"G.711 A-law", []string{"-c:a", "pcm_alaw", "-ar", "8000"}, Audio{Codec: "G.711 A-law", SampleRate: 8000, Channels: 1,
			BitrateKbps: 64}, true},
		{"G.722", []string{"-c:a", "g722", "-ar", "16000"}, Audio{Codec: "G.722", SampleRate: 16000, Channels: 1, BitrateKbps: 64}, false},
		{"G.726, most significant bits first", []string{"-c:a", "g726", "-ar", "8000", "-b:a", "32k"},
			Audio{Codec: "G.726 at 32 kbit/s", Profile: "most significant bits first", SampleRate: 8000, Channels: 1, BitrateKbps: 32},
			false},
		{"G.726, least significant bits first", []string{"-c:a", "g726le", "-ar", "8000", "-b:a", "24k"},
			Audio{Codec: "G.726 at 24 kbit/s", Profile: "least significant bits first", SampleRate: 8000, Channels: 1, BitrateKbps: 24},
			false},
		{"AAC", []string{"-c:a", "aac", "-ar", "44100", "-b:a", "64k", "-ac", "2"},
			Audio{Codec: "AAC", Profile: "LC", SampleRate: 44100, Channels: 2, BitrateKbps: 64}, false},
		{"AAC in LATM", []string{"-c:a", "aac", "-ar", "16000", "-b:a", "32k", "-rtpflags", "latm"},
			Audio{Codec: "AAC", Profile: "LC", SampleRate: 16000, Channels: 1, BitrateKbps: 32}, false},
		{"Opus", []string{"-c:a", "libopus", "-b:a", "32k"}, Audio{Codec: "Opus", SampleRate: 48000, Channels: 1, BitrateKbps: 32}, false},
		{"L16", []string{"-c:a", "pcm_s16be", "-ar", "44100", "-ac", "1"}, Audio{Codec: "L16", SampleRate: 44100, Channels: 1,
			BitrateKbps: 705.6}, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			args := append([]string{"-re", "-f", "lavfi", "-i", "sine=frequency=440:sample_rate=48000", "-t", "0.8", "-vn"}, c.args...)
			track, packets := packetsOf(t, fmt.Sprintf("127.41.51.%d", i+1), args...)
			m := NewAudioMeter(track)
			at := time.Unix(1000, 0)
			var first uint32
			for i, p := range packets {
				x, _ := parseRTP(p)
				if i == 0 {
					first = x.timestamp
				}
				m.Packet(p, at.Add(time.Duration(x.timestamp-first)*time.Second/time.Duration(track.ClockRate)))
			}
			got := m.Measured()
			require.NotNil(t, got)
			assert.Equal(t, []any{c.want.Codec, c.want.Profile, c.want.SampleRate, c.want.Channels, ""},
				[]any{got.Codec, got.Profile, got.SampleRate, got.Channels, got.Problem})
			assert.InEpsilon(t, c.want.BitrateKbps, got.BitrateKbps, .35)
			if assert.Equal(t, c.level, got.LevelDBFS != nil); c.level {
				assert.InDelta(t, -21, *got.LevelDBFS, 1, "the framework's sine stands at an eighth of full scale")
			}
		})
	}
}
