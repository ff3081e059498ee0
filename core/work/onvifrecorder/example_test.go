package onvifrecorder_test

import (
	"fmt"

	"unlatch/core/wire/target"
	"unlatch/core/work/onvifrecorder"
)

// A program knows its drivers by the kind of target that each is for.
func ExampleDriver() {
	drivers := map[target.Kind]target.Driver{onvifrecorder.Kind: onvifrecorder.Driver{}}
	for kind := range drivers {
		fmt.Println(kind)
	}
	// Output: onvif-recorder
}
