package netconfig_test

import (
	"fmt"

	"unlatch/core/wire/netconfig"
)

func ExampleHostName() {
	fmt.Println(netconfig.HostName("Platform clock (north)"))
	// Output: platform-clock-north
}
