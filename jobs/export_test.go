package jobs

import (
	"testing"
	"time"

	"unlatch/core/latch"
)

// SetBudget gives a step another time for a test.
func SetBudget(t *testing.T, step latch.Name, d time.Duration) {
	before := budgets[step]
	budgets[step] = d
	t.Cleanup(func() { budgets[step] = before })
}
