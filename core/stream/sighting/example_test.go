package sighting_test

import (
	"fmt"

	"unlatch/core/stream/sighting"
)

func ExamplePort_String() {
	fmt.Println(sighting.Port{Number: 554, Speaks: "rtsp"})
	// Output: 554 (rtsp)
}
