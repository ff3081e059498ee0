package discovery_test

import (
	"context"
	"fmt"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
)

func ExampleSweep() {
	sweep := discovery.Sweep{Ranges: address.MustParse("192.0.2.0/24"), Interfaces: []string{}}
	sweep.Run(context.Background(), func(s sighting.Sighting) {
		fmt.Println(s.Addr, s.Method)
	})
}

func ExampleParsePorts() {
	fmt.Println(discovery.ParsePorts("80, 554, 8000-8002"))
	// Output: [80 554 8000 8001 8002] <nil>
}
