package live

import (
	"context"
	"errors"
	"fmt"
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
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtsp"
	"unlatch/core/work/fanout"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const looks = `
name: looks
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.44.95.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10}]}
  - {name: Hut, maker: corvane, model: V1, address: 127.44.95.12, scene: coal-stage, streams: [{width: 320, height: 180, fps: 5,
       kbps: 900, codec: jpeg}]}
  - {name: Bank, maker: lumenhythe, model: L5, address: 127.44.95.13, scene: viaduct, streams: [{width: 320, height: 180, fps: 5,
       kbps: 200, gop: 5, codec: h265}]}
  - {name: Talks, maker: corvane, model: V4, address: 127.44.95.14, scene: footbridge, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10, audio: "true"}]}
  - {name: Sings, maker: corvane, model: V4, address: 127.44.95.15, scene: footbridge, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10, audio: aac}]}
  - {name: Murmurs, maker: corvane, model: V4, address: 127.44.95.24, scene: footbridge, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10, audio: g726}]}
  - {name: Hums, maker: corvane, model: V4, address: 127.44.95.25, scene: footbridge, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10, audio: latm}]}
  - {name: Whistles, maker: corvane, model: V4, address: 127.44.95.26, scene: footbridge, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10, audio: opus}]}
  - {name: Turns, maker: corvane, model: V4, address: 127.44.95.16, scene: footbridge, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10, changes: [160, 90]}]}
`

func opener(t *testing.T, w *sim.World, name string, opened *atomic.Int32) Source {
	u, err := streamurl.Parse(w.Device(name).URL(0))
	require.NoError(t, err)
	session := func(ctx context.Context) (*player.Session, error) {
		opened.Add(1)
		kinds := []string{"video", "audio"}
		return player.Open(ctx, player.Request{Kinds: kinds, Dial: &address.Guard{Allowed: address.MustParse("127.44.95.0/24")}, URL: u,
			Transport: rtsp.TCP,
			SignIn:    signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	}
	var hub fanout.Hub
	join := func(ctx context.Context) (*fanout.Consumer, error) { return hub.Join(ctx, name, session) }
	return Play(join, func(err error) (*Trouble, bool) { return &Trouble{Problem: err.Error()}, true })
}

func read(t *testing.T, v *Viewer, n int) (out []Message) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	for len(out) < n {
		m, err := v.Next(ctx)
		require.NoError(t, err)
		if m.Measures == nil {
			out = append(out, m)
		}
	}
	return out
}

// However many look, the device has one session; whoever comes later begins at once with the newest group; nobody who never reads holds up
// the others; and when nobody looks any more the session ends.
func TestOneSessionForAll(t *testing.T) {
	w := simtest.Start(t, looks)
	var h Hub
	var opened atomic.Int32
	open := opener(t, w, "Clock", &opened)
	first, err := h.Watch("clock", Wish{}, open)
	require.NoError(t, err)
	list := read(t, first, 12)
	require.NotNil(t, list[0].Begin)
	assert.Equal(t, []any{"H.264", 320, 180}, []any{list[0].Begin.Codec, list[0].Begin.Width, list[0].Begin.Height})
	assert.True(t, strings.HasPrefix(list[0].Begin.MIME, `video/mp4; codecs="avc1.`))
	assert.True(t, list[1].Key, "a viewer begins with a key frame")

	later, err := h.Watch("clock", Wish{}, open)
	require.NoError(t, err)
	require.NotEmpty(t, later.c, "the next viewer begins at once")
	assert.NotNil(t, read(t, later, 1)[0].Begin)
	var idle []*Viewer
	for range maxViewers - 2 {
		v, err := h.Watch("clock", Wish{}, open)
		require.NoError(t, err)
		idle = append(idle, v)
	}
	_, err = h.Watch("clock", Wish{}, open)
	assert.ErrorIs(t, err, ErrFull)
	read(t, first, 15)
	assert.Equal(t, int32(1), opened.Load())
	assert.Equal(t, 1, h.Streams())
	for _, v := range append(idle, first, later) {
		v.Close()
	}
	assert.Eventually(t, func() bool { return h.Streams() == 0 }, 10*time.Second, 20*time.Millisecond)
	again, err := h.Watch("clock", Wish{}, open)
	require.NoError(t, err)
	read(t, again, 2)
	again.Close()
	assert.Equal(t, int32(2), opened.Load())
}

func TestOtherCodecs(t *testing.T) {
	w := simtest.Start(t, looks)
	var h Hub
	var opened atomic.Int32
	v, err := h.Watch("hut", Wish{}, opener(t, w, "Hut", &opened))
	require.NoError(t, err)
	list := read(t, v, 3)
	assert.Equal(t, "image/jpeg", list[0].Begin.MIME)
	assert.Equal(t, []byte{0xff, 0xd8}, list[1].Data[:2])
	assert.NotEqual(t, list[1].Data, list[2].Data, "it moves")
	v.Close()
	v, err = h.Watch("bank", Wish{}, opener(t, w, "Bank", &opened))
	require.NoError(t, err)
	list = read(t, v, 4)
	require.NotNil(t, list[0].Begin)
	assert.Equal(t, []any{"H.264", "H.265"}, []any{list[0].Begin.Codec, list[0].Begin.Converted})
	assert.True(t, strings.HasPrefix(list[0].Begin.MIME, "video/mp4"))
	assert.True(t, list[1].Key)
	v.Close()
	assert.Eventually(t, func() bool { return len(converting) == 0 && h.Streams() == 0 }, 10*time.Second, 20*time.Millisecond,
		"what converts it ends with it")
	for range mostConverted {
		converting <- struct{}{}
	}
	v, err = h.Watch("bank", Wish{}, opener(t, w, "Bank", &opened))
	require.NoError(t, err)
	_, err = v.Next(context.Background())
	assert.ErrorIs(t, err, ErrBusy)
	for range mostConverted {
		<-converting
	}
	v, err = h.Watch("gone", Wish{}, func(context.Context, *Room) error { return errors.New("no way there") })
	require.NoError(t, err)
	_, err = v.Next(context.Background())
	assert.ErrorContains(t, err, "no way there")
}

// Two browsers of which one does not play the codec share the session with the device, and so does whoever listens.
func TestFormsShareASession(t *testing.T) {
	w := simtest.Start(t, looks)
	var h Hub
	var opened atomic.Int32
	open := opener(t, w, "Bank", &opened)
	plays, err := h.Watch("bank", Wish{H265: true}, open)
	require.NoError(t, err)
	list := read(t, plays, 3)
	assert.Equal(t, []any{"H.265", ""}, []any{list[0].Begin.Codec, list[0].Begin.Converted})
	assert.Contains(t, list[0].Begin.MIME, "hvc1")
	not, err := h.Watch("bank", Wish{}, open)
	require.NoError(t, err)
	assert.Equal(t, "H.265", read(t, not, 2)[0].Begin.Converted)
	made, err := h.Watch("bank", Wish{H265: true, Made: true}, open)
	require.NoError(t, err)
	assert.Equal(t, "H.265", read(t, made, 2)[0].Begin.Converted, "what a browser does not play, whatever it says, is converted")
	deaf, err := h.Watch("bank", Wish{Sound: true}, open)
	require.NoError(t, err)
	assert.Equal(t, Unheard, read(t, deaf, 1)[0].Begin.MIME, "it has no sound")
	assert.Equal(t, int32(1), opened.Load())
	// A form ends with the last who looks at it, while the others go on, and begins anew for the next.
	not.Close()
	made.Close()
	assert.Eventually(t, func() bool { read(t, plays, 1); return len(converting) == 0 }, 20*time.Second, time.Millisecond)
	again, err := h.Watch("bank", Wish{}, open)
	require.NoError(t, err)
	list = read(t, again, 2)
	require.NotNil(t, list[0].Begin)
	assert.True(t, list[1].Key)
	assert.Equal(t, int32(1), opened.Load())
	for _, v := range []*Viewer{plays, again, deaf} {
		v.Close()
	}
}

func TestSound(t *testing.T) {
	w := simtest.Start(t, looks)
	var h Hub
	var opened atomic.Int32
	for name, begin := range map[string]Begin{
		"Talks":    {MIME: "audio/pcm", Codec: "G.711 µ-law", Rate: 8000, Channels: 1},
		"Sings":    {MIME: `audio/mp4; codecs="mp4a.40.2"`, Codec: "AAC", Rate: 16000, Channels: 1},
		"Murmurs":  {MIME: "audio/pcm", Codec: "G.726 at 32 kbit/s", Rate: 8000, Channels: 1},
		"Hums":     {MIME: `audio/mp4; codecs="mp4a.40.2"`, Codec: "AAC", Rate: 16000, Channels: 1},
		"Whistles": {MIME: `audio/mp4; codecs="opus"`, Codec: "Opus", Rate: 48000, Channels: 2},
	} {
		v, err := h.Watch(name, Wish{Sound: true}, opener(t, w, name, &opened))
		require.NoError(t, err)
		list := read(t, v, 4)
		assert.Equal(t, &begin, list[0].Begin)
		assert.NotEmpty(t, list[2].Data)
		assert.NotEqual(t, list[2].Data, list[3].Data)
		v.Close()
	}
}

// The seconds are measured once for all, and the next viewer is told those before.
func TestMeasures(t *testing.T) {
	w := simtest.Start(t, looks)
	var h Hub
	var opened atomic.Int32
	measures := func(v *Viewer) []Measure {
		for {
			m, err := v.Next(t.Context())
			require.NoError(t, err)
			if m.Measures != nil {
				return m.Measures
			}
		}
	}
	first, err := h.Watch("clock", Wish{}, opener(t, w, "Clock", &opened))
	require.NoError(t, err)
	defer first.Close()
	measures(first)
	m := measures(first)[0]
	for len(m.Keys) == 0 { // on a busy machine the one of this second may arrive in the next
		m = measures(first)[0]
	}
	assert.InDelta(t, 10, m.FPS, 7)
	assert.LessOrEqual(t, len(m.Keys), 2, "a key frame each second")
	assert.Greater(t, m.Kbps, 20.0)
	assert.Zero(t, m.Lost)
	later, err := h.Watch("clock", Wish{}, nil)
	require.NoError(t, err)
	defer later.Close()
	assert.GreaterOrEqual(t, len(measures(later)), 2)
}

func TestPace(t *testing.T) {
	var p pace
	at := time.Unix(1000, 0)
	packet := func(seq byte, after time.Duration) []Measure {
		return p.packet(append([]byte{0x80, 96, 0, seq, 0, 0, 0, 0, 0, 0, 0, 0}, make([]byte, 1000)...), at.Add(after))
	}
	assert.Empty(t, packet(1, 0))
	p.frame(true, at.Add(250*time.Millisecond))
	assert.Empty(t, packet(4, 900*time.Millisecond))
	assert.Equal(t, []Measure{{At: 1000_000, Kbps: 16, FPS: 1, Keys: []float64{.25}, Lost: 2}, {At: 1001_000, Keys: []float64{}}},
		packet(5, 2500*time.Millisecond), "a second in which nothing came is told too")
	assert.Len(t, packet(6, time.Hour), mostEmpty, "a device that was away for long is not told second by second")
	assert.Empty(t, p.packet([]byte{1}, at))
}

// A camera that restarts is asked for again, in the same session of looking; one that changes its size begins anew.
func TestARestart(t *testing.T) {
	w := simtest.Start(t, looks)
	var h Hub
	var opened atomic.Int32
	v, err := h.Watch("clock", Wish{}, opener(t, w, "Clock", &opened))
	require.NoError(t, err)
	defer v.Close()
	read(t, v, 3)
	w.Restart("Clock")
	var paused, began bool
	for !began {
		m := read(t, v, 1)[0]
		paused = paused || m.Pause != nil
		began = paused && m.Begin != nil
	}
	assert.True(t, read(t, v, 1)[0].Key)
	assert.Greater(t, opened.Load(), int32(1))

	turns, err := h.Watch("turns", Wish{}, opener(t, w, "Turns", &opened))
	require.NoError(t, err)
	defer turns.Close()
	sizes := map[int]bool{}
	for len(sizes) < 2 {
		if m := read(t, turns, 1)[0]; m.Begin != nil {
			sizes[m.Begin.Width] = true
		}
	}
	assert.Equal(t, map[int]bool{320: true, 160: true}, sizes)
}

// What converts is killed from outside: it is begun again, and who looks at the stream as it comes sees nothing of it.
func TestAKilledConversion(t *testing.T) {
	w := simtest.Start(t, looks)
	var h Hub
	var opened atomic.Int32
	open := opener(t, w, "Bank", &opened)
	v, err := h.Watch("bank", Wish{}, open)
	require.NoError(t, err)
	defer v.Close()
	read(t, v, 3)
	killed := 0
	tasks, _ := filepath.Glob("/proc/self/task/*/children")
	for _, task := range tasks {
		list, _ := os.ReadFile(task)
		for _, pid := range strings.Fields(string(list)) {
			if n, _ := strconv.Atoi(pid); n > 0 && syscall.Kill(n, syscall.SIGKILL) == nil {
				killed++
			}
		}
	}
	require.Equal(t, 1, killed)
	for read(t, v, 1)[0].Begin == nil {
	}
	assert.True(t, read(t, v, 1)[0].Key, "it begins anew with a key frame")
	assert.Equal(t, int32(1), opened.Load(), "the session with the device went on")
}

// A viewer that is too slow is moved on to the next key frame, and a new generation reaches it whatever it has missed.
func TestASlowViewer(t *testing.T) {
	r := &Room{viewers: map[*Viewer]bool{}, forms: map[Form]*form{}, hub: &Hub{}}
	v, err := r.enter(Wish{})
	require.NoError(t, err)
	r.Seat(func(Wish) Form { return AsItComes })
	r.Tell(AsItComes, Message{Begin: &Begin{MIME: "a"}, Key: true})
	for n := range 3 * (maxGroup + queue) {
		r.Tell(AsItComes, Message{Data: []byte{byte(n)}, Key: n%500 == 0})
	}
	held := len(v.c)
	assert.LessOrEqual(t, held, maxGroup+queue+4)
	assert.True(t, v.waiting)
	for len(v.c) > 0 {
		<-v.c
	}
	r.Tell(AsItComes, Message{Data: []byte("p")})
	assert.Empty(t, v.c, "nothing before a key frame")
	r.Tell(AsItComes, Message{Data: []byte("k"), Key: true})
	assert.Len(t, v.c, 1)
	r.Tell(AsItComes, Message{Begin: &Begin{MIME: "b"}, Key: true})
	m := <-v.c
	assert.Equal(t, "b", m.Begin.MIME)
	assert.LessOrEqual(t, len(r.forms[AsItComes].group), maxGroup)
}

// What waits for viewers that do not read is bounded in bytes, for each and for all of them; one that reads feels nothing of it.
func TestSlowViewersHoldLittle(t *testing.T) {
	var hub Hub
	ready := make(chan *Room, 1)
	source := func(ctx context.Context, to *Room) error {
		to.Seat(func(Wish) Form { return AsItComes })
		ready <- to
		<-ctx.Done()
		return ctx.Err()
	}
	var slow []*Viewer
	before := heldByAll.Load()
	frame := make([]byte, 7<<20)
	for i := range 40 {
		v, err := hub.Watch(fmt.Sprint("camera ", i), Wish{}, source)
		require.NoError(t, err)
		slow = append(slow, v)
		room := <-ready
		room.Tell(AsItComes, Message{Begin: &Begin{MIME: "x"}, Data: []byte("init"), Key: true})
		for range 50 {
			room.Tell(AsItComes, Message{Data: frame, Key: true})
		}
		assert.LessOrEqual(t, v.held.Load(), int64(maxHeld))
	}
	assert.LessOrEqual(t, heldByAll.Load()-before, int64(maxHeldAll+40*len(frame)),
		"each may hold one frame, and together no more than the bound")
	first, err := slow[0].Next(context.Background())
	require.NoError(t, err)
	assert.NotNil(t, first.Begin, "the beginning is never left out")
	for _, v := range slow {
		v.Close()
	}
	assert.Equal(t, before, heldByAll.Load())
}
