package pathprobe_test

import (
	"fmt"

	"unlatch/core/stream/recipe"
	"unlatch/core/wire/pathprobe"
)

func ExampleCandidates() {
	for _, c := range pathprobe.Candidates(recipe.Stream, recipe.Device{Maker: "Corvane"}, 1, nil, recipe.Shipped()...) {
		fmt.Println(c.Path)
	}
}
