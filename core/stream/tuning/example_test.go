package tuning_test

import (
	"fmt"

	"unlatch/core/stream/tuning"
)

func ExampleParseStream() {
	s, err := tuning.ParseStream("h264, 1280x720, 15 fps, 2000 kbps, gop 30")
	fmt.Println(s, err)
	// Output: h264,1280x720,15fps,2000kbps,gop30 <nil>
}
