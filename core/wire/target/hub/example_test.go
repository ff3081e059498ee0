package hub_test

import (
	"fmt"

	"unlatch/core/wire/target/hub"
)

// The key is made from the identity, so a camera keeps its place in a hub whatever it is called.
func ExampleKey() {
	fmt.Println(hub.Key("urn:uuid:7"))
	// Output: 0a4b9f15d5e885ec
}
