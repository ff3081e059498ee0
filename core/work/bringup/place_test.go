package bringup

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/sighting"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/byhand"
	"unlatch/core/wire/target/hub"
	"unlatch/core/wire/target/viabridge"
	"unlatch/core/work/onvifrecorder"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const twoViews = `
name: views
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.44.90.11, scene: platform-clock, streams: [&m {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5}]}
  - {name: Yard, maker: corvane, model: V4, address: 127.44.90.12, scene: coal-stage, streams: [*m]}
targets:
  - {name: Vault, kind: hybrid, address: 127.44.90.21, port: 8081, user: desk, secret: oak-door-52, slots: 4, streams: 9554}
  - {name: Door, kind: intercom, address: 127.44.90.22, port: 8081, user: desk, secret: oak-door-52, slots: 2, recorders: [127.44.90.21]}
  - {name: Say, kind: directory, address: 127.44.90.23, port: 8081, user: desk, secret: oak-door-52, slots: 2}
`

// views is two proven cameras and their pictures, with targets that stand by themselves.
type views struct {
	m           *memory
	w           *sim.World
	clock, yard *latch.Device
	desk        Key
}

func newViews(t *testing.T) *views {
	v := &views{m: newMemory(t), w: simtest.Start(t, twoViews)}
	v.m.key("Fitter", "fitter", "brass-lamp-41")
	v.desk = v.m.key("Desk", "desk", "oak-door-52")
	v.m.keys = v.m.keys[:1] // a target's sign-in is tried on no device
	v.m.stills = map[uuid.UUID][]byte{}
	for _, name := range []string{"Clock", "Yard"} {
		d := v.m.heard(name, v.w.Device(name).Address(), v.w.Device(name).Service(), sighting.Camera)
		require.NoError(t, v.work(d).Open(ctx))
		if name == "Clock" {
			v.clock = d
		} else {
			v.yard = d
		}
	}
	return v
}

func (v *views) work(d *latch.Device) *Work {
	fresh, err := v.m.Device(ctx, d.ID)
	require.NoError(v.m.t, err)
	w := Start(fresh, Config{Record: v.m, Keyring: v.m, Report: v.m, Clock: v.m,
		Targets: map[target.Kind]target.Driver{onvifrecorder.Kind: onvifrecorder.Driver{}, viabridge.Kind: viabridge.Driver{},
			hub.Kind: hub.Driver{}, byhand.Kind: byhand.Driver{}},
		Guard: &address.Guard{Allowed: address.MustParse("127.44.90.0/24")}})
	v.m.t.Cleanup(w.Close)
	return w
}

// target adds one, wanted for devices.
func (v *views) target(name, at string, key uuid.UUID, how latch.Target, on ...*latch.Device) *Target {
	t := &Target{ID: uuid.New(), Kind: viabridge.Kind, Name: name, Address: at, SignIn: key, Trust: agreed()}
	v.m.targets[t.ID] = t
	how.ID, how.Kind, how.Name = t.ID, t.Kind, name
	for _, d := range on {
		in := v.m.intents[d.ID]
		in.Targets = append(in.Targets, how)
		v.m.intents[d.ID] = in
	}
	return t
}

func (v *views) placement(d *latch.Device, on uuid.UUID) latch.Placement {
	fresh, err := v.m.Device(ctx, d.ID)
	require.NoError(v.m.t, err)
	for _, p := range fresh.Status.Placements {
		if p.Target == on {
			return p
		}
	}
	v.m.t.Fatal("it is not wanted there")
	return latch.Placement{}
}

// A slot that shows another camera is found by its picture, named, and put right; what is sent on from there reaches a target that takes
// channels alone.
func TestPicturesOnTargets(t *testing.T) {
	v := newViews(t)
	vault := v.target("Vault", "http://127.44.90.21:8081", v.desk.ID, latch.Target{}, v.clock, v.yard)
	for _, d := range []*latch.Device{v.clock, v.yard} {
		require.NoError(t, v.work(d).PlaceOn(ctx, command.Place{Target: vault.ID}))
		p := v.placement(d, vault.ID)
		require.True(t, p.Confirmed, "%+v", p.Diagnosis)
		assert.Empty(t, p.Match, "there is no picture of its own to compare with")
		var err error
		for _, s := range v.w.Bridge("Vault").Look().Slots {
			if s.Entry != nil && s.Entry.Key == d.Endpoint {
				w := v.work(d)
				c, cerr := targetDoor{w}.connect(ctx, vault.ID)
				require.NoError(t, cerr)
				v.m.stills[d.ID], err = c.session.(target.Picturer).Picture(ctx, target.Ref(p.Ref))
				require.NoError(t, err)
			}
		}
		require.NoError(t, v.work(d).Confirm(ctx, vault.ID))
		assert.Equal(t, "right camera", v.placement(d, vault.ID).Match)
	}
	v.w.Bridge("Vault").Mix("1", "2")
	require.NoError(t, v.work(v.clock).Confirm(ctx, vault.ID))
	p := v.placement(v.clock, vault.ID)
	require.NotNil(t, p.Diagnosis)
	assert.Equal(t, trouble.WrongPicture, p.Diagnosis.Cause)
	assert.Equal(t, "Slot 1 of Vault shows Yard, and not Clock.", p.Diagnosis.Summary)
	fresh, err := v.m.Device(ctx, v.clock.ID)
	require.NoError(t, err)
	assert.Equal(t, "place_again", fresh.Status.Next().Action)
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: vault.ID, Again: true}))
	p = v.placement(v.clock, vault.ID)
	assert.True(t, p.Confirmed, "%+v", p.Diagnosis)

	door := v.target("Door", "http://127.44.90.22:8081", v.desk.ID, latch.Target{Through: true}, v.clock)
	before := v.placement(v.clock, door.ID)
	require.NotEmpty(t, before.Gives)
	assert.True(t, strings.HasPrefix(before.Gives[0].URL, "rtsp://127.44.90.21:9554/out/1/"), before.Gives[0].URL)
	assert.Equal(t, "the sign-in of Vault", before.Whose)
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: door.ID}))
	// The stand-in takes sub streams only, and says so; this camera has none.
	assert.Equal(t, trouble.Misfit, v.placement(v.clock, door.ID).Diagnosis.Cause)
	assert.Contains(t, v.placement(v.clock, door.ID).Diagnosis.Summary, "it wants sub")

	// One takes the other's slot, which is recorded of both.
	require.NoError(t, v.work(v.yard).PlaceOn(ctx, command.Place{Target: vault.ID, Replaces: v.clock.ID}))
	assert.Empty(t, v.placement(v.clock, vault.ID).Slot)
	require.NoError(t, v.work(v.yard).Move(ctx, vault.ID, "3"))
	assert.Equal(t, "slot 3", v.placement(v.yard, vault.ID).Slot)
	require.NoError(t, v.work(v.yard).Remove(ctx, vault.ID))
	assert.Empty(t, v.placement(v.yard, vault.ID).Slot)
}

// A target that refuses its sign-in hears it once, until a person says otherwise; a readable one goes out only where somebody agreed; what
// does not fit is told before anything is sent, and holds up no other target.
func TestWhatATargetIsNotSent(t *testing.T) {
	v := newViews(t)
	wrong := v.m.key("Wrong", "desk", "another")
	v.m.keys = v.m.keys[:1]
	shut := v.target("Vault", "http://127.44.90.21:8081", wrong.ID, latch.Target{}, v.clock)
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: shut.ID}))
	assert.Equal(t, trouble.WrongSignIn, v.placement(v.clock, shut.ID).Diagnosis.Cause)
	refusals := 0
	for _, s := range v.m.seen {
		if s.Refused == wrong.ID {
			refusals++
		}
	}
	assert.Equal(t, 1, refusals)
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: shut.ID}))
	assert.Contains(t, v.placement(v.clock, shut.ID).Diagnosis.Summary, "has refused its sign-in before")

	say := v.target("Say", "http://127.44.90.23:8081", v.desk.ID, latch.Target{}, v.clock)
	say.Trust = target.Trust{}
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: say.ID}))
	assert.Equal(t, trouble.Readable, v.placement(v.clock, say.ID).Diagnosis.Cause)
	say.Trust = agreed()
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: say.ID}))
	assert.True(t, v.placement(v.clock, say.ID).Confirmed)

	small := intake.Intake{Name: "small", MaxSize: tuning.Size{Width: 160, Height: 90}}
	tiny := v.target("Tiny", "http://127.44.90.99:1", v.desk.ID, latch.Target{Intake: &small}, v.clock)
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: tiny.ID}))
	assert.Equal(t, trouble.IntakeUnmet, v.placement(v.clock, tiny.ID).Diagnosis.Cause)

	list := v.target("List", "", uuid.Nil, latch.Target{}, v.clock)
	list.Kind = byhand.Kind
	in := v.m.intents[v.clock.ID]
	in.Targets[len(in.Targets)-1].Kind = byhand.Kind
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: list.ID}))
	p := v.placement(v.clock, list.ID)
	assert.Equal(t, "the text", p.Slot)
	assert.False(t, p.Confirmed, "only a person can say it")
	for _, r := range v.m.records[v.clock.ID] {
		assert.NotContains(t, string(r.Body), "oak-door-52")
	}
}

// What a target says of itself is kept, and so is why it does not; what is about no single camera is done and read back.
func TestLookingAtATarget(t *testing.T) {
	v := newViews(t)
	vault := v.target("Vault", "http://127.44.90.21:8081", v.desk.ID, latch.Target{})
	at := func() *Work {
		return Start(&latch.Device{ID: uuid.New(), Title: "Vault", Addr: "127.44.90.21"}, v.work(v.clock).Config)
	}
	require.NoError(t, at().LookAt(ctx, vault.ID))
	seen := v.m.seen[len(v.m.seen)-1]
	require.NotNil(t, seen.About)
	assert.Equal(t, "Vault", seen.About.Name)
	assert.Len(t, seen.Layout.Slots, 4)
	assert.NotContains(t, seen.Exchange, "oak-door-52")
	require.NoError(t, at().ChangeTarget(ctx, vault.ID, command.TargetChange{Slot: "1", Schedule: &target.Schedule{Mode: "motion"}}))
	seen = v.m.seen[len(v.m.seen)-1]
	assert.Equal(t, "motion", seen.Layout.Slots[0].Schedule.Mode)
	assert.ErrorContains(t, at().ChangeTarget(ctx, vault.ID, command.TargetChange{Order: []string{"1"}}), "cannot do this")
	vault.Address = "http://127.44.90.98:1"
	short, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	require.NoError(t, at().LookAt(short, vault.ID))
	seen = v.m.seen[len(v.m.seen)-1]
	require.NotNil(t, seen.Diagnosis)
	assert.Equal(t, trouble.PortClosed, seen.Diagnosis.Cause)
	vault.Address = "http://127.0.0.9:1"
	require.NoError(t, at().LookAt(short, vault.ID))
	assert.Equal(t, trouble.OutOfScope, v.m.seen[len(v.m.seen)-1].Diagnosis.Cause)
}
