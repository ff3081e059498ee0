package notify_test

import (
	"fmt"

	"unlatch/core/ground/signin"
	"unlatch/core/work/notify"
)

// Whoever gets a webhook's request makes the same signature and compares.
func ExampleSign() {
	fmt.Println(notify.Sign(signin.NewSecret("oak-door-52"), "1772452800", []byte(`{"kind":"test"}`))[:16])
	// Output: d1bbb8cb7c17a9dd
}
