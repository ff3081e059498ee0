package packtest_test

import (
	"fmt"

	"unlatch/core/decide/handover/packtest"
)

func ExampleSample() {
	p := packtest.Sample(3)
	fmt.Println(p.Count())
	// Output: 3 3
}
