package fix_test

import (
	"fmt"

	"unlatch/core/wire/fix"
)

func ExampleOnOff() {
	fmt.Println(fix.OnOff(true), fix.OnOff(false))
	// Output: on off
}
