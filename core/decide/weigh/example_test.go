package weigh_test

import (
	"fmt"

	"unlatch/core/decide/latch"
	"unlatch/core/decide/weigh"
	"unlatch/core/stream/tuning"
)

// A draft that nothing was measured of is unmet.
func ExampleUnmet() {
	draft, _ := tuning.ParsePlan(map[string]string{"sub": "640x360"})
	fmt.Println(weigh.Unmet(&latch.Status{}, draft).Texts())
	// Output: map[sub:640x360]
}
