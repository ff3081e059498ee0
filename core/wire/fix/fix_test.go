package fix_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/fix"
	"unlatch/core/wire/onvif"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const shed = `
name: shed
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}, {name: porter, secret: oak-41, level: Operator}]
devices:
  - {name: Willing, maker: corvane, model: V4, address: 127.46.9.11, scene: platform-clock, streams: [&s {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5, profile: baseline}], defects: {clock_offset: 7200}}
  - {name: Stubborn, maker: corvane, model: V4, address: 127.46.9.12, scene: turntable, streams: [*s], defects: {keeps_streams: true}}
`

var ctx = context.Background()

func client(t *testing.T, w *sim.World, device string) *onvif.Client {
	c := onvif.New(w.Device(device).Service(), onvif.Options{Dial: &address.Guard{Allowed: address.MustParse("127.46.9.0/24")},
		Timeout: 2 * time.Second,
		SignIn:  signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	t.Cleanup(c.Close)
	_, err := c.Clock(ctx) // a sign-in has to be dated by the device's clock
	require.NoError(t, err)
	return c
}

func TestStreamService(t *testing.T) {
	w := simtest.Start(t, shed)
	c := client(t, w, "Willing")
	for _, step := range []struct{ set, before bool }{{false, true}, {false, false}, {true, false}, {true, true}} {
		before, err := fix.SetStreams(ctx, c, step.set)
		require.NoError(t, err)
		assert.Equal(t, step.before, before, "what undo needs")
		on, err := fix.StreamsOn(ctx, c)
		require.NoError(t, err)
		assert.Equal(t, step.set, on)
	}

	stubborn := client(t, w, "Stubborn")
	before, err := fix.SetStreams(ctx, stubborn, false)
	var kept *fix.NotKeptError
	require.ErrorAs(t, err, &kept, "a device's word that it has done it is not enough")
	assert.True(t, before)
	assert.Equal(t, fix.NotKeptError{What: "the stream service", Wanted: "off", Got: "on"}, *kept)
}

func TestClock(t *testing.T) {
	c := client(t, simtest.Start(t, shed), "Willing")
	before, after, err := fix.SetClock(ctx, c, 0)
	require.NoError(t, err)
	assert.InDelta(t, 7200, before.Seconds(), 5)
	assert.InDelta(t, 0, after.Seconds(), fix.Tolerance.Seconds())
	_, after, err = fix.SetClock(ctx, c, before)
	require.NoError(t, err, "undo makes it wrong again by as much")
	assert.InDelta(t, 7200, after.Seconds(), 5)
}

func TestStreamUsers(t *testing.T) {
	c := client(t, simtest.Start(t, shed), "Willing")
	there := func(user string) bool {
		yes, err := fix.HasUser(ctx, c, user)
		require.NoError(t, err)
		return yes
	}
	assert.False(t, there("watcher"))
	existed, err := fix.MakeStreamUser(ctx, c, "watcher", signin.NewSecret("heron-lamp-77"))
	require.NoError(t, err)
	assert.False(t, existed)
	assert.True(t, there("watcher"))
	users, err := c.Users(ctx)
	require.NoError(t, err)
	assert.Contains(t, users, onvif.User{Name: "watcher", Level: "User"}, "it may watch and nothing else")

	existed, err = fix.MakeStreamUser(ctx, c, "watcher", signin.NewSecret("heron-lamp-78"))
	require.NoError(t, err)
	assert.True(t, existed, "then it is given the password")

	existed, err = fix.MakeStreamUser(ctx, c, "porter", signin.NewSecret("heron-lamp-79"))
	require.NoError(t, err)
	assert.True(t, existed)
	users, err = c.Users(ctx)
	require.NoError(t, err)
	assert.Contains(t, users, onvif.User{Name: "porter", Level: "Operator"}, "its level stays as it is")

	_, err = fix.MakeStreamUser(ctx, c, "fitter", signin.NewSecret("heron-lamp-80"))
	assert.ErrorContains(t, err, "an administrator has this name", "no administrator's password is changed by the way")
	_, err = c.Info(ctx)
	require.NoError(t, err, "and it was not")

	require.NoError(t, fix.RemoveUser(ctx, c, "watcher"))
	assert.False(t, there("watcher"))
	assert.NoError(t, fix.RemoveUser(ctx, c, "watcher"), "what is gone already is no error")
}
