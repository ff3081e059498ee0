package rtmp_test

import (
	"fmt"

	"unlatch/core/wire/rtmp"
)

func ExampleParseIngest() {
	to, err := rtmp.ParseIngest("rtmp://192.0.2.9/live")
	fmt.Println(to.App, err)
	// Output: live <nil>
}
