package multicast_test

import (
	"fmt"
	"net/netip"

	"unlatch/core/wire/multicast"
)

// Two cameras that send to one group clash.
func ExampleSame() {
	group := netip.MustParseAddrPort("239.255.0.1:50000")
	clashes := multicast.Same([]netip.AddrPort{group, group}, func(i int) string { return fmt.Sprint(i) })
	fmt.Println(clashes)
	// Output: map[0:[1] 1:[0]]
}
