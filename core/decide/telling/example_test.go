package telling_test

import (
	"fmt"

	"unlatch/core/decide/drift"
	"unlatch/core/decide/telling"
)

func ExampleOfFinding() {
	f := drift.Finding{Episode: drift.Episode{Drift: drift.Drift{Title: "Coal stage", Cause: drift.Covered}}}
	m := telling.OfFinding(f, telling.Drifted, telling.About{Name: "Engine Works"})
	fmt.Println(m.Subject())
	// Output: Engine Works: Something stands before the lens of Coal stage (urgent)
}
