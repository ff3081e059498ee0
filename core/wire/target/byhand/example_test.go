package byhand_test

import (
	"fmt"

	"unlatch/core/wire/target"
	"unlatch/core/wire/target/byhand"
)

// A program knows its drivers by the kind of target that each is for.
func ExampleDriver() {
	drivers := map[target.Kind]target.Driver{byhand.Kind: byhand.Driver{}}
	for kind := range drivers {
		fmt.Println(kind)
	}
	// Output: template
}
