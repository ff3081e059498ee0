package keeping_test

import (
	"fmt"

	"unlatch/core/decide/keeping"
)

func ExampleKeepingRule_Check() {
	fmt.Println(keeping.KeepingRule{Minutes: 365}.Check())
	// Output: measures by the minute would stay 365 days, and those by the quarter of an hour only 92
}
