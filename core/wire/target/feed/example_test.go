package feed_test

import (
	"fmt"

	"unlatch/core/wire/target"
	"unlatch/core/wire/target/feed"
)

func ExampleDriver() {
	var d target.Driver = feed.Driver{}
	fmt.Println(d != nil, feed.Kind)
	// Output: true feed
}
