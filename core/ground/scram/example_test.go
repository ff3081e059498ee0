package scram_test

import (
	"fmt"
	"strings"

	"unlatch/core/ground/scram"
)

func ExampleVerifier() {
	kept := scram.Verifier("oak-door-52", scram.Rounds)
	fmt.Println(strings.HasPrefix(kept, "SCRAM-SHA-256$4096:"), strings.Contains(kept, "oak"))
	// Output: true false
}
