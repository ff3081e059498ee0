package bringup

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/recipe"
	"unlatch/core/stream/sighting"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const pages = `
name: pages
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Weir, maker: corvane, model: V4, serial: P1, address: 127.44.70.11, scene: viaduct, streams: [&cast {width: 160, height: 90,
       fps: 5, kbps: 100, gop: 5, profile: baseline, multicast: {group: 239.44.70.11, port: 50000, ttl: 1, auto: true}}]}
  - {name: Lamp, maker: lumenhythe, model: L2, serial: P2, address: 127.44.70.12, scene: viaduct, streams: [&s {width: 160, height: 90,
       fps: 5, kbps: 100, gop: 5, profile: baseline}], setup: {veil: "true"}}
  - {name: Gate, maker: brackwell, model: B5, serial: P3, address: 127.44.70.13, scene: viaduct, streams: [*s], setup: {Service: "Off"}}
  - {name: Desk, maker: ostrel, model: O1, serial: P4, address: 127.44.70.14, scene: viaduct, streams: [*s], setup: {plate: 320x180}}
  - {name: Bell, maker: doorstead, model: Call, serial: P5, address: 127.44.70.15, scene: viaduct, streams: [*s], defects: {page: nothing}}
  - {name: Liar, maker: corvane, model: V4, serial: P6, address: 127.44.70.16, scene: viaduct, streams: [*s], setup: {veil: "1"},
     defects: {page: lies}}
  - {name: Vault, kind: recorder, maker: holloway, model: Eight, serial: P7, address: 127.44.70.17}
`

// shippedCommand returns a command that comes with the product, with its partners.
func shippedCommand(t *testing.T, name string) command.Send {
	for _, b := range recipe.Shipped() {
		if c := recipe.CommandNamed(b.Commands, name); c != nil {
			return command.Send{Command: *c, Partners: c.Partners(b.Commands)}
		}
	}
	t.Fatalf("no command is named %q", name)
	return command.Send{}
}

// sends returns work that sends a command.
func sends(x command.Send) func(context.Context, *Work) error {
	return func(ctx context.Context, w *Work) error { return w.Send(ctx, x) }
}

// yardOf starts the stand-ins of a scenario on a network of their own, and returns how each is heard.
func pagesOn(t *testing.T, network string) (*memory, *sim.World, func(name string) *latch.Device) {
	world := simtest.Start(t, strings.NewReplacer("127.44.70", "127."+network, "239.44.70", "239."+network).Replace(pages))
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	return m, world, func(name string) *latch.Device {
		look := world.Device(name)
		d := m.heard(name, look.Address(), look.Service(), sighting.Camera)
		x := sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(), Addr: netip.MustParseAddr(look.Address()), Kind: sighting.Camera,
			XAddr: look.Service(), Maker: map[string]string{"Weir": "Corvane", "Liar": "Corvane", "Lamp": "Lumenhythe", "Gate": "Brackwell",
				"Desk": "Ostrel", "Bell": "Doorstead", "Vault": "Holloway"}[name]}
		require.NoError(t, m.Add(ctx, d, Finding{Subject: "ws-discovery", Body: evidence.Heard(x)}))
		return d
	}
}

// Every command of the makers' pages is cut off at every point: it goes on, what was before is known, and undo puts that back. Two ways
// that must not run together never do.
func TestAKillAtEveryPointOfEveryCommand(t *testing.T) {
	t.Parallel()
	m, world, heard := pagesOn(t, "44.85")
	m.takes = 25 * time.Millisecond // the one that restarts takes its time in truth
	const ranges = "127.44.85.0/24"
	for _, x := range []struct {
		device, command, value, to string
		before, after              map[string]string // of the device's own page
		most                       int
	}{
		{"Weir", "Sign-in of the streams", "method", "both", map[string]string{"signing": "digest"}, map[string]string{"signing": "both"}, 0},
		{"Weir", "Second multicast way", "way", "on", map[string]string{"first": "1", "second": "0"},
			map[string]string{"first": "0", "second": "1"}, 0},
		{"Lamp", "Encryption of the streams, Lumenhythe", "encryption", "off", map[string]string{"veil": "true"},
			map[string]string{"veil": "false"}, 0},
		{"Gate", "Device service", "service", "on", map[string]string{"Service": "Off"}, map[string]string{"Service": "On"}, 0},
		{"Vault", "Beep", "beep", "no", map[string]string{"beep": "yes"}, map[string]string{"beep": "no"}, 0},
		{"Desk", "Size of the pictures", "size", "640x360", map[string]string{"plate": "320x180"}, map[string]string{"plate": "640x360"}, 12},
	} {
		d := heard(x.device)
		m.intents[d.ID] = latch.Intent{Agreed: func(string) (time.Time, signin.Agreement) { return time.Now(), signin.InClear }}
		send := shippedCommand(t, x.command)
		send.Values = map[string]string{x.value: x.to}
		is := func() map[string]string {
			all := world.Device(x.device).Setup()
			maps.DeleteFunc(all, func(name, _ string) bool { _, asked := x.before[name]; return !asked })
			return all
		}
		points := 0
		for n := 1; n < mostPoints && (x.most == 0 || n < x.most); n++ {
			label := fmt.Sprintf("%s, cut off at point %d", x.command, n)
			require.Equal(t, x.before, is(), label)
			first := m.cutAt(t, n, d.ID, ranges, sends(send))
			require.Equal(t, x.after, is(), label)
			now, _ := m.Device(ctx, d.ID)
			require.Len(t, now.Status.Commanded, 1, label)
			made := now.Status.Commanded[0]
			assert.False(t, made.Pending, label)
			assert.Nil(t, made.Diagnosis, "%s: %+v", label, made.Diagnosis)
			assert.NotEqual(t, x.to, made.Before[x.value], label)
			second := m.cutAt(t, n, d.ID, ranges, sends(command.Send{Command: send.Command, Undo: true}))
			require.Equal(t, x.before, is(), "undo of %s", label)
			now, _ = m.Device(ctx, d.ID)
			assert.Empty(t, now.Status.Commanded, "undo of %s", label)
			if !first && !second {
				break
			}
			points++
		}
		assert.Greater(t, points, 8, x.command)
		assert.Less(t, points, mostPoints-4, x.command)
	}
	assert.False(t, world.Device("Weir").BothWays(), "one way is switched off before the other is switched on, both there and back")
	assert.NotContains(t, strings.Join(m.said, "\n"), "that it could take back", "an undo that went through is not told as failed")
	assert.NotContains(t, strings.Join(m.exchanges, "\n"), "brass-lamp-41")
}

// What a device says of itself is not believed: what it does not do is told, and so is what stands in the way.
func TestWhatACommandDoesNotDo(t *testing.T) {
	t.Parallel()
	m, world, heard := pagesOn(t, "44.86")
	send := func(d *latch.Device, x command.Send) *evidence.Commanded {
		now, err := m.Device(ctx, d.ID)
		require.NoError(t, err)
		w := m.work(now, "127.44.86.0/24")
		w.OnlyChange = true
		require.NoError(t, w.Send(ctx, x))
		for _, r := range slices.Backward(m.records[d.ID]) {
			if r.Kind == evidence.KindCommanded {
				b, err := evidence.Decode[evidence.Commanded](r)
				require.NoError(t, err)
				return &b
			}
		}
		return nil
	}
	with := func(name string, values map[string]string) command.Send {
		x := shippedCommand(t, name)
		x.Values = values
		return x
	}
	bell := send(heard("Bell"), with("Chime", map[string]string{"chime": "soft"}))
	require.NotNil(t, bell.Diagnosis)
	assert.Equal(t, trouble.NotKept, bell.Diagnosis.Cause, "it says OK and does nothing")
	assert.Equal(t, []string{"bright", "bright"}, []string{bell.Before["chime"], bell.After["chime"]})

	weir := heard("Weir")
	alone := with("Second multicast way", map[string]string{"way": "on"})
	alone.Command.NotWith = slices.Clone(alone.Command.NotWith)
	alone.Command.NotWith[0].Set = nil
	left := send(weir, alone)
	require.NotNil(t, left.Diagnosis)
	assert.Equal(t, trouble.CommandExcluded, left.Diagnosis.Cause)
	assert.Equal(t, "0", world.Device("Weir").Setup()["second"], "nothing was sent")

	wrongCase := with("Device service", map[string]string{"service": "on"})
	wrongCase.Command.Values = slices.Clone(wrongCase.Command.Values)
	wrongCase.Command.Values[0].SentAs = nil
	gate := send(heard("Gate"), wrongCase)
	require.NotNil(t, gate.Diagnosis)
	assert.Equal(t, trouble.CommandUnread, gate.Diagnosis.Cause, "it reads Off, which could not be put back as off")

	other := with("Sign-in of the streams", map[string]string{"method": "digest; basic"})
	bad := send(weir, other)
	require.NotNil(t, bad.Diagnosis)
	assert.Equal(t, trouble.CommandRefused, bad.Diagnosis.Cause)

	// A page that lies has its picture as witness: what is encrypted stays stuck.
	liar := heard("Liar")
	require.NoError(t, m.work(liar, "127.44.86.0/24").Open(ctx))
	before, _ := m.Device(ctx, liar.ID)
	require.Equal(t, latch.Stuck, before.Status.Latch(latch.Proven).State)
	w := m.work(before, "127.44.86.0/24")
	require.NoError(t, w.Send(ctx, with("Encryption of the streams", map[string]string{"encryption": "off"})))
	after, _ := m.Device(ctx, liar.ID)
	require.Len(t, after.Status.Commanded, 1)
	assert.Equal(t, "off", after.Status.Commanded[0].After["encryption"])
	assert.Equal(t, latch.Stuck, after.Status.Latch(latch.Proven).State, "it shows that it is off, and goes on encrypting")
}

// A command goes to the device's own web side and to nobody else, whatever its page answers.
func TestACommandStaysOnTheDevice(t *testing.T) {
	t.Parallel()
	got := 0
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { got++ }))
	defer elsewhere.Close()
	m, _, heard := pagesOn(t, "44.87")
	d := heard("Weir")
	x := shippedCommand(t, "Sign-in of the streams")
	x.Values = map[string]string{"method": "basic"}
	for _, path := range []string{"//127.0.0.1:1/x", elsewhere.URL, "/a b", "x"} {
		_, err := recipe.ReadBook([]byte(fmt.Sprintf("name: a\ncommands:\n  - {name: a, does: b, maker: c, values: [{name: v, from: 1, to: 2}], "+
			"set: [{path: %q, form: {v: '{v}'}}], read: {path: /r, find: [{value: v, json: /v}]}}\n", path)))
		assert.Error(t, err, path)
	}
	now, err := m.Device(ctx, d.ID)
	require.NoError(t, err)
	w := m.work(now, "127.44.99.0/24") // the site's ranges are others
	w.OnlyChange = true
	require.NoError(t, w.Send(ctx, x))
	assert.Zero(t, got)
	assert.Contains(t, strings.Join(m.said, "\n"), "127.44.87.11")
}
