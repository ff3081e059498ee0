package bringup

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/sighting"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/onvif"
	"unlatch/sim/simtest"
)

const encoders = `
name: encoders
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Plain, maker: corvane, model: V4, address: 127.44.71.11, scene: turntable, streams: [&m {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10}, &s {width: 160, height: 90, fps: 5, kbps: 80, gop: 5}]}
  - {name: Clamps, maker: corvane, model: V4, address: 127.44.71.12, scene: turntable, streams: [*m, *s], defects: {encoder: clamps}}
  - {name: Leaves, maker: corvane, model: V4, address: 127.44.71.14, scene: turntable, streams: [*m, *s],
       defects: {encoder: restarts, restart_seconds: 3600}}
  - {name: Refuses, maker: corvane, model: V4, address: 127.44.71.13, scene: turntable, streams: [*m, *s], defects: {encoder: refuses}}
`

func planOf(t *testing.T, role, text string) command.Tune {
	p, err := tuning.ParsePlan(map[string]string{role: text})
	require.NoError(t, err)
	return command.Tune{Plan: p}
}

// Streams are set, proven anew, and the latch tells by what was measured; undo puts them back.
func TestTuning(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.71.0/24"
	world := simtest.Start(t, encoders)
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	open := func(name, addr string) *latch.Device {
		d := m.heard(name, addr, world.Device(name).Service(), sighting.Camera)
		require.NoError(t, m.work(d, ranges).Open(ctx))
		now, err := m.Device(ctx, d.ID)
		require.NoError(t, err)
		require.Equal(t, latch.Waived, now.Status.Latch(latch.Tuned).State)
		return now
	}
	tune := func(d *latch.Device, what command.Tune) *latch.Device {
		require.NoError(t, m.work(d, ranges).Tune(ctx, what))
		now, err := m.Device(ctx, d.ID)
		require.NoError(t, err)
		return now
	}
	plain := open("Plain", "127.44.71.11")
	now := tune(plain, planOf(t, "main", "640x360,5fps,gop10"))
	l := now.Status.Latch(latch.Tuned)
	require.Equal(t, latch.Open, l.State, "%+v", l)
	assert.Equal(t, []int{640, 160}, []int{now.Status.Proofs["main"].Video.Width, now.Status.Proofs["sub"].Video.Width}, "proven anew")
	require.NotNil(t, now.Status.Tuning)
	assert.Equal(t, 320, now.Status.Tuning.Before["main"].Width)
	again := tune(now, planOf(t, "main", "10fps"))
	assert.Equal(t, 320, again.Status.Tuning.Before["main"].Width, "undo goes back to before the first change")
	back := tune(again, command.Tune{Undo: true})
	assert.Equal(t, latch.Waived, back.Status.Latch(latch.Tuned).State)
	assert.Nil(t, back.Status.Tuning)
	assert.Equal(t, 320, back.Status.Proofs["main"].Video.Width)
	assert.InDelta(t, 10, back.Status.Proofs["main"].Video.FPS, .5)
	require.NoError(t, m.work(back, ranges).Tune(ctx, command.Tune{Undo: true}))
	assert.Contains(t, m.said[len(m.said)-1], "has set no stream", "there is nothing more to put back")

	clamps := tune(open("Clamps", "127.44.71.12"), planOf(t, "main", "25fps"))
	l = clamps.Status.Latch(latch.Tuned)
	require.Equal(t, latch.Stuck, l.State)
	assert.Equal(t, trouble.NotTuned, l.Diagnosis.Cause)
	assert.Contains(t, l.Diagnosis.Seen, "was set to 25 and reads back as 10")
	assert.Equal(t, "undo_tuning", clamps.Status.Next().Action)
	leaves := tune(open("Leaves", "127.44.71.14"), planOf(t, "main", "160x90"))
	require.NotNil(t, leaves.Status.Tuning)
	assert.Equal(t, 320, leaves.Status.Tuning.Before["main"].Width, "how it was set is known")
	require.Eventually(t, func() bool { // it leaves while it is set, or right after, and never comes back
		require.NoError(t, m.work(leaves, ranges).ProveAgain(ctx))
		now, err := m.Device(ctx, leaves.ID)
		require.NoError(t, err)
		return now.Status.Latch(now.Status.At()).State == latch.Stuck
	}, 30*time.Second, 100*time.Millisecond)
	refuses := tune(open("Refuses", "127.44.71.13"), planOf(t, "sub", "320x180"))
	l = refuses.Status.Latch(latch.Tuned)
	require.Equal(t, latch.Stuck, l.State)
	assert.Contains(t, l.Diagnosis.Summary, "The parameters are not valid")
}

// A tuning is cut off at every point, and so is its undo: what was before is known, and the device ends as it was wanted.
func TestAKillAtEveryPointOfATuning(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.72.0/24"
	world := simtest.Start(t, `
name: kills
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Weir, maker: corvane, model: V4, serial: K3, address: 127.44.72.11, scene: viaduct, streams: [{width: 160, height: 90,
       fps: 5, kbps: 100, gop: 5}]}
`)
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	weir := m.heard("Weir", "127.44.72.11", world.Device("Weir").Service(), sighting.Camera)
	require.NoError(t, m.work(weir, ranges).Open(ctx))
	c := onvif.New(world.Device("Weir").Service(), onvif.Options{Dial: &address.Guard{Allowed: address.MustParse(ranges)},
		SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	defer c.Close()
	width := func() int {
		list, err := c.Encoders(ctx)
		require.NoError(t, err)
		return list[0].Width
	}
	points := 0
	for n := 1; n < mostPoints; n++ {
		label := fmt.Sprintf("cut off at point %d", n)
		require.Equal(t, 160, width(), label)
		first := m.cutAt(t, n, weir.ID, ranges, func(ctx context.Context, w *Work) error { return w.Tune(ctx, planOf(t, "main", "320x180")) })
		require.Equal(t, 320, width(), label)
		d, _ := m.Device(ctx, weir.ID)
		require.NotNil(t, d.Status.Tuning, "%s: it can be taken back", label)
		assert.Equal(t, 160, d.Status.Tuning.Before["main"].Width, label)
		assert.False(t, d.Status.Tuning.Pending, label)
		second := m.cutAt(t, n, weir.ID, ranges, func(ctx context.Context, w *Work) error { return w.Tune(ctx, command.Tune{Undo: true}) })
		require.Equal(t, 160, width(), "undo, %s", label)
		d, _ = m.Device(ctx, weir.ID)
		assert.Nil(t, d.Status.Tuning, "undo, %s", label)
		if !first && !second {
			break
		}
		points++
	}
	assert.Greater(t, points, 8)
	assert.Less(t, points, mostPoints-4)
}

// So is one that makes a stream and draws a text: there is never a second one of either, and undo leaves none.
func TestAKillAtEveryPointOfMakingAStream(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.73.0/24"
	world := simtest.Start(t, `
name: kills
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Weir, maker: corvane, model: V4, serial: K4, address: 127.44.73.11, scene: viaduct, texts: 1, streams: [{width: 160,
       height: 90, fps: 5, kbps: 100, gop: 5}, {width: 160, height: 90, fps: 5, kbps: 80, gop: 5, spare: true}]}
`)
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	weir := m.heard("Weir", "127.44.73.11", world.Device("Weir").Service(), sighting.Camera)
	require.NoError(t, m.work(weir, ranges).Open(ctx))
	c := onvif.New(world.Device("Weir").Service(), onvif.Options{Dial: &address.Guard{Allowed: address.MustParse(ranges)},
		SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	defer c.Close()
	state := func() string {
		list, err := c.Encoders(ctx)
		require.NoError(t, err)
		text := ""
		for _, e := range list {
			text += fmt.Sprintf("%dx%d ", e.Width, e.Height)
		}
		return text + strings.Join(world.Device("Weir").Texts(), " ")
	}
	plan, err := tuning.ParsePlan(map[string]string{"sub": "h264,320x180,5fps", "overlay": "name"})
	require.NoError(t, err)
	points := 0
	for n := 1; n < mostPoints; n++ {
		label := fmt.Sprintf("cut off at point %d", n)
		require.Equal(t, "160x90 ", state(), label)
		first := m.cutAt(t, n, weir.ID, ranges, func(ctx context.Context, w *Work) error { return w.Tune(ctx, command.Tune{Plan: plan}) })
		require.Equal(t, "160x90 320x180 Plain Weir", state(), label)
		d, _ := m.Device(ctx, weir.ID)
		require.NotNil(t, d.Status.Tuning, "%s: it can be taken back", label)
		assert.Equal(t, []string{"Unlatch sub"}, d.Status.Tuning.Made, label)
		second := m.cutAt(t, n, weir.ID, ranges, func(ctx context.Context, w *Work) error { return w.Tune(ctx, command.Tune{Undo: true}) })
		require.Equal(t, "160x90 ", state(), "undo, %s", label)
		if !first && !second {
			break
		}
		points++
	}
	assert.Greater(t, points, 12)
	assert.Less(t, points, mostPoints-4)
}

// A setting that somebody changes later on the device itself is found when its streams are played again.
func TestDriftIsFoundWhenItIsPlayedAgain(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.75.0/24"
	world := simtest.Start(t, `
name: drift
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Yard, maker: corvane, model: V4, address: 127.44.75.11, scene: turntable, streams: [{width: 160, height: 90, fps: 5,
       kbps: 100, gop: 5}]}
`)
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	yard := m.heard("Yard", "127.44.75.11", world.Device("Yard").Service(), sighting.Camera)
	require.NoError(t, m.work(yard, ranges).Open(ctx))
	require.NoError(t, m.work(yard, ranges).Tune(ctx, planOf(t, "main", "320x180")))
	state := func() *latch.Latch {
		d, err := m.Device(ctx, yard.ID)
		require.NoError(t, err)
		return d.Status.Latch(latch.Tuned)
	}
	require.Equal(t, latch.Open, state().State)
	c := onvif.New(world.Device("Yard").Service(), onvif.Options{Dial: &address.Guard{Allowed: address.MustParse(ranges)},
		SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	defer c.Close()
	list, err := c.Encoders(ctx)
	require.NoError(t, err)
	e := list[0].Encoder
	e.Width, e.Height = 640, 360
	require.NoError(t, c.SetEncoder(ctx, e))
	require.NoError(t, m.work(yard, ranges).ProveAgain(ctx))
	l := state()
	assert.Equal(t, latch.Stale, l.State)
	assert.Contains(t, l.Reason, "the size of the main stream was 320x180, and is 640x360")
}
