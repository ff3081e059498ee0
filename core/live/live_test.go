package live

import (
	"context"
	"errors"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/address"
	"unlatch/core/player"
	"unlatch/core/rtsp"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const looks = `
name: looks
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.44.95.11, scene: platform-clock, streams: [{width: 320, height: 180, fps: 10, kbps: 200, gop: 10}]}
  - {name: Hut, maker: corvane, model: V1, address: 127.44.95.12, scene: coal-stage, streams: [{width: 320, height: 180, fps: 5, kbps: 900, codec: jpeg}]}
  - {name: Bank, maker: lumenhythe, model: L5, address: 127.44.95.13, scene: viaduct, streams: [{width: 320, height: 180, fps: 5, kbps: 200, gop: 5, codec: h265}]}
`

func opener(t *testing.T, w *sim.World, name string, opened *atomic.Int32) Open {
	u, err := streamurl.Parse(w.Device(name).URL(0))
	require.NoError(t, err)
	return func(ctx context.Context) (*player.Session, error) {
		opened.Add(1)
		return player.Open(ctx, player.Request{Dial: &address.Guard{Allowed: address.MustParse("127.44.95.0/24")}, URL: u, Transport: rtsp.TCP,
			SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	}
}

func read(t *testing.T, v *Viewer, n int) (out []Message) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	for range n {
		m, err := v.Next(ctx)
		require.NoError(t, err)
		out = append(out, m)
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
	first, err := h.Watch("clock", open)
	require.NoError(t, err)
	list := read(t, first, 12)
	require.NotNil(t, list[0].Begin)
	assert.Equal(t, []any{"H.264", 320, 180}, []any{list[0].Begin.Codec, list[0].Begin.Width, list[0].Begin.Height})
	assert.True(t, strings.HasPrefix(list[0].Begin.MIME, `video/mp4; codecs="avc1.`))
	assert.True(t, list[1].Key, "a viewer begins with a key frame")

	later, err := h.Watch("clock", open)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Millisecond)
	defer cancel()
	m, err := later.Next(ctx)
	require.NoError(t, err, "the next viewer begins at once")
	require.NotNil(t, m.Begin)
	var idle []*Viewer
	for range maxViewers - 2 {
		v, err := h.Watch("clock", open)
		require.NoError(t, err)
		idle = append(idle, v)
	}
	_, err = h.Watch("clock", open)
	assert.ErrorIs(t, err, ErrFull)
	read(t, first, 15)
	assert.Equal(t, int32(1), opened.Load())
	assert.Equal(t, 1, h.Streams())
	for _, v := range append(idle, first, later) {
		v.Close()
	}
	assert.Eventually(t, func() bool { return h.Streams() == 0 }, 10*time.Second, 20*time.Millisecond)
	again, err := h.Watch("clock", open)
	require.NoError(t, err)
	read(t, again, 2)
	again.Close()
	assert.Equal(t, int32(2), opened.Load())
}

func TestOtherCodecs(t *testing.T) {
	w := simtest.Start(t, looks)
	var h Hub
	var opened atomic.Int32
	v, err := h.Watch("hut", opener(t, w, "Hut", &opened))
	require.NoError(t, err)
	list := read(t, v, 3)
	assert.Equal(t, "image/jpeg", list[0].Begin.MIME)
	assert.Equal(t, []byte{0xff, 0xd8}, list[1].Data[:2])
	assert.NotEqual(t, list[1].Data, list[2].Data, "it moves")
	v.Close()
	v, err = h.Watch("bank", opener(t, w, "Bank", &opened))
	require.NoError(t, err)
	list = read(t, v, 4)
	require.NotNil(t, list[0].Begin)
	assert.Equal(t, []any{"H.264", "H.265"}, []any{list[0].Begin.Codec, list[0].Begin.Converted})
	assert.True(t, strings.HasPrefix(list[0].Begin.MIME, "video/mp4"))
	assert.True(t, list[1].Key)
	v.Close()
	assert.Eventually(t, func() bool { return len(converting) == 0 && h.Streams() == 0 }, 10*time.Second, 20*time.Millisecond, "what converts it ends with it")
	for range mostConverted {
		converting <- struct{}{}
	}
	v, err = h.Watch("bank", opener(t, w, "Bank", &opened))
	require.NoError(t, err)
	_, err = v.Next(context.Background())
	assert.ErrorIs(t, err, ErrBusy)
	for range mostConverted {
		<-converting
	}
	v, err = h.Watch("gone", func(context.Context) (*player.Session, error) { return nil, errors.New("no way there") })
	require.NoError(t, err)
	_, err = v.Next(context.Background())
	assert.ErrorContains(t, err, "no way there")
}

// A viewer that is too slow is moved on to the next key frame, and a new generation reaches it whatever it has missed.
func TestASlowViewer(t *testing.T) {
	r := &room{viewers: map[*Viewer]bool{}, hub: &Hub{}}
	v, err := r.enter()
	require.NoError(t, err)
	r.tell(Message{Begin: &Begin{MIME: "a"}, Key: true})
	for n := range 3 * (maxGroup + queue) {
		r.tell(Message{Data: []byte{byte(n)}, Key: n%500 == 0})
	}
	held := len(v.c)
	assert.LessOrEqual(t, held, maxGroup+queue+2)
	assert.True(t, v.waiting)
	for len(v.c) > 0 {
		<-v.c
	}
	r.tell(Message{Data: []byte("p")})
	assert.Empty(t, v.c, "nothing before a key frame")
	r.tell(Message{Data: []byte("k"), Key: true})
	assert.Len(t, v.c, 1)
	r.tell(Message{Begin: &Begin{MIME: "b"}, Key: true})
	m := <-v.c
	assert.Equal(t, "b", m.Begin.MIME)
	assert.LessOrEqual(t, len(r.group), maxGroup)
}
