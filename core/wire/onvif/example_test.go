package onvif_test

import (
	"context"
	"fmt"

	"unlatch/core/wire/onvif"
)

func ExampleClient() {
	c := onvif.New("http://192.0.2.7/onvif/device_service", onvif.Options{})
	if _, err := c.Clock(context.Background()); err != nil {
		fmt.Println("no answer")
	}
}

func ExampleEscape() {
	fmt.Println(onvif.Escape("Coal & coke"))
	// Output: Coal &amp; coke
}
