package machine_test

import (
	"context"
	"fmt"

	"unlatch/core/ground/address"
	"unlatch/core/ground/machine"
)

// Which way a range is reached, and whether announcements come from there.
func ExampleLook() {
	f := machine.Look(context.Background(), machine.Options{Ranges: address.MustParse("127.61.0.0/24")})
	fmt.Println(f.Routes[0].Range, f.Routes[0].Card, f.Routes[0].Beyond)
	// Output: 127.61.0.0/24 lo false
}
