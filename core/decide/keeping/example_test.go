package keeping_test

import (
	"fmt"

	"unlatch/core/decide/keeping"
)

func ExampleRule_Check() {
	fmt.Println(keeping.Rule{Minutes: 365}.Check())
	// Output: measures by the minute would stay 365 days, and those by the quarter of an hour only 92
}
