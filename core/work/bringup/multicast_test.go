package bringup

import (
	"context"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/sim/simtest"
)

const groups = `
name: groups
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Always, maker: corvane, model: V4, address: 127.44.78.11, scene: viaduct, streams: [
      {width: 160, height: 90, fps: 10, kbps: 200, gop: 10, multicast: {group: 239.78.1.1, port: 50100, ttl: 3, auto: true}}]}
  - {name: Asked, maker: lumenhythe, model: L5, address: 127.44.78.12, scene: turntable, streams: [
      {width: 160, height: 90, fps: 10, kbps: 200, gop: 10, codec: h265, multicast: {group: 239.78.1.2, port: 50100, ttl: 2}}]}
  - {name: Twice, maker: corvane, model: V4, address: 127.44.78.13, scene: viaduct, streams: [
      {width: 160, height: 90, fps: 10, kbps: 200, gop: 10, multicast: {group: 239.78.1.3, port: 50100, ttl: 3, auto: true,
      defect: elsewhere}}]}
  - {name: Eaten, maker: corvane, model: V4, address: 127.44.78.14, scene: viaduct, streams: [
      {width: 160, height: 90, fps: 10, kbps: 200, gop: 10, multicast: {group: 224.78.1.4, port: 50100, ttl: 3, auto: true,
      defect: silent}}]}
  - {name: Packed, maker: corvane, model: V4, address: 127.44.78.15, scene: viaduct, streams: [
      {width: 160, height: 90, fps: 10, kbps: 200, gop: 10, multicast: {group: 239.78.1.5, port: 50100, ttl: 3, auto: true, as: ts}}]}
  - {name: None, maker: corvane, model: V4, address: 127.44.78.16, scene: viaduct, streams: [{width: 160, height: 90, fps: 10,
       kbps: 200, gop: 10}]}
`

// Each way of being wrong about a group is told as such, from what arrives.
func TestGroups(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.78.0/24"
	world := simtest.Start(t, groups)
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	bring := func(name string) *latch.Device {
		d := m.heard(name, world.Device(name).Address(), world.Device(name).Service(), sighting.Camera)
		require.NoError(t, m.work(d, ranges).Open(ctx))
		return d
	}
	do := func(d *latch.Device, x command.Cast) evidence.Multicast {
		x.For = 600 * time.Millisecond
		require.NoError(t, m.work(d, ranges).Multicast(ctx, x))
		fresh, err := m.Device(ctx, d.ID)
		require.NoError(t, err)
		return fresh.Status.Multicast["main"]
	}
	causes := func(d *latch.Device, b evidence.Multicast) (out []trouble.Cause) {
		for _, f := range diagnose.Multicast(diagnose.Cast{Device: netip.MustParseAddr(d.Addr), Says: b.Says, Sends: b.Sends(),
			Bare: b.Bare, RTSP: b.RTSP, RTSPGroup: b.RTSPGroup}) {
			assert.NotEmpty(t, f.Summary)
			assert.NotEmpty(t, f.Fix)
			out = append(out, f.Cause)
		}
		return out
	}
	always := bring("Always")
	b := do(always, command.Cast{Action: evidence.CastMeasure})
	require.Nil(t, b.Diagnosis)
	s, ok := b.Bare.Of(netip.MustParseAddr(always.Addr))
	require.True(t, ok)
	assert.Equal(t, []any{"H.264 in RTP", 3}, []any{s.Kind, s.TTL})
	assert.InDelta(t, 400, s.Kbps, 380, "kbit/s")
	_, ok = b.Specific.Of(netip.MustParseAddr(always.Addr))
	assert.True(t, ok, "source-specific")
	assert.Equal(t, "239.78.1.1:50100", b.RTSPGroup.String())
	_, ok = b.RTSP.Of(netip.MustParseAddr(always.Addr))
	assert.True(t, ok)
	assert.Empty(t, causes(always, b))

	asked := bring("Asked")
	b = do(asked, command.Cast{Action: evidence.CastMeasure})
	_, ok = b.Bare.Of(netip.MustParseAddr(asked.Addr))
	assert.False(t, ok, "nobody asked")
	s, ok = b.RTSP.Of(netip.MustParseAddr(asked.Addr))
	require.True(t, ok)
	assert.Equal(t, "H.265 in RTP", s.Kind)
	assert.Empty(t, causes(asked, b))
	b = do(asked, command.Cast{Action: evidence.CastStart, Roles: []string{"main"}})
	_, ok = b.Bare.Of(netip.MustParseAddr(asked.Addr))
	assert.True(t, ok, "it was told to send")
	b = do(asked, command.Cast{Action: evidence.CastStop, Roles: []string{"main"}})
	_, ok = b.Bare.Of(netip.MustParseAddr(asked.Addr))
	assert.False(t, ok)

	for name, want := range map[string][]trouble.Cause{"Twice": {trouble.GroupDouble},
		"Eaten": {trouble.GroupSilent, trouble.GroupRTSPSilent, trouble.GroupOutside}} {
		d := bring(name)
		assert.Equal(t, want, causes(d, do(d, command.Cast{Action: evidence.CastMeasure})), name)
	}
	packed := bring("Packed")
	s, _ = do(packed, command.Cast{Action: evidence.CastMeasure}).Bare.Of(netip.MustParseAddr(packed.Addr))
	assert.Equal(t, "MPEG-TS", s.Kind)
	none := bring("None")
	b = do(none, command.Cast{Action: evidence.CastMeasure})
	assert.Equal(t, []any{"main", "no group"}, []any{b.Role, b.Says.String()})
	assert.Nil(t, b.Bare, "there is nothing to listen to")
	do(none, command.Cast{Action: evidence.CastUndo})
	assert.Contains(t, fmt.Sprint(m.said), "names no group")

	// A second camera in the group of the first: both are heard there, and the one that is measured is told of the other.
	b = do(asked, command.Cast{Action: evidence.CastSet,
		Groups: map[string]camera.GroupSetting{"main": {Addr: netip.MustParseAddr("239.78.1.1"), Port: 50100, TTL: 2}}})
	assert.Equal(t, []trouble.Cause{trouble.GroupShared}, causes(asked, b))
	assert.Equal(t, "239.78.1.2:50100, TTL 2", b.Before.String())
	b = do(asked, command.Cast{Action: evidence.CastUndo})
	assert.Equal(t, "239.78.1.2:50100, TTL 2", b.Says.String())
	assert.Nil(t, b.Before)
}

// A change of groups and its undo are cut off at every point: they go on, and what was before is known.
func TestAKillAtEveryPointOfAGroup(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.79.0/24"
	world := simtest.Start(t, `
name: group kills
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Weir, maker: corvane, model: V4, address: 127.44.79.11, scene: viaduct, streams: [
      {width: 160, height: 90, fps: 5, kbps: 100, gop: 5, multicast: {group: 239.79.1.1, port: 50100, ttl: 3}}]}
`)
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	weir := m.heard("Weir", "127.44.79.11", world.Device("Weir").Service(), sighting.Camera)
	require.NoError(t, m.work(weir, ranges).Open(ctx))
	to := camera.GroupSetting{Addr: netip.MustParseAddr("239.79.7.7"), Port: 50200, TTL: 5, Auto: true}
	now := func() evidence.Multicast {
		d, err := m.Device(ctx, weir.ID)
		require.NoError(t, err)
		return d.Status.Multicast["main"]
	}
	points := 0
	for n := 1; n < mostPoints; n++ {
		first := m.cutAt(t, n, weir.ID, ranges, func(ctx context.Context, w *Work) error {
			return w.Multicast(ctx, command.Cast{Action: evidence.CastSet, Groups: map[string]camera.GroupSetting{"main": to}})
		})
		b := now()
		require.Nil(t, b.Diagnosis)
		assert.Equal(t, to, b.Says, "cut off at point %d", n)
		require.NotNil(t, b.Before)
		assert.Equal(t, "239.79.1.1:50100, TTL 3", b.Before.String(), "cut off at point %d", n)
		assert.False(t, b.Pending)
		second := m.cutAt(t, n, weir.ID, ranges, func(ctx context.Context, w *Work) error {
			return w.Multicast(ctx, command.Cast{Action: evidence.CastUndo})
		})
		assert.Equal(t, "239.79.1.1:50100, TTL 3", now().Says.String(), "undo, cut off at point %d", n)
		if !first && !second {
			break
		}
		points++
	}
	assert.Greater(t, points, 8)
	assert.Less(t, points, mostPoints-4)
}
