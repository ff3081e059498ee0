package tuner_test

import (
	"context"
	"fmt"

	"unlatch/core/wire/onvif"
	"unlatch/core/work/tuner"
)

func ExampleRead() {
	c := onvif.New("http://192.0.2.7/onvif/device_service", onvif.Options{})
	view, err := tuner.Read(context.Background(), c, tuner.Camera{})
	if err != nil {
		return
	}
	fmt.Println(view)
}
