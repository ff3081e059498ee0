package target_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	_ "image/jpeg"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/picturematch"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/hub"
	"unlatch/core/wire/target/live"
	"unlatch/core/wire/target/viabridge"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

var ctx = context.Background()

const room = `
name: room
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.46.40.11, scene: platform-clock, streams: [&m {width: 640, height: 360,
       fps: 10, kbps: 400, gop: 10}, &s {width: 320, height: 180, fps: 5, kbps: 100, gop: 5}]}
  - {name: Bridge, maker: corvane, model: V4, address: 127.46.40.12, scene: footbridge, streams: [{width: 640, height: 360,
       fps: 10, kbps: 400, gop: 10, audio: aac}, *s]}
  - {name: Yard, maker: corvane, model: V4, address: 127.46.40.13, scene: coal-stage, streams: [*m, *s]}
targets:
  - {name: Lamp store, kind: hybrid, maker: Holloway, address: 127.46.40.21, port: 8081, user: desk, secret: oak-door-52, slots: 4,
       analogue: 3, streams: 8554}
  - {name: Shapes, kind: templates, maker: Holloway, address: 127.46.40.22, port: 8081, user: desk, secret: oak-door-52, slots: 4}
  - {name: Desk, kind: software, maker: Overlea, address: 127.46.40.23, port: 8081, user: desk, secret: oak-door-52, slots: 4}
  - {name: Wall, kind: panel, maker: Sillwater, address: 127.46.40.24, port: 8081, user: desk, secret: oak-door-52, slots: 5, project: 2}
  - {name: Door, kind: intercom, maker: Doorstead, address: 127.46.40.25, port: 8081, user: desk, secret: oak-door-52, slots: 2,
       recorders: [127.46.40.21]}
  - {name: Live, kind: platform, maker: Beacon, address: 127.46.40.26, port: 8081, user: desk, secret: stream-key-9}
  - {name: Mute, kind: platform, maker: Beacon, address: 127.46.40.29, port: 8081, user: desk, secret: stream-key-9, mute: true}
  - {name: Hearth, kind: hub, maker: Hearthline, address: 127.46.40.27, port: 1883, user: desk, secret: oak-door-52,
       screens: [parlour, hall]}
  - {name: Open hub, kind: hub, address: 127.46.40.28, port: 1883, screens: [one]}
`

var fitter = signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}

func access(at, secret string) target.Access {
	return target.Access{Dial: &address.Guard{Allowed: address.MustParse("127.46.40.0/24")}, Address: at,
		SignIn: signin.SignIn{User: "desk",
			Secret: signin.NewSecret(secret)}, Leave: signin.Policy{Agreed: signin.InClear}.Leave, Log: exchange.NewLog(nil),
		HandOver: func(context.Context, target.Handing) error { return nil }}
}

func connect(t *testing.T, d target.Driver, a target.Access) target.Session {
	s, err := d.Connect(ctx, a)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func bridged(t *testing.T, last int) *viabridge.Session {
	return connect(t, viabridge.Driver{}, access(fmt.Sprintf("http://127.46.40.%d:8081", last), "oak-door-52")).(*viabridge.Session)
}

func camera(w *sim.World, name string, roles ...string) target.Camera {
	c := target.Camera{Identity: "urn:" + name, Name: name, Address: w.Device(name).Address(), Model: "V4", SignIn: fitter}
	for _, r := range roles {
		c.Streams = append(c.Streams, target.Stream{Role: r, URL: w.Device(name).URL(map[string]int{"main": 0, "sub": 1}[r])})
	}
	return c
}

func confirmed(t *testing.T, s target.Session, p target.Placement) {
	t.Helper()
	r, err := s.Confirm(ctx, p.Ref, 12*time.Second)
	require.NoError(t, err)
	assert.True(t, r.Arrived, "%+v", r)
}

func print(t *testing.T, s target.Picturer, p target.Placement) picturematch.Print {
	raw, err := s.Picture(ctx, p.Ref)
	require.NoError(t, err)
	img, _, err := image.Decode(bytes.NewReader(raw))
	require.NoError(t, err)
	return picturematch.Of(img)
}

// Each kind of target that speaks by a bridge takes cameras in, shows them, and says what it does not take.
func TestTargetsByBridge(t *testing.T) {
	w := simtest.Start(t, room)
	t.Run("a hybrid recorder: an analogue input is given up for a slot", func(t *testing.T) {
		s := bridged(t, 21)
		a, err := s.Place(ctx, camera(w, "Clock", "main", "sub"))
		require.NoError(t, err)
		confirmed(t, s, a)
		again, err := s.Place(ctx, camera(w, "Clock", "main", "sub"))
		require.NoError(t, err)
		assert.Equal(t, a, again, "placing twice takes one slot")
		_, err = s.Place(ctx, camera(w, "Bridge", "main", "sub"))
		var full *target.FullError
		require.ErrorAs(t, err, &full)
		assert.Equal(t, 3, full.Blocked)
		assert.Contains(t, full.Why, "analogue input")
		wish := camera(w, "Bridge", "main", "sub")
		wish.Slot = "2"
		var blocked *target.BlockedError
		_, err = s.Place(ctx, wish)
		require.ErrorAs(t, err, &blocked)
		require.NoError(t, s.Free(ctx, "2"))
		b, err := s.Place(ctx, wish)
		require.NoError(t, err)
		assert.Equal(t, "2", b.Token)
		confirmed(t, s, b)
		assert.Error(t, s.Free(ctx, "2"), "what is not blocked is not freed")

		verdict, _ := picturematch.Compare(print(t, s, a), print(t, s, b))
		assert.Equal(t, picturematch.Other, verdict)
		before := print(t, s, a)
		moved, err := s.Move(ctx, a.Ref, "2")
		require.NoError(t, err)
		assert.Equal(t, "2", moved.Token)
		layout, err := s.Slots(ctx)
		require.NoError(t, err)
		assert.Equal(t, "urn:Bridge", layout.Slots[0].Identity, "two cameras change places")
		verdict, _ = picturematch.Compare(before, print(t, s, moved))
		assert.Equal(t, picturematch.Same, verdict)
		confirmed(t, s, target.Placement{Ref: b.Ref}) // an old reference finds its camera where it is now
		require.NoError(t, s.Schedule(ctx, "2", target.Schedule{Mode: "week", Week: []target.Span{{Day: "mon", From: 8, To: 18}}}))
		layout, err = s.Slots(ctx)
		require.NoError(t, err)
		assert.Equal(t, "week", layout.Slots[1].Schedule.Mode)
		assert.Len(t, layout.Slots[1].SendsOn, 2)
		assert.Positive(t, layout.LoadKbps)

		other := camera(w, "Yard", "main", "sub")
		other.Slot = "2"
		var taken *target.TakenError
		_, err = s.Place(ctx, other)
		require.ErrorAs(t, err, &taken)
		assert.Equal(t, "Clock", taken.By)
		other.Replaces = "urn:Clock"
		y, err := s.Place(ctx, other)
		require.NoError(t, err)
		confirmed(t, s, y)
		require.NoError(t, s.Remove(ctx, y.Ref))
		require.NoError(t, s.Remove(ctx, y.Ref), "what is gone is no error")
		_, err = s.Confirm(ctx, y.Ref, 0)
		assert.ErrorAs(t, err, new(*target.GoneSlotError))
	})
	t.Run("one template serves all cameras of one shape", func(t *testing.T) {
		s := bridged(t, 22)
		for _, n := range []string{"Clock", "Bridge", "Yard"} {
			p, err := s.Place(ctx, camera(w, n, "main"))
			require.NoError(t, err)
			confirmed(t, s, p)
		}
		list := w.Bridge("Shapes").Templates()
		require.Len(t, list, 1)
		assert.NotContains(t, list[0].Path, "127.46")
		assert.ErrorAs(t, s.Order(ctx, nil), new(*target.UnableError))
	})
	t.Run("management software: two streams, the plain driver, the empty field filled, names made unique", func(t *testing.T) {
		s := bridged(t, 23)
		p, err := s.Place(ctx, camera(w, "Clock", "main", "sub"))
		require.NoError(t, err)
		confirmed(t, s, p)
		twin := camera(w, "Bridge", "main", "sub")
		twin.Name = "Clock"
		q, err := s.Place(ctx, twin)
		require.NoError(t, err)
		confirmed(t, s, q)
		layout, err := s.Slots(ctx)
		require.NoError(t, err)
		assert.Equal(t, "Clock 12", layout.Slots[1].Name)
		assert.Contains(t, layout.Slots[0].Sizes, "main 640×360")
		assert.Contains(t, layout.Slots[0].Sizes, "sub 320×180")
	})
	t.Run("a panel: its project is locked, its order is set", func(t *testing.T) {
		s := bridged(t, 24)
		a, err := s.Place(ctx, camera(w, "Clock", "sub"))
		require.NoError(t, err)
		assert.Equal(t, "3", a.Token)
		confirmed(t, s, a)
		locked := camera(w, "Bridge", "sub")
		locked.Slot = "1"
		_, err = s.Place(ctx, locked)
		assert.ErrorAs(t, err, new(*target.LockedSlotError))
		require.NoError(t, s.Order(ctx, []string{"3", "1"}))
		layout, err := s.Slots(ctx)
		require.NoError(t, err)
		assert.Equal(t, []string{"3", "1", "2"}, []string{layout.Slots[0].Token, layout.Slots[1].Token, layout.Slots[2].Token})
		shown, err := s.Show(ctx, a.Ref, "panel")
		require.NoError(t, err)
		assert.True(t, shown.Arrived)
	})
	t.Run("an intercom takes a recorder's channel and no camera", func(t *testing.T) {
		rec, s := bridged(t, 21), bridged(t, 25)
		layout, err := rec.Slots(ctx)
		require.NoError(t, err)
		var problem *bridge.Problem
		_, err = s.Place(ctx, camera(w, "Bridge", "sub"))
		require.ErrorAs(t, err, &problem)
		assert.Equal(t, "a channel of a recorder", problem.Wants)
		c := camera(w, "Bridge")
		c.Streams = []target.Stream{{Role: "sub", URL: layout.Slots[0].SendsOn[1].URL}}
		c.SignIn = signin.SignIn{User: "desk", Secret: signin.NewSecret("oak-door-52")}
		p, err := s.Place(ctx, c)
		require.NoError(t, err)
		confirmed(t, s, p)
	})
	t.Run("a live platform by way of the recorder", func(t *testing.T) {
		through := access("http://127.46.40.21:8081", "oak-door-52")
		a := access("http://127.46.40.26:8081", "stream-key-9")
		a.Through, a.Settings = &through, map[string]string{live.Ingest: "rtmp://127.46.40.26:8082/live"}
		s := connect(t, live.Driver{}, a)
		_, err := s.Place(ctx, camera(w, "Yard", "main"))
		require.ErrorAs(t, err, new(*target.ThroughError))
		p, err := s.Place(ctx, camera(w, "Bridge", "main"))
		require.NoError(t, err)
		r, err := s.Confirm(ctx, p.Ref, 15*time.Second)
		require.NoError(t, err)
		require.True(t, r.Arrived, "%+v", r)
		assert.Contains(t, r.Says, "live, since")
		about, err := s.(target.Describer).Describe(ctx)
		require.NoError(t, err)
		assert.Contains(t, about.Abilities, "sound")
		require.Eventually(t, func() bool {
			r, err = s.Confirm(ctx, p.Ref, 0)
			return err == nil && strings.Contains(r.Says, "with sound")
		}, 15*time.Second, 100*time.Millisecond, "%+v", r)
		require.NoError(t, s.Remove(ctx, p.Ref))

		silent := access("http://127.46.40.29:8081", "stream-key-9")
		silent.Through, silent.Settings = &through, map[string]string{live.Ingest: "rtmp://127.46.40.29:8082/live"}
		s = connect(t, live.Driver{}, silent)
		p, err = s.Place(ctx, camera(w, "Bridge", "main"))
		require.NoError(t, err)
		r, err = s.Confirm(ctx, p.Ref, 15*time.Second)
		require.NoError(t, err)
		assert.True(t, r.Arrived, "%+v", r)
		assert.NotContains(t, r.Says, "sound", "one that takes none gets none")
		require.NoError(t, s.Remove(ctx, p.Ref))

		wrong := access("http://127.46.40.26:8081", "stream-key-9")
		wrong.Through, wrong.Settings = &through, map[string]string{live.Ingest: "rtmp://127.46.40.26:9/live"}
		s = connect(t, live.Driver{}, wrong)
		p, err = s.Place(ctx, camera(w, "Bridge", "main"))
		require.NoError(t, err)
		r, err = s.Confirm(ctx, p.Ref, 3*time.Second)
		require.NoError(t, err)
		assert.Contains(t, r.Says, "no answer at the ingest address")
		assert.Empty(t, r.Waits, "that is no matter of time")
		require.NoError(t, s.Remove(ctx, p.Ref))
		assert.NotContains(t, a.Log.String()+wrong.Log.String()+through.Log.String(), "stream-key-9")
	})
	t.Run("a sign-in that is refused is sent once", func(t *testing.T) {
		_, err := (viabridge.Driver{}).Connect(ctx, access("http://127.46.40.23:8081", "wrong-one"))
		var refused *bridge.RefusedError
		require.ErrorAs(t, err, &refused)
		assert.True(t, refused.Tried)
	})
}

func TestAHub(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(room, "127.46.40.", "127.46.41."))
	at := func(last int, secret string) target.Access {
		a := access(fmt.Sprintf("mqtt://127.46.41.%d:1883", last), secret)
		a.Dial = &address.Guard{Allowed: address.MustParse("127.46.41.0/24")}
		return a
	}
	s := connect(t, hub.Driver{}, at(27, "oak-door-52"))
	about, err := s.(target.Describer).Describe(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"parlour", "hall"}, about.Screens)
	c := camera(w, "Clock", "main", "sub")
	c.Name = "../#/+ \"Clock\"\nhall"
	p, err := s.Place(ctx, c)
	require.NoError(t, err)
	confirmed(t, s, p)
	shown, err := s.(target.Shower).Show(ctx, p.Ref, "hall")
	require.NoError(t, err)
	assert.True(t, shown.Arrived, "%+v", shown)
	assert.Positive(t, shown.After)
	shown, err = s.(target.Shower).Show(ctx, p.Ref, "cellar")
	require.NoError(t, err)
	assert.False(t, shown.Arrived)
	require.NoError(t, s.(hub.Ruler).SetRule(ctx, p.Ref, hub.Rule{Event: "house/bell", Screen: "parlour"}))
	require.Error(t, s.(hub.Ruler).SetRule(ctx, p.Ref, hub.Rule{Event: "house/#", Screen: "parlour"}))
	require.Eventually(t, func() bool {
		w.Hub("Hearth").Publish("house/bell", []byte("1"), false)
		list := w.Hub("Hearth").Shown()
		return list[len(list)-1].Screen == "parlour"
	}, 10*time.Second, 50*time.Millisecond, "the bell shows the camera")

	// What somebody else has left on the broker spoils nothing.
	w.Hub("Hearth").Publish("unlatch/state/zz", []byte("{{{"), true)
	w.Hub("Hearth").Publish("unlatch/cameras/zz", bytes.Repeat([]byte("x"), 100_000), true)
	other := connect(t, hub.Driver{}, at(27, "oak-door-52"))
	layout, err := other.(target.Lister).Slots(ctx)
	require.NoError(t, err)
	require.Len(t, layout.Slots, 1)
	assert.Equal(t, "urn:Clock", layout.Slots[0].Identity)
	assert.NotContains(t, layout.Slots[0].Name, "\n")
	require.NoError(t, other.Remove(ctx, p.Ref))
	require.Eventually(t, func() bool {
		l, err := other.(target.Lister).Slots(ctx)
		return err == nil && len(l.Slots) == 0
	}, 10*time.Second, 50*time.Millisecond)

	_, err = (hub.Driver{}).Connect(ctx, at(27, "wrong"))
	require.ErrorAs(t, err, new(*hub.RefusedError))
	careful := at(27, "oak-door-52")
	careful.Leave = signin.Policy{}.Leave
	_, err = (hub.Driver{}).Connect(ctx, careful)
	require.ErrorAs(t, err, new(*signin.ReadableError), "a password goes out readable only where somebody has agreed")
	for _, bad := range []string{"http://127.46.41.27", "mqtt://", "mqtt://127.46.41.99:1"} {
		a := at(27, "x")
		a.Address = bad
		_, err := (hub.Driver{}).Connect(ctx, a)
		assert.Error(t, err, bad)
	}
}
