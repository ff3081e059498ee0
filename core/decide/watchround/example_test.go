package watchround_test

import (
	"fmt"
	"time"

	"unlatch/core/decide/watchround"
)

// A look that comes after two missed rounds keeps its place in the next one.
func ExampleNext() {
	due := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	fmt.Println(watchround.Next(due, due.Add(31*time.Minute), 15*time.Minute).Format("15:04"))
	// Output: 12:45
}
