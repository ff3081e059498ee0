package prove_test

import (
	"context"
	"net/netip"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/work/prove"
	"unlatch/sim/scene"
	"unlatch/sim/simtest"
	"unlatch/sim/transport"
)

// clip is a small picture for an encoder to send.
func clip(t *testing.T, codec scene.Codec) *scene.Clip {
	library := &scene.Library{Dir: simtest.MediaDir(t)}
	c, err := library.Clip(context.Background(), scene.Format{Scene: "turntable", Width: 320, Height: 180, FPS: 10, Kbps: 300, GOP: 10,
		Profile: "main", Codec: codec})
	require.NoError(t, err)
	return c
}

// frames returns frames of AAC with their ADTS headers.
func frames(t *testing.T) (out [][]byte) {
	raw, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "sine=frequency=440:sample_rate=16000", "-t", "2", "-c:a", "aac",
		"-b:a", "32k", "-ac", "1", "-f", "adts", "pipe:1").Output()
	require.NoError(t, err)
	for len(raw) > 7 {
		n := int(raw[3]&3)<<11 | int(raw[4])<<3 | int(raw[5]>>5)
		out, raw = append(out, raw[:n]), raw[n:]
	}
	return out
}

// sends has an encoder send for as long as the test runs.
func sends(t *testing.T, o transport.Options) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); transport.Send(ctx, o) }()
	t.Cleanup(func() { cancel(); <-done })
}

// carried is a transport stream and what comes of it.
type carried struct {
	url   string
	send  []transport.Options
	cause trouble.Cause // of the diagnosis; "" where it is proven
	codec string
	how   string
}

// A transport stream is proven as any stream is: by what came. What is wrong with one is said, and who may not be listened to is not heard.
func TestTransportStreams(t *testing.T) {
	h264, sound := clip(t, scene.H264), frames(t)
	own, stranger := netip.MustParseAddr("127.41.60.11"), netip.MustParseAddr("127.41.61.66")
	broken := func(url string, c *scene.Clip, defect string, cause trouble.Cause) carried {
		return carried{url, []transport.Options{{Clip: c, Defect: defect}}, cause, "", "mpeg-ts"}
	}
	for name, c := range map[string]carried{
		"to a group, with sound": {"udp://@239.41.60.1:20001", []transport.Options{{Clip: h264, Sound: sound}}, "", "H.264", "mpeg-ts"},
		"within RTP":             {"rtp://@239.41.60.2:20002", []transport.Options{{Clip: h264, RTP: true}}, "", "H.264", "mpeg-ts over rtp"},
		"H.265":                  {"udp://@239.41.60.3:20003", []transport.Options{{Clip: clip(t, scene.H265)}}, "", "H.265", "mpeg-ts"},
		"to this machine":        {"udp://@127.41.60.99:20004", []transport.Options{{Clip: h264}}, "", "H.264", "mpeg-ts"},
		"a sender by name":       {"udp://127.41.60.11@239.41.60.5:20005", []transport.Options{{Clip: h264}}, "", "H.264", "mpeg-ts"},
		"losses":                 {"udp://@239.41.60.6:20006", []transport.Options{{Clip: h264, Defect: "loses"}}, "", "H.264", "mpeg-ts"},
		"a stranger beside": {"udp://@239.41.60.7:20007", []transport.Options{{Clip: h264}, {Clip: clip(t, scene.H265), From: stranger}}, "",
			"H.264", "mpeg-ts"},
		"a stranger alone": {"udp://@239.41.60.8:20008", []transport.Options{{Clip: h264, From: stranger}}, trouble.NothingSent, "",
			"mpeg-ts"},
		"nobody":                    {"udp://@239.41.60.9:20009", nil, trouble.NothingSent, "", "mpeg-ts"},
		"scrambled":                 broken("udp://@239.41.60.10:20010", h264, "scrambled", trouble.NothingSent),
		"no tables":                 broken("udp://@239.41.60.11:20011", h264, "no_tables", trouble.NothingSent),
		"wrong PIDs":                broken("udp://@239.41.60.13:20013", h264, "wrong_pids", trouble.NothingSent),
		"a time before each packet": {"udp://@239.41.60.14:20014", []transport.Options{{Clip: h264, Defect: "timed"}}, "", "H.264", "mpeg-ts"},
		"parity behind each packet": {"udp://@239.41.60.15:20015", []transport.Options{{Clip: h264, Defect: "parity"}}, "", "H.264", "mpeg-ts"},
		"two programs": {"udp://@239.41.60.16:20016", []transport.Options{{Clip: h264, Defect: "two_programs"}}, "", "H.264",
			"mpeg-ts"},
		"RTP and none in turn": {"udp://@239.41.60.17:20017", []transport.Options{{Clip: h264, Defect: "alternates"}}, "", "H.264", ""},
		"two senders": {"udp://@239.41.60.18:20018", []transport.Options{{Clip: h264}, {Clip: h264,
			From: netip.MustParseAddr("127.41.60.12")}}, "", "H.264", "mpeg-ts"},
		"another codec": broken("udp://@239.41.60.12:20012", h264, "mpeg2", trouble.CodecNotMeasured),
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			u, err := streamurl.Parse(c.url)
			require.NoError(t, err)
			for _, o := range c.send {
				if !o.From.IsValid() {
					o.From = own
				}
				o.To = netip.AddrPortFrom(netip.MustParseAddr(u.Host), uint16(u.Port))
				sends(t, o)
			}
			prover := prove.Prover{Dial: &address.Guard{Allowed: address.MustParse("127.41.60.0/24")}, Still: media.Still}
			p := prover.Prove(context.Background(), prove.Request{URL: u, Timeout: 3 * time.Second})
			if c.how != "" {
				assert.Equal(t, c.how, p.Transport)
			}
			if c.cause != "" {
				require.NotNil(t, p.Diagnosis)
				assert.Equal(t, c.cause, p.Diagnosis.Cause, "%+v", p.Diagnosis)
				return
			}
			require.True(t, p.OK, "%+v\n%s", p.Diagnosis, p.Exchange)
			assert.Equal(t, c.codec, p.Video.Codec)
			assert.Equal(t, []int{320, 180}, []int{p.Video.Width, p.Video.Height})
			if name == "losses" {
				assert.Positive(t, p.TransportStream.Lost)
			} else {
				assert.InDelta(t, 10, p.Video.FPS, .5)
			}
			assert.NotEmpty(t, p.Still)
			require.NotNil(t, p.TransportStream)
			assert.Equal(t, 1, p.TransportStream.Program)
			assert.Equal(t, map[string]int{"a time before each packet": 192, "parity behind each packet": 204}[name],
				p.TransportStream.PacketBytes)
			assert.Equal(t, name == "RTP and none in turn", p.TransportStream.Alternates)
			assert.Len(t, p.TransportStream.Also, map[string]int{"two senders": 1}[name])
			assert.Equal(t, map[string]int{"two programs": 2}[name], p.TransportStream.Programs)
			if len(c.send[0].Sound) > 0 {
				require.NotNil(t, p.Audio)
				assert.Equal(t, []any{"AAC", 16000}, []any{p.Audio.Codec, p.Audio.SampleRate})
			}
		})
	}
}

// What is no transport stream, or goes on without end, ends in a diagnosis.
func TestHostileDatagrams(t *testing.T) {
	u, err := streamurl.Parse("udp://@239.41.60.20:20020")
	require.NoError(t, err)
	conn, err := transport.Dial(t.Context(), netip.MustParseAddr("127.41.60.11"), netip.MustParseAddrPort("239.41.60.20:20020"))
	require.NoError(t, err)
	defer conn.Close()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		junk := make([]byte, 1400)
		for n := byte(0); ctx.Err() == nil; n++ {
			for i := range junk {
				junk[i] = byte(i)*n + 0x47
			}
			conn.Write(junk)
			time.Sleep(time.Millisecond)
		}
	}()
	guard := &address.Guard{Allowed: address.MustParse("127.41.60.0/24")}
	s, err := player.Open(ctx, player.Request{Dial: guard, URL: u, Timeout: time.Second})
	var none *player.NoTransportError
	require.ErrorAs(t, err, &none)
	assert.Empty(t, s.Tracks)
}
