package bringup

import (
	"context"
	"sync"
	"time"

	"unlatch/core/decide/latch"
)

// behind keeps the findings of one device while the work goes on: far from its record, the work would wait as long for that as for the
// device. They are kept in order. What could not be kept is told of when the device is read next. The zero value is ready.
type behind struct {
	mu      sync.Mutex
	waiting []Finding
	going   chan struct{} // is closed when nothing is being kept any more; nil while nothing is
	err     error         // of the first that could not be kept; those after it are not kept either
}

// together is for how long a finding waits for others, and for whoever reads the device with it.
const together = 5 * time.Millisecond

// put has a finding kept soon, also where ctx ends before.
func (b *behind) put(ctx context.Context, r Record, d *latch.Device, f Finding) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.waiting = append(b.waiting, f)
	if b.going == nil {
		b.going = make(chan struct{})
		go b.keep(context.WithoutCancel(ctx), r, d)
	}
}

// keep keeps what waits until nothing does.
func (b *behind) keep(ctx context.Context, r Record, d *latch.Device) {
	time.Sleep(together)
	for {
		b.mu.Lock()
		list := b.waiting
		b.waiting = nil
		if len(list) == 0 || b.err != nil {
			close(b.going)
			b.going = nil
			b.mu.Unlock()
			return
		}
		b.mu.Unlock()
		limited, done := context.WithTimeout(ctx, keepWithin)
		err := r.AddLater(limited, d, list...)
		done()
		b.mu.Lock()
		b.err = err
		b.mu.Unlock()
	}
}

// rest returns what nobody keeps yet, for whoever keeps it along with a question of its own. What was found before it is kept by then.
func (b *behind) rest() ([]Finding, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	list, going := b.waiting, b.going
	b.waiting = nil
	if going != nil {
		b.mu.Unlock()
		<-going
		b.mu.Lock()
	}
	return list, b.err
}
