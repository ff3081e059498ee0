package feed_test

import (
	"fmt"

	"unlatch/core/wire/target"
	"unlatch/core/wire/target/feed"
)

// A program knows its drivers by the kind of target that each is for.
func ExampleDriver() {
	drivers := map[target.Kind]target.Driver{feed.Kind: feed.Driver{}}
	for kind := range drivers {
		fmt.Println(kind)
	}
	// Output: feed
}
