package bringup

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/fix"
	"unlatch/core/wire/onvif"
	"unlatch/sim/simtest"
)

// mostPoints is more than any change has.
const mostPoints = 120

// cutAt does work on a device and cuts it off at its nth point, as a kill would: before each thing that is sent, after each answer, and
// before and after each record. It reports whether the work came so far. Then it does it again, as the queue would.
func (m *memory) cutAt(t *testing.T, n int, id uuid.UUID, ranges string, do func(context.Context, *Work) error) (cut bool) {
	t.Helper()
	m.run(id)
	left := n
	once := func(watch func()) (cut bool) {
		ctx, end := context.WithCancel(ctx) // what goes on beside the work ends with it, as with the process that is killed
		defer end()
		d, err := m.Device(ctx, id)
		require.NoError(t, err)
		w := Start(d, Config{Record: m, Keyring: m, Report: m, Clock: m, OnlyChange: true, Watch: watch,
			Guard: &address.Guard{Allowed: address.MustParse(ranges)}})
		defer w.Close()
		defer func() {
			if p := recover(); p != nil {
				require.Equal(t, "cut off here", p)
				cut = true
			}
		}()
		require.NoError(t, do(ctx, w))
		return false
	}
	cut = once(func() {
		if left--; left == 0 {
			panic("cut off here")
		}
	})
	if cut {
		once(nil)
	}
	return cut
}

// Every change of a device is cut off at every point: it goes on, the device ends as it was wanted, what was before is known, and undo, cut
// off at the same points, puts it back.
func TestAKillAtEveryPointOfEveryChange(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.64.0/24"
	world := simtest.Start(t, `
name: kills
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Weir, maker: corvane, model: V4, serial: K1, address: 127.44.64.11, scene: viaduct,
     streams: [{width: 160, height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}], defects: {stream_closed: true, clock_offset: 3600}}
`)
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	weir := m.heard("Weir", "127.44.64.11", world.Device("Weir").Service(), sighting.Camera)
	require.NoError(t, m.work(weir, ranges).Open(ctx))
	watcher := m.key("Watcher", "watcher", "river-stone-91")
	c := onvif.New(world.Device("Weir").Service(), onvif.Options{Dial: &address.Guard{Allowed: address.MustParse(ranges)},
		SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	defer c.Close()
	off := func() time.Duration {
		off, err := c.Clock(ctx)
		require.NoError(t, err)
		return off
	}
	require.InDelta(t, 3600, off().Seconds(), 5, "the client has to know of it to sign in")
	yes := func(ok bool, err error) bool { require.NoError(t, err); return ok }
	for _, x := range []struct {
		action evidence.FixAction
		before string
		is     func() bool // whether the device is as the change wants it
	}{
		{evidence.FixStreams, "off", func() bool { return yes(fix.StreamsOn(ctx, c)) }},
		{evidence.FixStreamUser, "none", func() bool { return yes(fix.HasUser(ctx, c, "watcher")) }},
		{evidence.FixClock, "1h0m0s", func() bool { return off().Abs() < time.Minute }},
	} {
		points := 0
		for n := 1; n < mostPoints; n++ {
			label := fmt.Sprintf("%s, cut off at point %d", x.action, n)
			require.False(t, x.is(), label)
			first := m.cutAt(t, n, weir.ID, ranges, func(ctx context.Context, w *Work) error {
				return w.Fix(ctx, command.Fix{Action: x.action, SignIn: watcher.ID})
			})
			require.True(t, x.is(), label)
			d, _ := m.Device(ctx, weir.ID)
			require.Len(t, d.Status.Fixes, 1, "%s: it can be taken back", label)
			made := d.Status.Fixes[0]
			if x.action != evidence.FixClock { // which moves on by itself
				assert.Equal(t, x.before, made.Before, label)
			}
			assert.False(t, made.Pending, label)
			second := m.cutAt(t, n, weir.ID, ranges, func(ctx context.Context,
				w *Work) error {
				return w.Fix(ctx, command.Fix{Action: x.action, Undo: true})
			})
			require.False(t, x.is(), "undo of %s", label)
			d, _ = m.Device(ctx, weir.ID)
			assert.Empty(t, d.Status.Fixes, "undo of %s", label)
			if !first && !second {
				break
			}
			points++
		}
		assert.Greater(t, points, 8, "%s was cut off up to that point", x.action)
		assert.Less(t, points, mostPoints-4)
	}
	assert.NotContains(t, strings.Join(m.said, "\n"), "that it could take back", "an undo that went through is not told as failed")
}

// A change of address is cut off at every point before the device has gone, and goes on; what undo sends is known.
func TestAKillAtEveryPointOfAMove(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.65.0/24"
	world := simtest.Start(t, strings.ReplaceAll(yard, "127.44.60.", "127.44.65."))
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	clock := m.heard("Clock", "127.44.65.11", world.Device("Clock").Service(), sighting.Camera)
	clock.Endpoint = world.Device("Clock").Endpoint() // by it the device is known again
	require.NoError(t, m.work(clock, ranges).Open(ctx))
	m.sight = func(x sighting.Sighting) {
		require.NoError(t, m.Add(ctx, clock, Finding{Subject: "ws-discovery", Body: evidence.Heard(x)}))
	}
	here, there := "31", "11"
	points := 0
	for n := 1; n < mostPoints; n++ {
		here, there = there, here
		to := camera.Network{Addr: netip.MustParseAddr("127.44.65." + there), Bits: 24}
		cut := m.cutAt(t, n, clock.ID, ranges, func(ctx context.Context, w *Work) error {
			moved, err := w.SetAddress(ctx, to)
			assert.True(t, moved || err != nil, "point %d", n)
			return err
		})
		d, _ := m.Device(ctx, clock.ID)
		require.Equal(t, "127.44.65."+there, d.Addr, "cut off at point %d: %+v", n, d.Status.Addressed.Diagnosis)
		require.NotNil(t, d.Status.Addressed)
		assert.False(t, d.Status.Addressed.Pending, "point %d", n)
		assert.Nil(t, d.Status.Addressed.Diagnosis, "point %d", n)
		assert.Equal(t, "127.44.65."+here, d.Status.Addressed.Before.Addr.String(), "point %d: what undo sends", n)
		if !cut {
			break
		}
		points++
	}
	assert.GreaterOrEqual(t, points, 20)
	assert.Less(t, points, mostPoints-4)
}

// Claiming is cut off at every point: the device has the account that stands on the keyring, and nobody is locked out.
func TestAKillAtEveryPointOfAClaim(t *testing.T) {
	t.Parallel()
	const ranges, devices = "127.44.66.0/24", 90
	world := simtest.Start(t, strings.ReplaceAll(strings.ReplaceAll(yard, "127.44.60.11,", "127.44.66.101, users: [], count: 90,"),
		"127.44.60.", "127.44.66."))
	m := newMemory(t)
	key := m.key("Its own", "keeper", "river-stone-91")
	_, port, err := net.SplitHostPort(world.Device("Clock 001").Web())
	require.NoError(t, err)
	for i := range devices {
		addr := fmt.Sprintf("127.44.66.%d", 101+i)
		service := fmt.Sprintf("http://%s:%s/onvif/device_service", addr, port)
		fresh := m.heard(fmt.Sprint("Fresh ", i), addr, service, sighting.Camera)
		require.NoError(t, m.work(fresh, ranges).Open(ctx))
		at := 1 + i
		cut := m.cutAt(t, at, fresh.ID, ranges, func(ctx context.Context, w *Work) error { return w.Claim(ctx, key.ID) })
		d, _ := m.Device(ctx, fresh.ID)
		require.NotNil(t, d.Status.SignedIn)
		assert.Nil(t, d.Status.SignedIn.Diagnosis, "cut off at point %d: %+v", at, d.Status.SignedIn.Diagnosis)
		assert.Equal(t, key.ID, d.Status.SignedIn.SignIn, "cut off at point %d", at)
		if !cut {
			assert.Greater(t, at, 8)
			return
		}
	}
	t.Fatal("there are more points than devices")
}
