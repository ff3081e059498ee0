package target_test

import (
	"fmt"

	"unlatch/core/wire/target"
)

// Two cameras into the free slots from the second on.
func ExampleFill() {
	layout := target.Layout{Slots: []target.Slot{{Token: "1", Is: target.Free}, {Token: "2", Is: target.Free}, {Token: "3", Is: target.Used},
		{Token: "4", Is: target.Free}}}
	fmt.Println(target.Fill(layout, "2", 2, nil))
	// Output: [2 4]
}
