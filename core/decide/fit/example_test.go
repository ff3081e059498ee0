package fit_test

import (
	"fmt"

	"unlatch/core/decide/fit"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
)

func ExampleCheck() {
	panel := intake.Intake{Name: "panel", Codecs: []string{"H.264"}, MaxSize: tuning.Size{Width: 1280, Height: 720}}
	for _, r := range fit.Check(fit.Stream{Codec: "H.265", Width: 1280, Height: 720}, panel) {
		fmt.Println(r)
	}
	// Output: codec is H.265; panel wants H.264
}
