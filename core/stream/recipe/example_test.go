package recipe_test

import (
	"fmt"

	"unlatch/core/stream/recipe"
)

// One path that works gives every other of the device: the values that made it are read back out of it, and others put in their place.
func ExampleTemplate() {
	t := recipe.MustParse("/vista/ch{channel}/{tier:primary|secondary}")
	v := t.Invert("/vista/ch3/primary")[0]
	fmt.Println(v.Channel, v.Stream)
	v.Channel, v.Stream = 4, 2
	fmt.Println(t.Expand(v))
	// Output:
	// 3 1
	// /vista/ch4/secondary <nil>
}
