package viabridge_test

import (
	"fmt"

	"unlatch/core/wire/target/viabridge"
)

// Not every target can be told every name.
func ExampleSayable() {
	fmt.Println(viabridge.Sayable("Platform clock (N)"))
	// Output: Platform clock N
}
