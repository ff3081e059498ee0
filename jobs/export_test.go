package jobs

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"unlatch/store"
)

// Hooks are what tests of the work set.
type Hooks = hooks

// StartHooked is StartWorkers with hooks.
func StartHooked(s *store.Store, log *slog.Logger, h Hooks, sites ...string) (*Workers, error) {
	return startWorkers(s, log, h, Options{Sites: sites, Resolver: h.Resolver, Journal: h.Journal, OnlyLooks: h.OnlyLooks})
}

// A Stamper tells the time of what is seen while the line is cut.
type Stamper = stamper

// Finish is what River is told of work that ended with err.
func Finish(ctx context.Context, s *store.Store, err error) error {
	return (&env{store: s, log: slog.New(slog.DiscardHandler)}).finish(ctx, uuid.Nil, err)
}

// A Cutter cuts work off, as a kill would.
type Cutter struct {
	points atomic.Int64 // of the point at which the next work is cut off, counted down; 0 for nowhere
	when   atomic.Pointer[func() bool]
}

// Hooks cut work off where the cutter says, and begin it again at once.
func (c *Cutter) Hooks() Hooks { return Hooks{Watch: c.watch, RetryAfter: 20 * time.Millisecond} }

func (c *Cutter) watch() {
	if c.points.Load() > 0 && c.points.Add(-1) == 0 {
		panic("cut off here")
	}
	if holds := c.when.Load(); holds != nil && (*holds)() && c.when.CompareAndSwap(holds, nil) {
		panic("cut off here")
	}
}

// When cuts the next work off once, at the first point at which a condition holds.
func (c *Cutter) When(holds func() bool) { c.when.Store(&holds) }

// At cuts the next work off at its nth point: before each thing that is sent, after each answer, and before and after each record. The
// function that it returns tells whether it came so far.
func (c *Cutter) At(n int) (was func() bool) {
	c.points.Store(int64(n))
	return func() bool { return c.points.Load() <= 0 }
}

// Lease gives the workers their lease for as long as a test wants: end ends it, as a database does that was away.
func (w *Workers) Lease() (end func()) {
	lease, _ := w.env.held()
	ctx, end := context.WithCancel(context.Background())
	w.env.hold(ctx, lease)
	return end
}
