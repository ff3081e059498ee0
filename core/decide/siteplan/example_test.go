package siteplan_test

import (
	"fmt"

	"unlatch/core/decide/siteplan"
)

// A camera in the middle of the plan that looks to the left.
func ExampleMark_Check() {
	west := -90.0
	m, err := siteplan.Mark{X: 0.5, Y: 0.5, Direction: &west}.Check()
	fmt.Println(*m.Direction, m.View, err)
	// Output: 270 70 <nil>
}
