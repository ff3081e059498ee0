package byhand_test

import (
	"fmt"

	"unlatch/core/wire/target"
	"unlatch/core/wire/target/byhand"
)

func ExampleDriver() {
	var d target.Driver = byhand.Driver{}
	fmt.Println(d != nil, byhand.Kind)
	// Output: true template
}
