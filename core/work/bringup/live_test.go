package bringup

import (
	"errors"
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/linkbudget"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/rtsp"
	"unlatch/core/work/live"
	"unlatch/sim/simtest"
)

// A stream is looked at in the way in which it was proven, and counts in what the link carries for as long as somebody looks.
func TestPlay(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.83.0/24"
	world := simtest.Start(t, `
name: looked at
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Looked at, maker: corvane, model: V4, address: 127.44.83.11, scene: turntable, streams: [{width: 320, height: 180,
       fps: 5, kbps: 3000, gop: 5}], defects: {locks_after: 5}}
`)
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	d := m.heard("Looked at", world.Device("Looked at").Address(), world.Device("Looked at").Service(), sighting.Camera)
	begin := func(ranges string) *Work {
		now, err := m.Device(ctx, d.ID)
		require.NoError(t, err)
		w := m.work(now, ranges)
		w.Link = linkbudget.New(10_000)
		return w
	}
	_, err := begin(ranges).Play(ctx, "main")
	require.ErrorIs(t, err, ErrNotProven)
	require.NoError(t, m.work(d, ranges).Open(ctx))

	w := begin(ranges)
	session, err := w.Play(ctx, "main")
	require.NoError(t, err)
	assert.Equal(t, rtsp.TCP, session.Transport)
	assert.Equal(t, "digest MD5", session.Auth)
	assert.NotEqual(t, "0 of 10 Mbit/s", w.Link.String())
	session.Close()
	assert.Equal(t, "0 of 10 Mbit/s", w.Link.String())
	_, err = begin(ranges).Play(ctx, "sub")
	require.ErrorIs(t, err, ErrNotProven, "it has none")

	// What the guard does not let out is not asked for, and is said in words.
	_, err = begin("127.44.84.0/24").Play(ctx, "main")
	require.Error(t, err)
	trouble, again := NotShown(err)
	assert.False(t, again)
	assert.Contains(t, trouble.Problem, "ranges")
	// A sign-in that the device turns down is tried once and counted.
	for id := range m.secrets {
		m.secrets[id] = signin.SignIn{User: "fitter", Secret: signin.NewSecret("changed meanwhile")}
	}
	tries := len(m.tries)
	_, err = begin(ranges).Play(ctx, "main")
	trouble, again = NotShown(err)
	assert.False(t, again, "a sign-in that is refused is not tried again and again")
	assert.Contains(t, trouble.Problem, "refuses")
	assert.NotEmpty(t, trouble.Fix)
	assert.Equal(t, tries+1, len(m.tries))
	assert.Equal(t, 1, world.Device("Looked at").WrongTries())
}

func TestNotShown(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		err   error
		says  string
		again bool
	}{
		"not proven":    {fmt.Errorf("looking: %w", ErrNotProven), "not proven yet", false},
		"a codec":       {&live.UnshownError{Codec: "Theora"}, "Theora is not shown live", false},
		"conversions":   {live.ErrBusy, "converted", false},
		"viewers":       {live.ErrFull, "people look at this stream", false},
		"busy":          {&playError{&rtsp.StatusError{Status: 503}, diagnose.Facts{Host: "127.0.0.9", Asking: "the stream"}}, "503", true},
		"gone":          {&playError{errors.New("the stream ended"), diagnose.Facts{Host: "127.0.0.9", Asking: "the stream"}}, "ended", true},
		"out of bounds": {&address.OutOfScopeError{Addr: netip.MustParseAddr("127.0.0.9")}, "127.0.0.9", false},
		"weaker":        {&signin.WeakerError{Before: "digest MD5", Now: "basic"}, "Nothing was sent", false},
		"said already":  {&live.Trouble{Problem: "No picture.", Fix: "Wait."}, "No picture.", false},
	} {
		trouble, again := NotShown(x.err)
		assert.Contains(t, trouble.Problem, x.says, name)
		assert.Equal(t, x.again, again, name)
	}
}
