//go:build linux

package discovery_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/sim/netns"
	"unlatch/sim/simtest"
)

// A camera that answers over IPv6 alone is heard, and listed at the IPv4 address that it names. The loopback interface carries no
// link-local multicast, so the test makes a network of its own.
func TestHeardOverIPv6(t *testing.T) {
	if !netns.Inside() {
		out, err := netns.Again("-test.run=^TestHeardOverIPv6$", "-test.v")
		require.NoError(t, err, string(out))
		assert.Contains(t, string(out), "--- PASS: TestHeardOverIPv6")
		return
	}
	require.NoError(t, netns.Wire("192.0.2.1/24"))
	w := simtest.Start(t, `
name: yard
devices:
  - {name: Six, maker: corvane, model: V6, address: 127.41.15.11, scene: turntable, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 5, profile: baseline}], announces: [ws-discovery6]}
`)
	var heard []sighting.Sighting
	s := discovery.Sweep{Ranges: address.MustParse("127.41.15.0/28"), Ports: []uint16{9}, EveryInterface: true}
	require.NoError(t, s.Run(context.Background(), func(x sighting.Sighting) { heard = append(heard, x) }))
	require.Len(t, heard, 1, "it answers over IPv6 and in no other way, and it is heard once")
	assert.Equal(t, w.Device("Six").Endpoint(), heard[0].Endpoint)
	assert.Equal(t, "127.41.15.11", heard[0].Addr.String())
	assert.False(t, heard[0].Stray)
}
