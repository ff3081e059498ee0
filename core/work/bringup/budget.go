package bringup

import (
	"context"
	"errors"
	"fmt"
	"time"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/latch"
)

// budgets are the times that the steps of one device get. A device that takes longer is told so, with what was got until then, and the
// next try goes on from there.
var budgets = map[latch.Name]time.Duration{
	latch.Reachable: 20 * time.Second,
	latch.SignedIn:  time.Minute,
	latch.Located:   75 * time.Second,
	latch.Placed:    time.Minute,
	latch.Confirmed: time.Minute,
}

// playBudget is the time that one stream gets, with all transports and sign-ins.
const playBudget = 90 * time.Second

// A budgetError ends a step whose time is up.
type budgetError struct{ after time.Duration }

func (e *budgetError) Error() string { return fmt.Sprintf("not done within %s", e.after) }

// within returns a context that ends a step after its budget; a budget of 0 is no limit.
func within(ctx context.Context, d time.Duration) (context.Context, context.CancelFunc) {
	if d == 0 {
		return context.WithCancel(ctx)
	}
	return context.WithTimeoutCause(ctx, d, &budgetError{d})
}

// outOfTime returns the diagnosis of a step whose time is up, or nil if it is not up. got is what was found until then.
func outOfTime(ctx context.Context, got string) *diagnose.Diagnosis {
	var b *budgetError
	if ctx.Err() == nil || !errors.As(context.Cause(ctx), &b) {
		return nil
	}
	d := diagnose.OutOfTime(b.after, got)
	return &d
}

// keeping returns a context for recording, so that what a step has found is kept although its time is up.
func keeping(ctx context.Context) (context.Context, context.CancelFunc) {
	if outOfTime(ctx, "") == nil {
		return ctx, func() {}
	}
	return context.WithTimeout(context.WithoutCancel(ctx), keepWithin)
}

// keepWithin is the time that keeping a finding gets whose step is over.
const keepWithin = 20 * time.Second
