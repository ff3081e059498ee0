package live_test

import (
	"fmt"

	"unlatch/core/wire/target"
	"unlatch/core/wire/target/live"
)

func ExampleDriver() {
	var d target.Driver = live.Driver{}
	fmt.Println(d != nil, live.Kind)
	// Output: true live
}
