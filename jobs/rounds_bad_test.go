package jobs_test

import (
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/watchround"
	"unlatch/jobs"
	"unlatch/sim/hostile"
)

// Something says that it is a camera while that one still answers where it was agreed on: that is told, nothing is put right, and what
// says so is sent no sign-in, not by a look and not by a person who presses the button.
func TestAnImpostorIsToldAndSentNothing(t *testing.T) {
	t.Parallel()
	w := watched(t, "127.42.88", watchround.WatchRule{Mends: []drift.Repair{drift.SetStreams, drift.PlaceAgain}})
	clock := w.ids("11")
	r := w.trap(hostile.BasicTrap(), "127.42.88.77")
	wire, err := hostile.Join(netip.MustParseAddr("127.42.88.77"))
	require.NoError(t, err)
	defer wire.Close()
	require.Eventually(t, func() bool {
		require.NoError(t, wire.Hello(w.device("11").Endpoint.String, "http://"+r.Addr+"/onvif/device_service"))
		return len(w.device("11").Status.Claims) > 0
	}, 30*time.Second, 200*time.Millisecond, "it is heard")
	w.look(true, clock...)
	require.Equal(t, []string{"Clock claimed"}, w.drifted())
	assert.Empty(t, w.episodes()[0].Repair(), "only a person can tell which is the right one")
	assert.False(t, w.episodes()[0].Cause.Acceptable())
	state, _, err := w.s.Baselines.Agreed(ctx, w.site.ID)
	require.NoError(t, err)
	_, err = w.desk.Do(ctx, w.person, act.RepairDrifts{Site: w.site.ID, Drifts: w.episodes(), Agreed: drift.Index(state)})
	assert.ErrorAs(t, err, new(*act.Refusal))
	assert.Equal(t, "127.42.88.11", w.device("11").Addr)
	assert.NotContains(t, r.Got(), "Authorization")
	gotNone(t, r, "brass-lamp-41", "desk-latch-77")

	w.do(act.DismissClaim{Site: w.site.ID, Device: clock[0], Addr: netip.MustParseAddr("127.42.88.77")})
	w.look(false, clock...)
	assert.Empty(t, w.drifted(), "a person knows of it")
}

// A database that drops all its connections again and again while a round goes on costs looks, and makes up no drifts: what has changed
// is found by the next looks.
func TestADatabaseThatGoesAwayInARound(t *testing.T) {
	t.Parallel()
	w := watchedWith(t, "127.42.89", watchround.WatchRule{}, jobs.Hooks{})
	all := w.ids("11", "12", "13", "14")
	w.trouble("firmware", "Bridge", "9.9")
	drop := func(what string) {
		// The answer may be lost with the connection that asks.
		_, _ = w.s.SQL().ExecContext(ctx, what)
		_, _ = w.s.SQL().ExecContext(ctx,
			"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()")
	}
	for range 5 {
		drop("UPDATE watched SET due = now() - interval '1 second'")
		time.Sleep(150 * time.Millisecond) // the looks that are due have begun by then
	}
	require.Eventually(t, func() bool { return w.s.SQL().PingContext(ctx) == nil }, time.Minute, 50*time.Millisecond)
	lookAgain := func(things ...uuid.UUID) {
		require.Eventually(t, func() bool {
			_, err := w.s.SQL().ExecContext(ctx, "UPDATE watched SET due = now() - interval '1 second', doubt = 0 WHERE thing = ANY($1)", things)
			return err == nil
		}, time.Minute, 100*time.Millisecond)
	}
	lookAgain(all...)
	require.Eventually(t, func() bool {
		list, err := w.s.Drifts.Open(ctx, w.site.ID)
		return err == nil && len(list) == 1 && list[0].Cause == drift.Firmware
	}, time.Minute, 100*time.Millisecond, "and nothing else")
	w.look(false, all...)
	w.lookAtTarget(false)
	assert.Equal(t, []string{"Bridge firmware"}, w.drifted())
}

// A look that a worker claims in the time in which it has no lease would be lost for a whole round, as would one that is cut short when the
// lease ends: the first is not claimed, the second is repeated.
func TestNoLookIsLostWithALease(t *testing.T) {
	t.Parallel()
	var cut atomic.Pointer[func()] // what is done at the next point of the next look
	w := watchedWith(t, "127.42.93", watchround.WatchRule{}, jobs.Hooks{Watch: func() {
		if do := cut.Swap(nil); do != nil {
			(*do)()
		}
	}})
	clock := w.ids("11")[0]
	state := func() (due, looked time.Time) {
		require.NoError(t, w.s.SQL().QueryRowContext(ctx, "SELECT due, looked_at FROM watched WHERE thing = $1", clock).Scan(&due, &looked))
		return due, looked
	}
	askNow := func() {
		_, err := w.s.SQL().ExecContext(ctx, "UPDATE watched SET due = now() - interval '1 second' WHERE thing = $1", clock)
		require.NoError(t, err)
	}
	_, before := state()
	w.workers.Lease()()
	askNow()
	time.Sleep(500 * time.Millisecond) // ten turns of the rounds
	due, looked := state()
	assert.True(t, due.Before(time.Now()) && looked.Equal(before), "nobody has claimed it")
	end := w.workers.Lease()
	require.Eventually(t, func() bool { _, looked = state(); return looked.After(before) }, time.Minute, 20*time.Millisecond)

	before = looked
	loseAndRegain := func() { end(); w.workers.Lease() }
	cut.Store(&loseAndRegain)
	askNow()
	require.Eventually(t, func() bool { _, looked = state(); return looked.After(before) }, time.Minute, 20*time.Millisecond)
	assert.Contains(t, w.log.String(), "did not come to its end", "and the first look was cut short")
}
