package onvifrecorder_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/rtsp"
	"unlatch/core/wire/target"
	"unlatch/core/work/onvifrecorder"
	"unlatch/core/work/prove"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const stores = `
name: stores
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.46.12.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5, profile: baseline}]}
  - {name: Strongroom, kind: recorder, maker: holloway, model: H8, address: 127.46.12.20, slots: 3}
  - {name: Picky, kind: recorder, maker: holloway, model: H8, address: 127.46.12.21, slots: 3, defects: {plain_sign_ins: true}}
`

var ctx = context.Background()

// agreed is a recorder to which cameras' sign-ins may go.
var agreed = target.Access{HandOver: func(context.Context, target.Handing) error { return nil }}

func client(t *testing.T, service string, log *exchange.Log) *onvif.Client {
	c := onvif.New(service, onvif.Options{Dial: &address.Guard{Allowed: address.MustParse("127.46.12.0/24")}, Log: log,
		Timeout: 2 * time.Second,
		SignIn:  signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	t.Cleanup(c.Close)
	return c
}

// A placement is cut off at every byte sent and every answer. Doing it again gives one slot, one receiver and one job, and the picture.
func TestAPlacementThatWasCutOffIsFinished(t *testing.T) {
	w := simtest.Start(t, stores)
	service := w.Device("Strongroom").Service()
	c := client(t, service, nil)
	rec := onvifrecorder.New(c, agreed)
	clock := target.Camera{Identity: "urn:clock", Name: "Clock", Address: "127.46.12.11",
		Streams: []target.Stream{{Role: "main", URL: w.Device("Clock").URL(0)}}, SignIn: signin.SignIn{User: "fitter",
			Secret: signin.NewSecret("brass-lamp-41")}}
	place := func(n int) (cut bool) {
		log, left := exchange.NewLog(nil), n
		log.Watch(func() {
			if left--; left == 0 {
				panic("cut off here")
			}
		})
		defer func() { cut = recover() != nil }()
		_, err := onvifrecorder.New(client(t, service, log), agreed).Place(ctx, clock)
		require.NoError(t, err)
		return false
	}
	points := 0
	for n := 1; place(n); n++ {
		p, err := rec.Place(ctx, clock)
		require.NoError(t, err, "after point %d", n)
		layout, err := rec.Slots(ctx)
		require.NoError(t, err)
		assert.Equal(t, 1, layout.Count(target.Used), "after point %d", n)
		receivers, err := c.Receivers(ctx)
		require.NoError(t, err)
		assert.Len(t, receivers, 1, "after point %d no receiver is left that pulls for nothing", n)
		if n == 1 {
			report, err := rec.Confirm(ctx, p.Ref, 10*time.Second)
			require.NoError(t, err)
			assert.True(t, report.Arrived, "%+v", report)
		}
		require.NoError(t, rec.Remove(ctx, p.Ref))
		require.NoError(t, rec.Remove(ctx, p.Ref), "what is gone already is no error")
		points++
		require.Less(t, points, 100)
	}
	assert.Greater(t, points, 8)
}

// A URL that is turned down leaves nothing behind, and what is likely wrong with it is told.
func TestAURLThatIsTurnedDown(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(stores, "127.46.12.", "127.46.13."))
	c := onvif.New(w.Device("Picky").Service(), onvif.Options{Dial: &address.Guard{Allowed: address.MustParse("127.46.13.0/24")},
		Timeout: 2 * time.Second,
		SignIn:  signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	defer c.Close()
	rec := onvifrecorder.New(c, agreed)
	_, err := rec.Place(ctx, target.Camera{Identity: "urn:clock", Name: "Clock",
		Streams: []target.Stream{{Role: "main", URL: "rtsp://127.46.13.11/vista"}},
		SignIn:  signin.SignIn{User: "fitter", Secret: signin.NewSecret("p@ss")}})
	var unfit *diagnose.UnfitSignInError
	require.ErrorAs(t, err, &unfit)
	assert.True(t, unfit.Encoded)
	assert.NotContains(t, err.Error(), "p%40ss")
	layout, err := rec.Slots(ctx)
	require.NoError(t, err)
	assert.Zero(t, layout.Count(target.Used), "no slot is left taken by nothing")
	receivers, err := c.Receivers(ctx)
	require.NoError(t, err)
	assert.Empty(t, receivers)
}

// What another driver wrote, or an older one, is an error and not a wrong slot.
func TestAReferenceThatCannotBeRead(t *testing.T) {
	rec := onvifrecorder.New(client(t, "http://127.46.12.99/", nil), agreed)
	_, err := rec.Confirm(ctx, "slot_01", 0)
	assert.ErrorContains(t, err, "cannot be read")
	assert.ErrorContains(t, rec.Remove(ctx, ""), "cannot be read")
}

// started returns a world of stand-ins on a network of its own, with devices besides, and what connects to its recorders.
func started(t *testing.T, network, more string) (*sim.World, func(name string) target.Session,
	func(name, secret string, streams ...int) target.Camera) {
	w := simtest.Start(t, strings.ReplaceAll(stores+more, "127.46.12.", network+"."))
	guard := &address.Guard{Allowed: address.MustParse(network + ".0/24")}
	fitter := signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}
	session := func(name string) target.Session {
		s, err := onvifrecorder.Driver{}.Connect(ctx, target.Access{Dial: guard, Address: w.Device(name).Service(), SignIn: fitter,
			HandOver: agreed.HandOver, InScope: guard.Allowed.Contains})
		require.NoError(t, err)
		t.Cleanup(s.Close)
		return s
	}
	camera := func(name, secret string, streams ...int) target.Camera {
		c := target.Camera{Identity: "urn:" + name, Name: name, SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret(secret)}}
		for _, n := range streams {
			c.Streams = append(c.Streams, target.Stream{Role: []string{"main", "sub"}[n], URL: w.Device(name).URL(n)})
		}
		return c
	}
	return w, session, camera
}

const playing = `
  - {name: Yard, maker: corvane, model: V4, address: 127.46.12.12, scene: coal-stage, streams: [&y {width: 320, height: 180, fps: 10,
       kbps: 200, gop: 5, profile: baseline}, {width: 160, height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
  - {name: Playing, kind: recorder, maker: holloway, model: H8, address: 127.46.12.22, slots: 2, channels: [&o {name: Own,
       address: 10.254.9.11, scene: turntable, streams: [*y]}]}
  - {name: Strict, kind: recorder, maker: holloway, model: H8, address: 127.46.12.23, slots: 2, channels: [*o], defects: {replay: refuses}}
  - {name: Oldest, kind: recorder, maker: holloway, model: H8, address: 127.46.12.24, slots: 2, channels: [*o], defects: {replay: oldest}}
  - {name: Untold, kind: recorder, maker: holloway, model: H8, address: 127.46.12.25, slots: 2, channels: [*o], defects: {replay: unknown,
       clock_offset: -7200}}
  - {name: Idle, kind: recorder, maker: holloway, model: H8, address: 127.46.12.26, slots: 2, channels: [*o], defects: {own_channels: idle}}
  - {name: Keeps, kind: recorder, maker: holloway, model: H8, address: 127.46.12.27, slots: 2, defects: {keeps_sign_in: true}}
  - {name: Narrow, kind: recorder, maker: holloway, model: H8, address: 127.46.12.28, slots: 2, defects: {one_track: true}}
`

// What a recorder has recorded is asked for as the standard wants: its newest picture comes, also from one that refuses other questions and
// from one that does not say how new that is. Asked otherwise, a recorder plays its oldest picture, which is told by its time.
func TestWhatARecorderPlays(t *testing.T) {
	_, session, camera := started(t, "127.46.14", playing)
	guard := &address.Guard{Allowed: address.MustParse("127.46.14.0/24")}
	clock := camera("Clock", "brass-lamp-41", 0)
	play := func(r *target.Replay, as *rtsp.Replay) proof.Proof {
		u, err := streamurl.Parse(r.URL)
		require.NoError(t, err)
		return (&prove.Prover{Dial: guard}).Prove(ctx, prove.Request{URL: u, SignIn: clock.SignIn, Measure: time.Second, Replay: as})
	}
	for _, name := range []string{"Playing", "Strict", "Untold", "Oldest"} {
		s := session(name)
		p, err := s.Place(ctx, clock)
		require.NoError(t, err, name)
		r, err := s.Confirm(ctx, p.Ref, 20*time.Second)
		require.NoError(t, err, name)
		require.True(t, r.Arrived, "%s: %+v", name, r)
		from, err := s.(target.Replayer).Replay(ctx, p.Ref)
		require.NoError(t, err, name)
		require.NotNil(t, from, name)
		got := play(from, &rtsp.Replay{From: from.From})
		require.True(t, got.OK, "%s: %+v", name, got.Diagnosis)
		assert.Equal(t, 320, got.Video.Width, name)
		require.NotNil(t, got.Video.Recorded, name)
		if name == "Untold" { // its clock is two hours late
			assert.Greater(t, time.Since(*got.Video.Recorded), time.Hour)
		}
		assert.Equal(t, name == "Oldest", from.From.Sub(*got.Video.Recorded) > 30*time.Minute, name)
		if name == "Strict" {
			live := play(from, nil)
			assert.False(t, live.OK, "one that does not ask for a recording is refused")
		}
	}
	mute := session("Strongroom")
	p, err := mute.Place(ctx, clock)
	require.NoError(t, err)
	from, err := mute.(target.Replayer).Replay(ctx, p.Ref)
	require.NoError(t, err)
	assert.Nil(t, from, "one without a replay service plays nothing")
}

// Main and sub are two sources of one recording where it takes both; cut off anywhere and done again there are two receivers and no more.
func TestMainAndSubAreTwoSourcesOfOneRecording(t *testing.T) {
	w, session, camera := started(t, "127.46.15", playing)
	both := camera("Yard", "brass-lamp-41", 0, 1)
	about, err := session("Playing").(target.Describer).Describe(ctx)
	require.NoError(t, err)
	assert.True(t, about.Both)
	p, err := session("Playing").Place(ctx, both)
	require.NoError(t, err)
	r, err := session("Playing").Confirm(ctx, p.Ref, 20*time.Second)
	require.NoError(t, err)
	assert.True(t, r.Arrived, "%+v", r)
	require.Len(t, w.Device("Playing").Slots(), 1)
	assert.Equal(t, 2, w.Device("Playing").Slots()[0].Streams)
	one, err := session("Playing").Place(ctx, camera("Yard", "brass-lamp-41", 0))
	require.NoError(t, err)
	assert.Equal(t, p.Token, one.Token)
	receivers := func() int {
		c := onvif.New(w.Device("Playing").Service(), onvif.Options{Dial: &address.Guard{Allowed: address.MustParse("127.46.15.0/24")},
			SignIn: both.SignIn, Timeout: 2 * time.Second})
		defer c.Close()
		list, err := c.Receivers(ctx)
		require.NoError(t, err)
		return len(list)
	}
	assert.Equal(t, 1, receivers(), "the receiver of the sub stream does not go on pulling for nothing")
	require.NoError(t, session("Playing").Remove(ctx, one.Ref))

	narrow := session("Narrow")
	about, err = narrow.(target.Describer).Describe(ctx)
	require.NoError(t, err)
	assert.False(t, about.Both)

	points := 0
	for cut := true; cut; points++ {
		require.Less(t, points, 200)
		log, left := exchange.NewLog(nil), points+1
		log.Watch(func() {
			if left--; left == 0 {
				panic("cut off here")
			}
		})
		func() {
			defer func() { cut = recover() != nil }()
			s, err := onvifrecorder.Driver{}.Connect(ctx, target.Access{Dial: &address.Guard{Allowed: address.MustParse("127.46.15.0/24")},
				Address: w.Device("Playing").Service(), SignIn: both.SignIn, HandOver: agreed.HandOver, Log: log})
			require.NoError(t, err)
			defer s.Close()
			again := both
			again.Anew = true
			_, err = s.Place(ctx, again)
			require.NoError(t, err)
		}()
		p, err = session("Playing").Place(ctx, both)
		require.NoError(t, err, "after point %d", points)
		assert.Equal(t, 2, receivers(), "after point %d", points)
		if points%7 == 0 { // begun from nothing, and from what is there already
			require.NoError(t, session("Playing").Remove(ctx, p.Ref))
		}
	}
	assert.Greater(t, points, 15)
}

// A receiver that goes on with the old sign-in is told by its report, and made anew.
func TestAKeptOldSignInIsTold(t *testing.T) {
	w, session, camera := started(t, "127.46.16", playing)
	s := session("Keeps")
	_, err := s.Place(ctx, camera("Clock", "lamp of last year", 0))
	require.NoError(t, err)
	p, err := s.Place(ctx, camera("Clock", "brass-lamp-41", 0))
	require.NoError(t, err)
	r, err := s.Confirm(ctx, p.Ref, 3*time.Second)
	require.NoError(t, err)
	assert.False(t, r.Arrived)
	assert.True(t, r.Unchanged, "%+v", r)
	anew := camera("Clock", "brass-lamp-41", 0)
	anew.Anew = true
	p, err = s.Place(ctx, anew)
	require.NoError(t, err)
	r, err = s.Confirm(ctx, p.Ref, 20*time.Second)
	require.NoError(t, err)
	assert.True(t, r.Arrived, "%+v", r)
	assert.False(t, r.Unchanged)
	assert.Len(t, w.Device("Keeps").Slots(), 1, "in the slot that it had")
}

// What a recorder has on its own switch counts by its word and its recording.
func TestItsOwnChannels(t *testing.T) {
	_, session, _ := started(t, "127.46.17", playing)
	for name, arrived := range map[string]bool{"Playing": true, "Idle": false} {
		s := session(name)
		p, err := s.(target.Owner).Own(ctx, 1)
		require.NoError(t, err, name)
		require.NotNil(t, p, name)
		r, err := s.Confirm(ctx, p.Ref, 0)
		require.NoError(t, err, name)
		assert.Equal(t, arrived, r.Arrived, "%s: %+v", name, r)
		none, err := s.(target.Owner).Own(ctx, 2)
		require.NoError(t, err, name)
		assert.Nil(t, none, name)
	}
}
