package onvifrecorder_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/target"
	"unlatch/core/work/onvifrecorder"
	"unlatch/core/work/prove"
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

// A recorder that plays what it records says where, and what comes is the camera's own picture.
func TestWhatARecorderPlays(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(stores, "127.46.12.", "127.46.14.")+
		"  - {name: Playing, kind: recorder, maker: holloway, model: H8, address: 127.46.14.22, channels: [{name: Own, address: "+
		"10.254.9.11, scene: coal-stage, "+
		"streams: [{width: 320, height: 180, fps: 10, kbps: 200, gop: 5}]}]}\n")
	guard := &address.Guard{Allowed: address.MustParse("127.46.14.0/24")}
	fitter := signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}
	session := func(name string) target.Session {
		s, err := onvifrecorder.Driver{}.Connect(ctx, target.Access{Dial: guard, Address: w.Device(name).Service(), SignIn: fitter,
			HandOver: agreed.HandOver,
			InScope:  guard.Allowed.Contains})
		require.NoError(t, err)
		t.Cleanup(s.Close)
		return s
	}
	clock := target.Camera{Identity: "urn:clock", Name: "Clock",
		Streams: []target.Stream{{Role: "main", URL: w.Device("Clock").URL(0)}}, SignIn: fitter}
	s := session("Playing")
	p, err := s.Place(ctx, clock)
	require.NoError(t, err)
	r, err := s.Confirm(ctx, p.Ref, 10*time.Second)
	require.NoError(t, err)
	require.True(t, r.Arrived)
	list, err := s.(target.Sender).SendsOn(ctx, p.Ref)
	require.NoError(t, err)
	require.Len(t, list, 1)
	u, err := streamurl.Parse(list[0].URL)
	require.NoError(t, err)
	proof := (&prove.Prover{Dial: guard}).Prove(ctx, prove.Request{URL: u, SignIn: fitter, Measure: time.Second})
	require.True(t, proof.OK, "%+v", proof.Diagnosis)
	assert.Equal(t, 320, proof.Video.Width)

	mute := session("Strongroom")
	p, err = mute.Place(ctx, clock)
	require.NoError(t, err)
	list, err = mute.(target.Sender).SendsOn(ctx, p.Ref)
	require.NoError(t, err)
	assert.Empty(t, list, "one without a replay service sends nothing on")
}
