package jobs_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/jobs"
	"unlatch/store/storetest"
)

const locking = `
name: locking
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Hinted, maker: lumenhythe, model: L2 Dome, serial: K1, address: NET.11, scene: viaduct, streams: [&s {width: 160,
       height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}], defects: {locks_after: 5}}
  - {name: In words, maker: corvane, model: V4, serial: K2, address: NET.12, scene: viaduct, streams: [*s],
       defects: {locks_after: 5, lock_answer: words}}
  - {name: Streams only, maker: ostrel, model: O1, address: NET.13, scene: viaduct, streams: [*s], announces: [mdns],
       defects: {locks_after: 5}}
  - {name: Storm, maker: lumenhythe, model: L2 Dome, serial: K4, address: NET.14, scene: viaduct, streams: [*s],
       defects: {locks_after: 3, lock_seconds: 60, lock_answer: refuses}, users: [{name: other, secret: nobody-knows, level: User}]}
  - {name: Drops, maker: corvane, model: V4, serial: K5, address: NET.15, scene: viaduct, streams: [*s], defects: {locks_after: 1,
       lock_seconds: 60, lock_answer: drops}, users: [{name: other, secret: nobody-knows, level: User}]}
`

// keyed returns a network that has been swept, with keys on the ring.
func keyed(t *testing.T, yard, net string, keys ...[3]string) *bench {
	return hooked(t, jobs.Hooks{}, yard, net, keys...)
}

// hooked is keyed with workers that a test has its hand in.
func hooked(t *testing.T, h jobs.Hooks, yard, net string, keys ...[3]string) *bench {
	b := setYard(t, yard, storetest.URL(t), net, 0)
	b.hooks = h
	for _, k := range keys {
		_, err := b.s.SignIns.Add(ctx, signin.New{Label: k[0], User: k[1], Secret: signin.NewSecret(k[2])})
		require.NoError(t, err)
	}
	b.work()
	b.sweep()
	return b
}

// A locked device is left alone for as long as it says, and opened by itself when that has passed.
func TestALockedDeviceIsWaitedFor(t *testing.T) {
	t.Parallel()
	b := keyed(t, locking, "127.42.16", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	ids := b.ids("11", "12", "13")
	b.agree("13")
	held := []string{"Hinted", "In words", "Streams only"}
	for _, name := range held {
		b.world.Device(name).HoldLocked(15)
	}
	b.wait(b.open(ids))
	for _, last := range []string{"11", "12", "13"} {
		l := b.device(last).Status.Latch(latch.SignedIn)
		require.Equal(t, latch.Stuck, l.State, "%s: %+v", last, l)
		require.Equal(t, trouble.Locked, l.Diagnosis.Cause, "%s: %s", last, l.Diagnosis.Summary)
		require.NotNil(t, l.Diagnosis.Until, last)
	}
	asked := b.world.Device("Hinted").Asked()
	b.wait(b.open(b.ids("11")))
	assert.LessOrEqual(t, b.world.Device("Hinted").Asked()-asked, int64(4), "only what needs no sign-in was asked")
	assert.Equal(t, trouble.Locked, b.device("11").Status.Latch(latch.SignedIn).Diagnosis.Cause)
	for _, name := range held {
		b.world.Device(name).LetGo()
	}
	for _, last := range []string{"11", "12"} {
		require.Eventually(t, func() bool { return b.device(last).Status.At() == latch.Placed }, time.Minute, 200*time.Millisecond, last)
	}
	// One that takes basic only waits for a person: what was agreed to is for work that somebody begins.
	require.Eventually(t, func() bool {
		d := b.device("13").Status.Latch(latch.SignedIn).Diagnosis
		return d != nil && d.Cause == trouble.ReadableWaits
	}, time.Minute, 200*time.Millisecond)
	b.wait(b.open(b.ids("13")))
	assert.Equal(t, latch.Placed, b.device("13").Status.At())
	assert.Zero(t, b.world.Device("Hinted").WrongTries())
}

// A lock that looks like a refusal, or like a broken line, is known by what came before it.
func TestLocksThatDoNotSaySo(t *testing.T) {
	t.Parallel()
	b := keyed(t, locking, "127.42.37", [3]string{"One", "one", "wrong-1"}, [3]string{"Two", "two", "wrong-2"},
		[3]string{"Three", "three", "wrong-3"}, [3]string{"Four", "four", "wrong-4"})
	b.wait(b.open(b.ids("14", "15")))
	storm := b.device("14").Status.Latch(latch.SignedIn).Diagnosis
	require.NotNil(t, storm)
	assert.Equal(t, trouble.HeldBack, storm.Cause)
	assert.Equal(t, signin.Budget, b.world.Device("Storm").WrongTries(), "the guard stops by itself")
	drops := b.device("15").Status.Latch(latch.SignedIn).Diagnosis
	require.NotNil(t, drops)
	assert.Equal(t, trouble.Locked, drops.Cause, drops.Summary)
	assert.Equal(t, 1, b.world.Device("Drops").WrongTries())
}

// Two people press the button for one camera at once: one after the other works on it, and each run ends with what it found.
func TestTwoWorkOnOneCamera(t *testing.T) {
	t.Parallel()
	b := keyed(t, locking, "127.42.43", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	id := b.ids("11")
	first, err := b.openAgain(id)
	require.NoError(t, err)
	second, err := b.openAgain(id)
	b.wait(second, err)
	b.wait(first, nil)
	assert.Equal(t, latch.Placed, b.device("11").Status.At())
	var turns int
	require.NoError(t, b.s.SQL().QueryRowContext(ctx, `
		SELECT count(*) FROM (SELECT lag(run_id) OVER (ORDER BY id) IS DISTINCT FROM run_id AS turn
		FROM evidence WHERE device_id = $1 AND run_id IN ($2, $3)) x WHERE turn`, id[0], first.ID, second.ID).Scan(&turns))
	assert.Equal(t, 2, turns, "neither wrote while the other worked")
	assert.Zero(t, b.world.Device("Hinted").WrongTries())
}
