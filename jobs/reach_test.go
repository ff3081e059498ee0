package jobs_test

import (
	"context"
	"log/slog"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/jobs"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A worker takes the jobs of the sites that it reaches and of no other; what it reaches ends with its lease.
func TestAWorkerTakesTheJobsOfItsSites(t *testing.T) {
	t.Parallel()
	b := setYard(t, lone, storetest.URL(t), "127.42.40", 0)
	other, err := b.s.Sites.Create(ctx, "Far shed", address.MustParse("127.42.41.0/24"))
	require.NoError(t, err)
	log := slog.New(slog.NewTextHandler(b.log, nil))
	w, err := jobs.StartHooked(b.s, log, jobs.Hooks{}, "engine works")
	require.NoError(t, err)
	stopped := false
	t.Cleanup(func() {
		if !stopped {
			w.Stop()
		}
	})
	reached, err := b.s.Workers.Reached(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[uuid.UUID]bool{b.site.ID: true}, reached)
	b.sweep()
	require.Contains(t, b.names, "11")

	far, err := b.sweepOf(other)
	require.NoError(t, err)
	b.wait(b.open(b.ids("11"))) // a job of its own that came later is done
	waits, err := b.s.Runs.Get(ctx, far.ID)
	require.NoError(t, err)
	assert.True(t, waits.Running(), "nobody reaches the other site")

	second, err := jobs.StartHooked(b.s, log, jobs.Hooks{}, other.ID.String())
	require.NoError(t, err)
	t.Cleanup(second.Stop)
	b.wait(far, nil)

	// A site that is made while a worker of every site runs is worked on at once; one that is removed leaves no job behind.
	all, err := jobs.StartHooked(b.s, log, jobs.Hooks{})
	require.NoError(t, err)
	t.Cleanup(all.Stop)
	third, err := b.s.Sites.Create(ctx, "Third", address.MustParse("127.42.40.11/32"))
	require.NoError(t, err)
	b.wait(b.sweepOf(third))
	require.NoError(t, b.s.Sites.Delete(ctx, third.ID))
	require.NoError(t, b.q.DropSite(ctx, third.ID))

	w.Stop()
	second.Stop()
	all.Stop()
	stopped = true
	require.Eventually(t, func() bool {
		b.s.Workers.Rescue(ctx)
		reached, err = b.s.Workers.Reached(ctx)
		return err == nil && len(reached) == 0
	}, 20*time.Second, 50*time.Millisecond, "what a worker reaches ends with its lease")
	assert.ErrorIs(t, b.s.Workers.Reach(ctx, store.Lease{Worker: "worker-gone", Epoch: 1}, []uuid.UUID{b.site.ID}), store.ErrFenced)
	assert.Equal(t, latch.SignedIn, b.device("11").Status.At())
}

// Questions about a network are answered by a worker that reaches it, by way of the queue, and by nobody where there is none.
func TestAWorkerAnswersQuestions(t *testing.T) {
	t.Parallel()
	b := setYard(t, lone, storetest.URL(t), "127.42.42", 0)
	short, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	_, err := b.q.Machine(short, b.site.ID)
	require.ErrorIs(t, err, jobs.ErrNobody)
	b.work()
	cards, err := b.q.Machine(ctx, uuid.Nil)
	require.NoError(t, err)
	own, err := jobs.Here{}.Machine(ctx, uuid.Nil)
	require.NoError(t, err)
	assert.Equal(t, own, cards)
	_, err = b.q.Certificate(ctx, b.site, "127.42.42.11", []netip.AddrPort{netip.MustParseAddrPort("127.42.42.11:1")})
	assert.ErrorContains(t, err, "refused", "nothing shows a certificate there")
	leads, err := b.q.Addresses(ctx, b.site, "localhost")
	require.NoError(t, err)
	assert.Contains(t, leads, netip.MustParseAddr("127.0.0.1"))
	_, err = b.q.Addresses(ctx, b.site, "no-such-host.invalid")
	assert.ErrorContains(t, err, "no address is known")
	taken, err := b.q.Taken(ctx, b.site, []netip.Addr{netip.MustParseAddr("127.42.42.11"), netip.MustParseAddr("127.42.42.12"),
		netip.MustParseAddr("127.99.0.1")})
	require.NoError(t, err)
	require.Len(t, taken, 1, "only what is in scope is asked: %v", taken)
	assert.Contains(t, taken, netip.MustParseAddr("127.42.42.11"))
	none, err := b.q.Taken(ctx, b.site, nil)
	assert.NoError(t, err)
	assert.Empty(t, none)
	assert.False(t, strings.Contains(b.log.String(), "level=ERROR"), b.log.String())
}
