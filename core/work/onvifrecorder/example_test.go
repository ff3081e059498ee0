package onvifrecorder_test

import (
	"fmt"

	"unlatch/core/wire/target"
	"unlatch/core/work/onvifrecorder"
)

func ExampleDriver() {
	var d target.Driver = onvifrecorder.Driver{}
	fmt.Println(d != nil, onvifrecorder.Kind)
	// Output: true onvif-recorder
}
