package hub_test

import (
	"fmt"

	"unlatch/core/wire/target/hub"
)

// A camera keeps its place in a hub whatever it is called.
func ExampleKey() {
	fmt.Println(hub.Key("urn:uuid:7") == hub.Key("urn:uuid:7"))
	// Output: true
}
