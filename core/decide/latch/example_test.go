package latch_test

import (
	"fmt"

	"unlatch/core/decide/latch"
)

// Nothing is known of a device without evidence: everything is still to be done.
func ExampleDerive() {
	status := latch.Derive(nil, latch.Intent{})
	fmt.Println(status.At(), status.Latch(latch.Confirmed).State)
	// Output: heard closed
}
