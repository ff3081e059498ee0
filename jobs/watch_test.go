package jobs_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/store"
	"unlatch/store/storetest"
)

// Nobody sweeps: a camera that is plugged in shows up with its ports, one that changes its address by lease is followed, and one that says
// goodbye is marked.
func TestWatchingShowsWhoComesAndGoes(t *testing.T) {
	t.Parallel()
	wire := strings.ReplaceAll(yard, "address: NET.16,", "address: NET.16, lease: NET.16, next_lease: NET.76, lease_seconds: 3600,")
	b := setYard(t, wire, storetest.URL(t), "127.42.11", 4)
	b.work()
	at := func(addr string) *store.Device {
		for _, d := range b.devices() {
			if d.Addr == addr {
				return &d
			}
		}
		return nil
	}
	// A device announces itself once each time that it comes up, and the listening begins when the worker comes to it.
	until := func(comesUp func(), shown func() bool, what string) {
		t.Helper()
		tick := 0
		require.Eventually(t, func() bool {
			if shown() {
				return true
			}
			if tick++; tick%50 == 1 {
				comesUp()
			}
			return false
		}, 2*time.Minute, 100*time.Millisecond, what)
	}
	until(func() { b.world.Restart("Clock") }, func() bool { d := at("127.42.11.11"); return d != nil && len(d.Status.Device.Ports) > 0 },
		"the newcomer, and what its ports say")
	until(func() { b.world.Release("Paint") }, func() bool { return at("127.42.11.76") != nil }, "the one that moved")
	assert.NotEmpty(t, at("127.42.11.76").Endpoint.String)

	// Switched off, it is no longer listened to.
	require.NoError(t, b.s.Sites.SetWatch(ctx, b.site.ID, false))
	site, err := b.s.Sites.Get(ctx, b.site.ID)
	require.NoError(t, err)
	assert.False(t, site.Watch)

	// A goodbye is kept with the device until it is heard again.
	known, err := b.s.Devices.Left(ctx, b.site.ID, at("127.42.11.11").Endpoint.String)
	require.NoError(t, err)
	assert.True(t, known)
	assert.False(t, at("127.42.11.11").Status.LeftAt.IsZero())
	known, err = b.s.Devices.Left(ctx, b.site.ID, "urn:uuid:nobody")
	require.NoError(t, err)
	assert.False(t, known, "the goodbye of a stranger changes nothing")
	b.sweep()
	assert.True(t, at("127.42.11.11").Status.LeftAt.IsZero())
}
