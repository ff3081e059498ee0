package discovery_test

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
)

// What this program is to others is found by a probe and by its hello, and says goodbye.
func TestAnnouncedDevicesAreFound(t *testing.T) {
	t.Parallel()
	x := discovery.Announced{Endpoint: "urn:uuid:4f0e2a51-7a0e-4d53-9d52-0f8a61a6b3c1",
		Address: "http://127.41.21.5:8580/onvif/device_service",
		Scopes:  []string{"onvif://www.onvif.org/Profile/Streaming", "onvif://www.onvif.org/name/Yard%20gate"},
		From:    netip.MustParseAddr("127.41.21.5")}
	ctx, stop := context.WithCancel(t.Context())
	hello, bye := make(chan sighting.Sighting, 16), make(chan string, 16)
	w := discovery.Watch{Ranges: address.MustParse("127.41.21.0/29"), Found: func(s sighting.Sighting) {
		if s.Endpoint == x.Endpoint {
			hello <- s
		}
	}, Left: func(endpoint string) {
		if endpoint == x.Endpoint {
			bye <- endpoint
		}
	}}
	go w.Run(t.Context())
	time.Sleep(200 * time.Millisecond) // it hears by then

	var a discovery.Announcer
	a.Set([]discovery.Announced{x})
	ended := make(chan error, 1)
	go func() { ended <- a.Run(ctx) }()
	select {
	case s := <-hello:
		assert.Equal(t, "127.41.21.5", s.Addr.String())
		assert.Equal(t, sighting.Camera, s.Kind)
	case <-time.After(20 * time.Second):
		t.Fatal("no hello")
	}
	var found []sighting.Sighting
	s := discovery.Sweep{Ranges: address.MustParse("127.41.21.0/29"), Ports: []uint16{9}}
	require.NoError(t, s.Run(t.Context(), func(s sighting.Sighting) {
		if s.Endpoint == x.Endpoint {
			found = append(found, s)
		}
	}))
	require.NotEmpty(t, found)
	assert.Equal(t, x.Address, found[0].XAddr)
	assert.False(t, found[0].Stray)
	stop()
	<-ended
	select {
	case <-bye:
	case <-time.After(20 * time.Second):
		t.Fatal("no goodbye")
	}
}
