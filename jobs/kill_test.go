package jobs_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/address"
	"unlatch/core/evidence"
	"unlatch/core/onvif"
	"unlatch/core/readdress"
	"unlatch/core/remedy"
	"unlatch/core/signin"
	"unlatch/jobs"
	"unlatch/store"
)

// mostPoints is more than any change has.
const mostPoints = 120

// Every change of a device is cut off at every point, as a kill would, and goes on by itself: the device ends as it was wanted, what was
// before is known, and undo, cut off at the same points, puts it back.
func TestAKillAtEveryPointOfEveryChange(t *testing.T) {
	jobs.OnlyChanges(t)
	jobs.CutOffs(t)
	b := keyed(t, `
name: kills
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Weir, maker: corvane, model: V4, serial: K1, address: NET.11, scene: viaduct, streams: [{width: 160, height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}], defects: {stream_closed: true, clock_offset: 3600}}
`, "127.42.30", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	b.wait(b.q.Open(ctx, b.site.ID, "open", b.ids("11"), false))
	require.NotNil(t, b.device("11").Status.SignedIn)
	watcher, err := b.s.AddSignIn(ctx, store.NewSignIn{Label: "Watcher", User: "watcher", Secret: signin.NewSecret("river-stone-91"),
		Terms: store.For(signin.Streams, b.names["11"])})
	require.NoError(t, err)
	c := onvif.New(b.world.Device("Weir").Service(), onvif.Options{Dial: &address.Guard{Allowed: address.MustParse("127.42.30.0/24")},
		SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	defer c.Close()
	require.InDelta(t, 3600, clock(t, c).Seconds(), 5, "the client has to know of it to sign in")
	for _, x := range []struct {
		action remedy.Action
		before string
		stride int         // from one point to the next: the first change is cut off at each, the others now here, now there
		is     func() bool // whether the device is as the change wants it
	}{
		{remedy.Streams, "off", 1, func() bool { on, err := remedy.StreamsOn(ctx, c); require.NoError(t, err); return on }},
		{remedy.StreamUser, "none", 3, func() bool { there, err := remedy.HasUser(ctx, c, "watcher"); require.NoError(t, err); return there }},
		{remedy.Clock, "1h0m0s", 3, func() bool { return clock(t, c).Abs() < time.Minute }},
	} {
		cut := 0
		for n := 1; n < mostPoints; n += x.stride {
			label := fmt.Sprintf("%s, cut off at point %d", x.action, n)
			require.False(t, x.is(), label)
			was := jobs.CutAt(n)
			b.wait(b.q.Remedy(ctx, b.site.ID, label, []jobs.Remedy{{Device: b.names["11"], Action: x.action, SignIn: watcher}}))
			first := was()
			require.True(t, x.is(), label)
			made := madeOn(b, x.action)
			require.NotNil(t, made, "%s: it can be taken back", label)
			if x.action != remedy.Clock { // which moves on by itself
				assert.Equal(t, x.before, made.Before, label)
			}
			assert.False(t, made.Pending, label)
			was = jobs.CutAt(n)
			b.wait(b.q.Remedy(ctx, b.site.ID, "undo of "+label, []jobs.Remedy{{Device: b.names["11"], Action: x.action, Undo: true}}))
			second := was()
			require.False(t, x.is(), "undo of %s", label)
			assert.Nil(t, madeOn(b, x.action), "undo of %s", label)
			if !first && !second {
				break
			}
			cut += x.stride
		}
		assert.Greater(t, cut, 8, "%s was cut off up to that point", x.action)
		assert.Less(t, cut, mostPoints-4)
	}
	jobs.CutAt(0)
}

func clock(t *testing.T, c *onvif.Client) time.Duration {
	off, err := c.Clock(ctx)
	require.NoError(t, err)
	return off
}

func madeOn(b *bench, a remedy.Action) *evidence.Remedy {
	for _, r := range b.device("11").Status.Remedies {
		if r.Action == a {
			return &r
		}
	}
	return nil
}

// A change of address is cut off at every point before the device has gone, and goes on; undo puts it back.
func TestAKillAtEveryPointOfAMove(t *testing.T) {
	jobs.OnlyChanges(t)
	jobs.CutOffs(t)
	b := keyed(t, lone, "127.42.31", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	b.wait(b.q.Open(ctx, b.site.ID, "open", b.ids("11"), false))
	at := func(last string) readdress.Setting {
		return readdress.Setting{Addr: address.MustParse("127.42.31." + last).Prefixes()[0].Addr(), Bits: 24}
	}
	cut := 0
	here, there := "31", "11"
	for n := 2; n < mostPoints; n += 3 { // a move takes seconds: now before something is sent, now after its answer
		here, there = there, here
		was := jobs.CutAt(n)
		b.wait(b.q.Readdress(ctx, b.site.ID, "move", []jobs.Address{{Device: b.names["11"], To: at(there)}}))
		cutOff := was()
		jobs.CutAt(0)
		d := b.device("11")
		require.Equal(t, "127.42.31."+there, d.Addr, "cut off at point %d: %+v", n, d.Status.Addressed)
		require.NotNil(t, d.Status.Addressed)
		assert.False(t, d.Status.Addressed.Pending, "point %d", n)
		assert.Nil(t, d.Status.Addressed.Diagnosis, "point %d", n)
		assert.Equal(t, "127.42.31."+here, d.Status.Addressed.Before.Addr.String(), "point %d: what undo sends", n)
		if !cutOff || n == 23 { // what follows opens the latches anew, which other tests cut off
			break
		}
		cut++
	}
	assert.GreaterOrEqual(t, cut, 7)
}

// Claiming is cut off at every point: the device has the account that stands on the keyring, and nobody is locked out.
func TestAKillAtEveryPointOfAClaim(t *testing.T) {
	jobs.OnlyChanges(t)
	jobs.CutOffs(t)
	const devices = 7
	b := keyed(t, strings.ReplaceAll(strings.ReplaceAll(lone, "address: NET.11,",
		fmt.Sprintf("address: NET.101, users: [], count: %d,", devices)), "serial: L1, ", ""), "127.42.32")
	var lasts []string
	for i := range devices {
		lasts = append(lasts, fmt.Sprint(101+i))
	}
	b.wait(b.q.Open(ctx, b.site.ID, "open", b.ids(lasts...), false))
	key, err := b.s.AddSignIn(ctx, store.NewSignIn{Label: "Its own", User: "keeper", Secret: signin.NewSecret("river-stone-91"),
		Terms: store.For("", b.ids(lasts...)...)})
	require.NoError(t, err)
	cut := 0
	for n, last := range lasts {
		at := 1 + 3*n // a claim takes seconds: now before something is sent, now after its answer
		was := jobs.CutAt(at)
		b.wait(b.q.Claim(ctx, b.site.ID, "claim", []jobs.Claim{{Device: b.names[last], SignIn: key}}))
		if was() {
			cut++
		}
		jobs.CutAt(0)
		in := b.device(last).Status.SignedIn
		require.NotNil(t, in, last)
		assert.Nil(t, in.Diagnosis, "cut off at point %d: %+v", at, in.Diagnosis)
		assert.Equal(t, key, in.SignIn, "cut off at point %d", at)
	}
	assert.Equal(t, devices, cut, "each was cut off")
}
