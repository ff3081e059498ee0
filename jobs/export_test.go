package jobs

import (
	"sync/atomic"
	"testing"
	"time"

	"unlatch/core/bringup"
	"unlatch/core/latch"
)

// SetBudget gives a step another time for a test.
func SetBudget(t *testing.T, step latch.Name, d time.Duration) {
	before := bringup.Budgets[step]
	bringup.Budgets[step] = d
	t.Cleanup(func() { bringup.Budgets[step] = before })
}

// AtOnce begins jobs again at once.
func AtOnce(t *testing.T) {
	retryAfter = 20 * time.Millisecond
	t.Cleanup(func() { retryAfter = time.Second })
}

// OnlyChanges leaves out the latches that are opened after a change, and begins jobs again at once.
func OnlyChanges(t *testing.T) {
	onlyChange, retryAfter = true, 20*time.Millisecond
	t.Cleanup(func() { onlyChange, retryAfter = false, time.Second })
}

// points is the number of the point at which the next job is cut off, counted down; 0 for nowhere.
var points atomic.Int64

// CutOffs has jobs cut off where CutAt says.
func CutOffs(t *testing.T) {
	crash = func() {
		if points.Load() > 0 && points.Add(-1) == 0 {
			panic("cut off here")
		}
	}
	t.Cleanup(func() { crash = nil })
}

// CutWhen cuts the next work off once, at the first point at which a condition holds.
func CutWhen(t *testing.T, holds func() bool) {
	var done atomic.Bool
	crash = func() {
		if !done.Load() && holds() && done.CompareAndSwap(false, true) {
			panic("cut off here")
		}
	}
	t.Cleanup(func() { crash = nil })
}

// CutAt cuts the next work off at its nth point: before each thing that is sent, after each answer, and before and after each record. The
// function that it returns tells whether it came so far.
func CutAt(n int) (was func() bool) {
	points.Store(int64(n))
	return func() bool { return points.Load() <= 0 }
}
