package convert_test

import (
	"context"
	"fmt"

	"unlatch/core/stream/conversion"
	"unlatch/core/work/convert"
	"unlatch/core/work/fanout"
)

func ExampleMachine_Open() {
	rates, err := convert.Measure(context.Background())
	if err != nil {
		return // there is no ffmpeg
	}
	rates.Budget = 1 // processor cores
	var machine convert.Machine
	machine.Set(rates)
	panel := conversion.Shape{Codec: "MJPEG", Width: 640, Height: 360, FPS: 5, Sound: "none"}
	var camera *fanout.Consumer // of a Hub
	if camera == nil {
		fmt.Println("not without a camera")
		return
	}
	session, err := machine.Open(context.Background(), camera, conversion.Source{}, panel)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer session.Close()
	// Output: not without a camera
}
