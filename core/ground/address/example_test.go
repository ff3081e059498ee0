package address_test

import (
	"fmt"
	"net/netip"

	"unlatch/core/ground/address"
)

func ExampleParse() {
	r, err := address.Parse("192.0.2.0/29, 192.0.2.40-44")
	fmt.Println(r, err)
	fmt.Println(r.Count(), r.Contains(netip.MustParseAddr("192.0.2.41")), r.Contains(netip.MustParseAddr("192.0.2.9")))
	_, err = address.Parse("192.0.2.300")
	fmt.Println(err)
	// Output:
	// 192.0.2.0/29, 192.0.2.40-192.0.2.44 <nil>
	// 13 true false
	// range "192.0.2.300" is not an address; type it like "192.0.2.0/24" or "192.0.2.10-40"
}
