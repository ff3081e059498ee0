package convert_test

import (
	"bytes"
	"context"
	"fmt"
	"image/jpeg"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/conversion"
	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/work/convert"
	"unlatch/core/work/fanout"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const yard = `
name: converted
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.52.0.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 300, gop: 10, audio: "true"}]}
  - {name: Bank, maker: lumenhythe, model: L5, address: 127.52.0.12, scene: viaduct, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 5, codec: h265}]}
  - {name: Hut, maker: corvane, model: V1, address: 127.52.0.13, scene: coal-stage, streams: [{width: 320, height: 180, fps: 5,
       kbps: 900, codec: jpeg}]}
  - {name: Tower, maker: corvane, model: V4, address: 127.52.0.14, scene: coal-stage, streams: [{width: 320, height: 180, fps: 10,
       kbps: 300, gop: 10, audio: aac}]}
`

// networks are those that the tests have taken: each has one of its own.
var networks atomic.Int32

// A mill is a yard whose streams are converted.
type mill struct {
	t       *testing.T
	world   *sim.World
	hub     fanout.Hub
	machine *convert.Machine
	net     string
}

func newMill(t *testing.T, rates conversion.Rates) *mill {
	t.Helper()
	m := &mill{t: t, machine: &convert.Machine{}, net: fmt.Sprintf("127.52.%d.", 100+networks.Add(1))}
	m.machine.Set(rates)
	m.world = simtest.Start(t, strings.ReplaceAll(yard, "127.52.0.", m.net))
	return m
}

// plain takes the stream of a camera as it comes.
func (m *mill) plain(ctx context.Context, name string) (*fanout.Consumer, error) {
	u, err := streamurl.Parse(m.world.Device(name).URL(0))
	require.NoError(m.t, err)
	return m.hub.Join(ctx, name, func(ctx context.Context) (*player.Session, error) {
		return player.Open(ctx, player.Request{Kinds: []string{"video", "audio"}, URL: u,
			Dial:   &address.Guard{Allowed: address.MustParse(m.net + "0/24")},
			SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	})
}

// take takes the stream of a camera in a form.
func (m *mill) take(name string, form conversion.Shape) (*fanout.Consumer, error) {
	return m.hub.Join(m.t.Context(), name+" "+form.Key(), func(ctx context.Context) (*player.Session, error) {
		from, err := m.plain(ctx, name)
		if err != nil {
			return nil, err
		}
		return m.machine.Open(ctx, from, conversion.Source{}, form)
	})
}

var ample = conversion.Rates{Budget: 8}

// Each codec is turned into each other one; size, rate and turn are as they were asked for.
func TestEachCodecIntoEachOther(t *testing.T) {
	t.Parallel()
	m := newMill(t, ample)
	for _, name := range []string{"Clock", "Bank", "Hut"} {
		for _, form := range []conversion.Shape{
			{Codec: "H.264", Width: 160, Height: 96, FPS: 5, GOPSeconds: 1, Sound: "none"},
			{Codec: "H.265", Kbps: 300, GOPSeconds: 1, Sound: "none"},
			{Codec: "MJPEG", Turn: 90, FPS: 5, Sound: "none"},
		} {
			t.Run(name+" "+form.String(), func(t *testing.T) {
				t.Parallel()
				c, err := m.take(name, form)
				require.NoError(t, err)
				defer c.Close()
				got := measured(t, c, 0, 2500*time.Millisecond)
				height := 180
				if name == "Hut" {
					height = 176 // JPEG over RTP counts in blocks of eight
				}
				want := form.Becomes(conversion.Source{Codec: form.Codec, Width: 320, Height: height})
				assert.Equal(t, form.Codec, c.Tracks()[0].CodecName())
				assert.Equal(t, [2]int{want.Width, want.Height}, [2]int{got.Width, got.Height})
				if form.FPS > 0 {
					assert.InDelta(t, form.FPS, got.FPS, 1.5)
				}
				assert.Len(t, c.Tracks(), 1, "no sound")
			})
		}
	}
}

// Sound is turned into AAC while the picture goes on as it comes, or goes on as it comes while the picture is turned into something else.
func TestSound(t *testing.T) {
	t.Parallel()
	m := newMill(t, ample)
	c, err := m.take("Clock", conversion.Shape{Sound: "AAC"})
	require.NoError(t, err)
	require.Len(t, c.Tracks(), 2)
	assert.Equal(t, "H.264", c.Tracks()[0].CodecName())
	assert.Equal(t, "AAC", c.Tracks()[1].CodecName())
	assert.Greater(t, packets(t, c, 2*time.Second)[1], 5)
	c.Close()

	c, err = m.take("Clock", conversion.Shape{Codec: "MJPEG", FPS: 5})
	require.NoError(t, err)
	defer c.Close()
	require.Len(t, c.Tracks(), 2)
	assert.Equal(t, "MJPEG", c.Tracks()[0].CodecName())
	assert.Contains(t, c.Tracks()[1].CodecName(), "G.711")
	assert.Greater(t, packets(t, c, 2*time.Second)[1], 20)
}

// Sound becomes Opus, whether it comes in samples or in AAC, and can be decoded.
func TestSoundBecomesOpus(t *testing.T) {
	t.Parallel()
	m := newMill(t, ample)
	for _, name := range []string{"Clock", "Tower"} {
		c, err := m.take(name, conversion.Shape{Sound: "Opus"})
		require.NoError(t, err, name)
		require.Len(t, c.Tracks(), 2, name)
		assert.Equal(t, "H.264", c.Tracks()[0].CodecName(), name)
		require.Equal(t, "OPUS", c.Tracks()[1].Codec, name)
		l, ok := media.NewListener(c.Tracks()[1].Track)
		require.True(t, ok)
		ctx, done := context.WithTimeout(t.Context(), 2*time.Second)
		samples := 0
		for list := []fanout.Packet(nil); err == nil; {
			list, err = c.Next(ctx, list[:0])
			for _, p := range list {
				if p.Track == 1 && !p.RTCP {
					l.Packet(p.Payload, func(b []byte) { samples += int(media.OpusSamples(b)) })
				}
			}
		}
		done()
		assert.InDelta(t, 2*48000, samples, 48000, name)
		c.Close()
	}
}

// A text stands at the bottom left of the picture, whatever signs it holds.
func TestTextInThePicture(t *testing.T) {
	t.Parallel()
	m := newMill(t, ample)
	white := func(form conversion.Shape) (n int) {
		c, err := m.take("Hut", form)
		require.NoError(t, err)
		defer c.Close()
		frames, ok := media.NewAssembler(c.Tracks()[0].Track)
		require.True(t, ok)
		var picture []byte
		for list := []fanout.Packet(nil); picture == nil; {
			list, err = c.Next(t.Context(), list[:0])
			require.NoError(t, err)
			for _, p := range list {
				if !p.RTCP && p.Track == 0 {
					frames.Packet(p.Payload, func(f media.Frame, _ uint32) { picture = bytes.Clone(f.Data) })
				}
			}
		}
		img, err := jpeg.Decode(bytes.NewReader(picture))
		require.NoError(t, err)
		box := img.Bounds()
		for y := box.Dy() * 8 / 10; y < box.Dy(); y++ {
			for x := range box.Dx() / 2 {
				if r, g, b, _ := img.At(x, y).RGBA(); min(r, g, b) > 0xd000 {
					n++
				}
			}
		}
		return n
	}
	plain := white(conversion.Shape{Codec: "MJPEG", Sound: "none"})
	assert.Greater(t, white(conversion.Shape{Codec: "MJPEG", Sound: "none", Text: `Hut 100 %: 'n\x, [e]`}), plain+40)
	require.Eventually(t, func() bool {
		left, _ := filepath.Glob(filepath.Join(os.TempDir(), "unlatch-relay-*"))
		return len(left) == 0
	}, 20*time.Second, 50*time.Millisecond, "nothing is left behind")
}

// A form is made once for all who want it, and no more than the budget allows is begun.
func TestOnceForAllWithinABudget(t *testing.T) {
	t.Parallel()
	small := conversion.Rates{Decode: map[string]float64{"H.264": 0.1}, Encode: map[string]float64{"MJPEG": 0.1}, Budget: 0.2}
	m := newMill(t, small)
	source := conversion.Source{Codec: "H.264", Width: 320, Height: 180, FPS: 10}
	form := conversion.Shape{Codec: "MJPEG", FPS: 5}
	from, err := m.plain(t.Context(), "Clock")
	require.NoError(t, err)
	first, err := m.machine.Open(t.Context(), from, source, form)
	require.NoError(t, err)
	assert.InDelta(t, 0.0576+0.0283, m.machine.Rates().Used, 0.001)
	for n := 0; n < 3; n++ {
		from, err = m.plain(t.Context(), "Clock")
		require.NoError(t, err)
		_, err = m.machine.Open(t.Context(), from, conversion.Source{Codec: "H.264", Width: 640, Height: 360, FPS: 10}, form)
		var over *conversion.BudgetError
		require.ErrorAs(t, err, &over)
	}
	require.NoError(t, first.Close())
	assert.Zero(t, m.machine.Rates().Used)

	one, err := m.take("Clock", form)
	require.NoError(t, err)
	defer one.Close()
	two, err := m.take("Clock", form)
	require.NoError(t, err)
	defer two.Close()
	assert.Equal(t, 2, m.hub.Streams(), "the camera's own and one conversion")
}

// An ffmpeg that is killed ends the stream with a reason.
func TestAKilledFFmpeg(t *testing.T) {
	t.Parallel()
	m := newMill(t, ample)
	c, err := m.take("Clock", conversion.Shape{Codec: "MJPEG", Width: 144, Height: 80, FPS: 5})
	require.NoError(t, err)
	defer c.Close()
	list := children(t, "scale=144:80")
	require.Len(t, list, 1)
	for _, pid := range list {
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	}
	assert.ErrorContains(t, ended(t, c), "the conversion ended")
}

// An ffmpeg that gives nothing any more is given up.
func TestAHungFFmpeg(t *testing.T) {
	t.Parallel()
	m := newMill(t, ample)
	c, err := m.take("Clock", conversion.Shape{Codec: "MJPEG", Width: 128, Height: 72, FPS: 5})
	require.NoError(t, err)
	defer c.Close()
	for _, pid := range children(t, "scale=128:72") {
		require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	}
	assert.ErrorContains(t, ended(t, c), "sent nothing")
	assert.Eventually(t, func() bool { return len(children(t, "scale=128:72")) == 0 }, 10*time.Second, 50*time.Millisecond, "it is ended")
}

// Without ffmpeg that is said, and the camera is let go.
func TestWithoutFFmpeg(t *testing.T) {
	m := newMill(t, ample)
	t.Setenv("PATH", t.TempDir())
	_, err := m.take("Clock", conversion.Shape{Codec: "MJPEG"})
	assert.ErrorIs(t, err, convert.ErrNoFFmpeg)
	_, err = convert.Measure(t.Context())
	assert.ErrorIs(t, err, convert.ErrNoFFmpeg)
	assert.Eventually(t, func() bool { return m.hub.Streams() == 0 }, 10*time.Second, 20*time.Millisecond)
	assert.Zero(t, m.machine.Rates().Used)
}

// children returns the IDs of the ffmpegs of these tests whose arguments hold a text.
func children(t *testing.T, text string) (pids []int) {
	t.Helper()
	list, err := os.ReadDir("/proc")
	require.NoError(t, err)
	for _, e := range list {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		line, _ := os.ReadFile("/proc/" + e.Name() + "/cmdline")
		stat, _ := os.ReadFile("/proc/" + e.Name() + "/stat")
		_, rest, _ := strings.Cut(string(stat), ") ")
		if fields := strings.Fields(rest); len(fields) > 1 && fields[1] == strconv.Itoa(os.Getpid()) &&
			strings.Contains(strings.ReplaceAll(string(line), "\x00", " "), text) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// ended reads until a stream ends, and returns why.
func ended(t *testing.T, c *fanout.Consumer) error {
	t.Helper()
	ctx, done := context.WithTimeout(t.Context(), time.Minute)
	defer done()
	for {
		if _, err := c.Next(ctx, nil); err != nil {
			return err
		}
	}
}

// packets counts the packets of each track for a while.
func packets(t *testing.T, c *fanout.Consumer, span time.Duration) map[int]int {
	t.Helper()
	out := map[int]int{}
	reads(t, c, span, func(p fanout.Packet) { out[p.Track]++ })
	return out
}

// measured measures a track for a while.
func measured(t *testing.T, c *fanout.Consumer, track int, span time.Duration) media.Measured {
	t.Helper()
	m := media.NewMeter(c.Tracks()[track].Track)
	reads(t, c, span, func(p fanout.Packet) {
		if p.Track == track {
			m.Packet(p.Payload, p.At)
		}
	})
	return m.Measured()
}

func reads(t *testing.T, c *fanout.Consumer, span time.Duration, each func(fanout.Packet)) {
	t.Helper()
	ctx, done := context.WithTimeout(t.Context(), span)
	defer done()
	for {
		list, err := c.Next(ctx, nil)
		for _, p := range list {
			each(p)
		}
		if err != nil {
			require.ErrorIs(t, err, context.DeadlineExceeded)
			return
		}
	}
}

// What converting costs is measured for each codec, and an encoder is found for each.
func TestTheMachineIsMeasured(t *testing.T) {
	t.Parallel()
	r, err := convert.Measure(t.Context())
	require.NoError(t, err)
	for _, codec := range []string{"H.264", "H.265", "MJPEG"} {
		assert.Positive(t, r.Decode[codec], codec)
		assert.Positive(t, r.Encode[codec], codec)
		assert.NotEmpty(t, r.Encoders[codec], codec)
	}
	assert.Positive(t, r.Sound)
}
