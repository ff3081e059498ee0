package live_test

import (
	"fmt"

	"unlatch/core/wire/target"
	"unlatch/core/wire/target/live"
)

// A program knows its drivers by the kind of target that each is for.
func ExampleDriver() {
	drivers := map[target.Kind]target.Driver{live.Kind: live.Driver{}}
	for kind := range drivers {
		fmt.Println(kind)
	}
	// Output: live
}
