package drift_test

import (
	"fmt"
	"time"

	"unlatch/core/decide/drift"
)

// Three cameras of one subnet that go within a minute are one finding.
func ExampleGroup() {
	at := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	var list []drift.Episode
	for i, title := range []string{"Coal stage", "Paint shop", "Turntable"} {
		list = append(list, drift.Episode{Before: at.Add(time.Duration(i) * 20 * time.Second),
			Drift: drift.Drift{Title: title, Cause: drift.Silent, Shared: "subnet 192.0.2.0/24"}})
	}
	for _, f := range drift.Group(list, 30*time.Minute) {
		fmt.Println(f.Headline())
	}
	// Output: 3 cameras do not answer in 192.0.2.0/24
}
