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
	wire := strings.ReplaceAll(yard, "name: Clock,", "name: Clock, plugged_in: 4,")
	wire = strings.ReplaceAll(wire, "address: NET.16,", "address: NET.16, lease: NET.16, next_lease: NET.76, lease_seconds: 5,")
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
	require.Eventually(t, func() bool { d := at("127.42.11.11"); return d != nil && len(d.Status.Device.Ports) > 0 }, 30*time.Second,
		50*time.Millisecond, "the newcomer, and what its ports say")
	require.Eventually(t, func() bool { return at("127.42.11.76") != nil }, 30*time.Second, 50*time.Millisecond, "the one that moved")
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
