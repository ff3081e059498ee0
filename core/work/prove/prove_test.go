package prove_test

import (
	"bytes"
	"context"
	"image/jpeg"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/proof"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/media"
	"unlatch/core/work/prove"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const tarn = `
name: prove
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.41.1.11, scene: platform-clock, streams: [&m {width: 640, height: 360,
       fps: 15, kbps: 600, audio: true}, &s {width: 320, height: 180, fps: 10, kbps: 200, gop: 5, profile: baseline}]}
  - {name: Turntable, maker: lumenhythe, model: L2, address: 127.41.1.12, scene: turntable, streams: [*m, *s]}
  - {name: Busy, maker: corvane, model: V4, address: 127.41.1.13, scene: turntable, streams: [*s], defects: {sessions: -1}}
  - {name: Silent, maker: corvane, model: V4, address: 127.41.1.14, scene: turntable, streams: [*s], defects: {stream_silent: true}}
  - {name: Closed, maker: corvane, model: V4, address: 127.41.1.15, scene: turntable, streams: [*s], defects: {stream_closed: true}}
  - {name: Odd, maker: lumenhythe, model: L2, address: 127.41.1.16, scene: turntable, streams: [*s], defects: {no_parameters: true,
       stray_frames: true}}
  - {name: Open, maker: corvane, model: V4, address: 127.41.1.17, scene: turntable, users: [], streams: [*s]}
`

var fitter = signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}

// run proves a stream of a device that answers; the usual timeout leaves room for a busy machine.
func run(t *testing.T, url string, in signin.SignIn) proof.Proof {
	t.Helper()
	return runWith(t, url, prove.Request{SignIn: in})
}

// runWith proves a stream in the way that req says; its URL is set here.
func runWith(t *testing.T, url string, req prove.Request) proof.Proof {
	t.Helper()
	u, err := streamurl.Parse(url)
	require.NoError(t, err)
	req.URL = u
	p := prove.Prover{Dial: &address.Guard{Allowed: address.MustParse("127.41.0.0/16")}, Still: media.Still}
	proof := p.Prove(context.Background(), req)
	assert.NotContains(t, proof.Exchange, "brass-lamp-41")
	assert.NotContains(t, proof.URL, "brass-lamp-41")
	return proof
}

func TestProveMeasuresWhatComes(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, tarn)
	for _, c := range []struct {
		device string
		stream int
		auth   string
		width  int
		fps    float64
		kbps   float64
		gop    float64
		audio  bool
	}{
		{"Clock", 0, "digest MD5", 640, 15, 600, 1, true},
		{"Clock", 1, "digest MD5", 320, 10, 200, .5, false},
		{"Turntable", 0, "digest SHA-256", 640, 15, 600, 1, true},
		{"Odd", 0, "digest SHA-256", 320, 10, 200, .5, false},
		{"Open", 0, "none", 320, 10, 200, .5, false},
	} {
		t.Run(c.device, func(t *testing.T) {
			t.Parallel()
			in := fitter
			if c.auth == "none" {
				in = signin.SignIn{}
			}
			p := run(t, w.Device(c.device).URL(c.stream), in)
			require.True(t, p.OK, "%+v\n%s", p.Diagnosis, p.Exchange)
			assert.Equal(t, c.auth, p.Auth)
			assert.Equal(t, "tcp", p.Transport)
			assert.Equal(t, "H.264", p.Video.Codec)
			assert.Equal(t, c.width, p.Video.Width)
			assert.InDelta(t, c.fps, p.Video.FPS, .2)
			assert.InEpsilon(t, c.kbps, p.Video.BitrateKbps, .4,
				"the encoder keeps its rate over the whole loop, and two seconds of it are measured")
			assert.InDelta(t, c.gop, p.Video.GOPSeconds, .02)
			assert.Zero(t, p.Video.Lost)
			assert.Positive(t, p.FirstKeyframeMS)
			assert.Equal(t, c.audio, p.Audio != nil)
			if c.audio {
				assert.Equal(t, 8000, p.Audio.SampleRate)
				assert.Positive(t, p.Audio.Packets)
			}
			img, err := jpeg.Decode(bytes.NewReader(p.Still))
			require.NoError(t, err)
			assert.Equal(t, c.width, img.Bounds().Dx())
			var names []string
			for _, s := range p.Steps {
				names = append(names, s.Name)
			}
			assert.Subset(t, names, []string{"connect", "describe", "set up video", "play", "first packet", "first key frame", "measure",
				"decode"})
		})
	}
}

func TestProveSaysWhyNot(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, strings.ReplaceAll(tarn, "127.41.1.", "127.41.2."))
	web := func(l sim.Look) string { return "rtsp://" + l.Web() + "/vista/ch1/primary" }
	wrong := signin.SignIn{User: "fitter", Secret: signin.NewSecret("guess")}
	for _, c := range []struct {
		name, url string
		in        signin.SignIn
		want      trouble.Cause
		says      string
	}{
		{"wrong password", w.Device("Clock").URL(0), wrong, trouble.WrongSignIn, `"fitter"`},
		{"no sign-in", w.Device("Clock").URL(0), signin.SignIn{}, trouble.NoSignIn, "digest MD5"},
		{"unknown path", w.Device("Clock").URL(0) + "x", fitter, trouble.PathUnknown, "404"},
		{"wrong case", strings.ReplaceAll(w.Device("Clock").URL(0), "vista", "VISTA"), fitter, trouble.PathUnknown, "404"},
		{"the web port", web(w.Device("Clock")), fitter, trouble.NotRTSP, "HTTP"},
		{"session limit", w.Device("Busy").URL(0), fitter, trouble.SessionLimit, "453"},
		{"silent server", w.Device("Silent").URL(0), fitter, trouble.Silent, "says nothing"},
		{"closed port", w.Device("Closed").URL(0), fitter, trouble.PortClosed, "port 554"},
		{"outside the ranges", "rtsp://127.99.0.1/x", fitter, trouble.OutOfScope, "127.99.0.1"},
		{"a page", "http://" + w.Device("Clock").Web() + "/", fitter, trouble.NotPicture, "page"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := run(t, c.url, c.in)
			require.False(t, p.OK)
			assert.Equal(t, c.want, p.Diagnosis.Cause, "%+v", p.Diagnosis)
			assert.Contains(t, p.Diagnosis.Summary, c.says)
			assert.NotEmpty(t, p.Diagnosis.Fix)
			assert.NotEmpty(t, p.Diagnosis.Seen)
		})
	}
}

// hostile serves raw bytes on a loopback port: hello on connecting, then answer to each request line seen.
func hostile(t *testing.T, answer func(method string, cseq int) string) string {
	l, err := net.Listen("tcp4", "127.41.3.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				buf := make([]byte, 4096)
				for n := 1; ; n++ {
					got, err := c.Read(buf)
					if err != nil {
						return
					}
					method, _, _ := strings.Cut(string(buf[:got]), " ")
					if _, err := io.WriteString(c, answer(method, n)); err != nil {
						return
					}
				}
			}()
		}
	}()
	return "rtsp://" + l.Addr().String() + "/x"
}

func TestProveSurvivesHostileServers(t *testing.T) {
	t.Parallel()
	ok := func(cseq int, fields, body string) string {
		return "RTSP/1.0 200 OK\r\nCSeq: " + string(rune('0'+cseq)) + "\r\n" + fields + "Content-Length: " + itoa(len(body)) +
			"\r\n\r\n" + body
	}
	sdp := "v=0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n"
	rtp := func(payload string) string {
		p := "\x80\x60\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01" + payload
		return "$\x00\x00" + string(byteString(len(p))) + p
	}
	play := func(after string) func(string, int) string {
		return func(m string, n int) string {
			switch m {
			case "DESCRIBE":
				return ok(n, "", sdp)
			case "PLAY":
				return ok(n, "Session: 1\r\n", "") + after
			case "SETUP":
				return ok(n, "Session: 1\r\n", "")
			}
			return ""
		}
	}
	for _, c := range []struct {
		name   string
		answer func(string, int) string
		want   trouble.Cause
	}{
		{"a header without end", func(string, int) string { return "RTSP/1.0 200 OK\r\n" + strings.Repeat("X-More: yes\r\n", 5000) },
			trouble.Unbounded},
		{"a line without end", func(string, int) string { return "RTSP/1.0 200 " + strings.Repeat("a", 1<<20) }, trouble.Unbounded},
		{"a huge body", func(_ string, n int) string { return "RTSP/1.0 200 OK\r\nContent-Length: 52428800\r\n\r\n" }, trouble.Unbounded},
		{"a negative length", func(_ string, n int) string { return "RTSP/1.0 200 OK\r\nContent-Length: -1\r\n\r\n" }, trouble.Broken},
		{"nonsense", func(string, int) string { return "\x00\x01\x02 hello\r\n\r\n" }, trouble.Broken},
		{"an empty description", func(_ string, n int) string { return ok(n, "", "") }, trouble.BadDescription},
		{"a description without media", func(_ string, n int) string { return ok(n, "", "v=0\r\ns=x\r\n") }, trouble.BadDescription},
		{"a description without video", func(_ string, n int) string { return ok(n, "", "v=0\r\nm=audio 0 RTP/AVP 0\r\n") },
			trouble.NoVideo},
		{"no control and no packets", play(""), trouble.NoPackets},
		{"frames on unknown channels only", play(strings.Repeat("$\x63\x00\x03abc", 3)), trouble.NoPackets},
		{"truncated RTP", play("$\x00\x00\x05\x80\x60\x00\x01\x00"), trouble.NoKeyframe},
		{"a parameter set of zero size", play(rtp("\x67\x42\x00\x1e\x00")), trouble.BadParameterSet},
		{"an absurd parameter set", play(rtp("\x67\x42\x00\x1e\xf8\x00\x00\x08\x00\x00\x20\x00\x00\x40\xff")), trouble.BadParameterSet},
		{"a body that never comes", func(string, int) string { return "RTSP/1.0 200 OK\r\nContent-Length: 10\r\n\r\nabc" },
			trouble.TooSlow},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := runWith(t, hostile(t, c.answer), prove.Request{SignIn: fitter, Timeout: 1500 * time.Millisecond})
			require.False(t, p.OK)
			assert.Equal(t, c.want, p.Diagnosis.Cause, "%+v\n%s", p.Diagnosis, p.Exchange)
			assert.Less(t, len(p.Exchange), 200<<10)
		})
	}
}

func itoa(n int) string {
	if n < 10 {
		return string(rune('0' + n))
	}
	return itoa(n/10) + string(rune('0'+n%10))
}

func byteString(n int) []byte { return []byte{byte(n)} }
