package jobs_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target"
	"unlatch/core/work/onvifrecorder"
)

// recorders are two by the open standard that play what they have recorded; what hangs on their own switches is recorded wrong.
const recorders = `
name: recorders
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, serial: R1, address: NET.11, scene: platform-clock, streams: [&m {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5, profile: baseline}, &s {width: 160, height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
  - {name: Stage, maker: corvane, model: V4, serial: R2, address: NET.12, scene: coal-stage, streams: [*m, *s]}
  - {name: Mixed, kind: recorder, maker: holloway, model: H8, serial: R3, address: NET.20, slots: 4, defects: {own_channels: mixed},
     channels: [&t {name: Subway, address: 10.254.4.11, scene: turntable, streams: [*m]}, {name: Shop, address: 10.254.4.12,
       scene: paint-shop, streams: [*m]}]}
  - {name: Idle, kind: recorder, maker: holloway, model: H8, serial: R4, address: NET.21, slots: 4, defects: {own_channels: idle},
     channels: [*t]}
  - {name: Keeps, kind: recorder, maker: holloway, model: H8, serial: R5, address: NET.22, slots: 4, defects: {keeps_sign_in: true}}
`

// A recorder that goes on with an old sign-in when it is given another one gets what it has of the camera anew, in the same slot.
func TestARecorderThatKeepsTheOldSignIn(t *testing.T) {
	t.Parallel()
	b := keyed(t, recorders, "127.42.49", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	keeps := b.names["22"]
	b.wait(b.open(b.ids("11", "22")))
	guard := &address.Guard{Allowed: address.MustParse("127.42.49.0/24")}
	s, err := onvifrecorder.Driver{}.Connect(ctx, target.Access{Dial: guard, Address: b.world.Device("Keeps").Service(),
		HandOver: func(context.Context, target.Handing) error { return nil },
		SignIn:   signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Place(ctx, target.Camera{Identity: b.device("11").Status.Device.Endpoint, Name: "Clock",
		Streams: []target.Stream{{Role: "main", URL: b.world.Device("Clock").URL(0)}},
		SignIn:  signin.SignIn{User: "fitter", Secret: signin.NewSecret("lamp of last year")}})
	require.NoError(t, err)

	require.NoError(t, b.s.Targets.Wish(ctx, act.InAnySlot(keeps, b.ids("11")...)))
	b.agreeForTarget(keeps)
	b.wait(b.open(b.ids("11")))
	p := b.device("11").Status.PlacementOn(keeps)
	assert.True(t, p.Confirmed, "%+v %+v", p, p.Diagnosis)
	require.Len(t, b.world.Device("Keeps").Slots(), 1, "in the slot that it had")
	assert.Contains(t, p.Note, "made anew")
}

// A recorder by the open standard takes main and sub as two sources of one recording. What it plays is its newest picture: cables that were
// changed about are told by it, and put right. What it has on its own switch counts by its word and its picture.
func TestARecorderByTheOpenStandard(t *testing.T) {
	t.Parallel()
	b := keyed(t, recorders, "127.42.48", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	mixed := b.names["20"]
	b.wait(b.open(b.ids("11", "12", "20", "21")))
	require.NoError(t, b.s.Targets.Wish(ctx, act.InAnySlot(mixed, b.ids("11", "12")...)))
	b.agreeForTarget(mixed)
	b.wait(b.open(b.ids("11", "12")))
	for _, last := range []string{"11", "12"} {
		p := b.device(last).Status.PlacementOn(mixed)
		require.NotNil(t, p)
		assert.True(t, p.Confirmed, "%s %+v", last, p)
		assert.Equal(t, "right camera", p.Match, "by what it has recorded")
		assert.Len(t, p.Gives, 2)
	}
	for _, s := range b.world.Device("Mixed").Slots() {
		assert.Equal(t, 2, s.Streams, "main and sub come: %+v", s)
	}

	b.world.Device("Mixed").Mix("slot_01", "slot_02")
	again := func(do command.Place) {
		do.Target = mixed
		b.wait(b.begin(command.Device{Place: &do}, b.ids("11")))
		b.wait(b.begin(command.Device{Place: &do}, b.ids("12")))
	}
	b.wait(b.run(command.Work{Kind: "target", Title: "look", Targets: []command.OnTarget{{Target: mixed, Do: command.Target{
		Look: &command.Look{}}}}}))
	for _, last := range []string{"11", "12"} {
		p := b.device(last).Status.PlacementOn(mixed)
		require.NotNil(t, p.Diagnosis, "%s %+v", last, p)
		assert.Equal(t, trouble.WrongPicture, p.Diagnosis.Cause, last)
	}
	again(command.Place{Again: true})
	for _, last := range []string{"11", "12"} {
		p := b.device(last).Status.PlacementOn(mixed)
		assert.True(t, p.Confirmed, "%s %+v", last, p.Diagnosis)
		assert.Equal(t, "right camera", p.Match, last)
	}

	require.Len(t, b.behind(), 3)
	b.wait(b.open(b.behind()))
	for _, id := range b.behind() {
		d, err := b.s.Devices.Get(ctx, id)
		require.NoError(t, err)
		require.Equal(t, latch.Open, d.Status.Latch(latch.Placed).State, d.Title())
		l := d.Status.Latch(latch.Confirmed)
		require.Equal(t, latch.Stuck, l.State, "%s: %+v", d.Title(), l)
		want := trouble.WrongPicture
		if *d.Via != mixed {
			want = trouble.TargetWaiting
		}
		assert.Equal(t, want, l.Diagnosis.Cause, d.Title())
	}
}
