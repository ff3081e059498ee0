package identity_test

import (
	"fmt"
	"net/netip"

	"unlatch/core/decide/identity"
	"unlatch/core/stream/sighting"
)

// What two methods heard at one address is one device.
func ExampleMerge() {
	at := netip.MustParseAddr("192.0.2.7")
	devices := identity.Merge([]sighting.Sighting{
		{Method: sighting.WSDiscovery, Addr: at, Endpoint: "urn:uuid:7", Kind: sighting.Camera, Hardware: "V4"},
		{Method: sighting.PortSweep, Addr: at, Ports: []sighting.Port{{Number: 554}}},
	})
	fmt.Println(len(devices), devices[0].Hardware, devices[0].Methods)
	// Output: 1 V4 [ws-discovery port sweep]
}
