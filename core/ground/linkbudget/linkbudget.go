// Package linkbudget bounds how much may flow at once while streams are measured: a link that is full loses packets, and what is measured
// there is the link and not the camera.
package linkbudget

import (
	"context"
	"fmt"
	"sync"
)

// unknown are the bitrates in kbit/s that are reckoned with for a stream of which nothing is known yet, by its role.
var unknown = map[string]int{"main": 4000, "sub": 800, "third": 800}

// Flow returns the bitrate in kbit/s to reckon with for a stream: the larger of what was measured before and what the device claims, and
// where neither is known what such a stream has usually.
func Flow(role string, measuredKbps float64, claimedKbps int) int {
	if n := max(int(measuredKbps), claimedKbps); n > 0 {
		return n
	}
	if n, ok := unknown[role]; ok {
		return n
	}
	return unknown["main"]
}

// Share is how much of what an interface carries may be used, in percent: the site goes on working meanwhile.
const Share = 60

// Of returns the budget in kbit/s for an interface that carries so many Mbit/s; one of which nothing is known carries a hundred.
func Of(interfaceMbps int) int {
	if interfaceMbps <= 0 {
		interfaceMbps = 100
	}
	return interfaceMbps * 1000 * Share / 100
}

// A Budget is what one link may carry. It is safe for concurrent use; a nil Budget has no bound. Whoever asks first is served first, so
// that a large stream is not passed over for ever by small ones.
type Budget struct {
	mu       sync.Mutex
	most     int // kbit/s
	inFlight int
	looked   int // kbit/s of what flows because somebody looks at it
	waiting  []*waiter
}

type waiter struct {
	kbps  int
	ready chan struct{}
}

// New makes a budget of kbit/s.
func New(kbps int) *Budget { return &Budget{most: kbps} }

// Set gives the budget another bound. What is in flight stays.
func (b *Budget) Set(kbps int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.most = kbps
	b.serve()
}

// Take waits until so many kbit/s may flow; release gives them back. A stream larger than the whole budget flows alone. The error is that
// of ctx.
func (b *Budget) Take(ctx context.Context, kbps int) (release func(), err error) {
	if b == nil {
		return func() {}, ctx.Err()
	}
	w := &waiter{kbps: kbps, ready: make(chan struct{})}
	b.mu.Lock()
	b.waiting = append(b.waiting, w)
	b.serve()
	b.mu.Unlock()
	select {
	case <-w.ready:
		return b.releaser(&b.inFlight, kbps), nil
	case <-ctx.Done():
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, other := range b.waiting {
		if other == w {
			b.waiting = append(b.waiting[:i], b.waiting[i+1:]...)
			b.serve() // those behind it may fit
			return nil, ctx.Err()
		}
	}
	b.inFlight -= kbps // it was served just then
	b.serve()
	return nil, ctx.Err()
}

// TryTake is Take without waiting: ok is false where there is no room, or others wait for it.
func (b *Budget) TryTake(kbps int) (release func(), ok bool) {
	if b == nil {
		return func() {}, true
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.waiting) > 0 || !b.fits(kbps) {
		return nil, false
	}
	b.inFlight += kbps
	return b.releaser(&b.inFlight, kbps), true
}

// Count tells of so many kbit/s that flow without asking, since a person looks at them; release ends that. What is measured waits for
// room beside them, but one stream at a time is measured however much is looked at.
func (b *Budget) Count(kbps int) (release func()) {
	if b == nil {
		return func() {}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.looked += kbps
	return b.releaser(&b.looked, kbps)
}

func (b *Budget) fits(kbps int) bool { return b.inFlight == 0 || b.inFlight+b.looked+kbps <= b.most }

// serve lets through who waits, in order; the caller holds mu.
func (b *Budget) serve() {
	for len(b.waiting) > 0 && b.fits(b.waiting[0].kbps) {
		w := b.waiting[0]
		b.waiting = b.waiting[1:]
		b.inFlight += w.kbps
		close(w.ready)
	}
}

// releaser gives kbit/s back to what they were taken from, once.
func (b *Budget) releaser(from *int, kbps int) func() {
	return sync.OnceFunc(func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		*from -= kbps
		b.serve()
	})
}

// Load returns what flows to be measured, what flows because somebody looks at it, and what may flow, in kbit/s.
func (b *Budget) Load() (measured, looked, most int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.inFlight, b.looked, b.most
}

// String returns how much is in flight, of how much: "12 of 60 Mbit/s". A nil Budget says nothing.
func (b *Budget) String() string {
	if b == nil {
		return ""
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return fmt.Sprintf("%d of %d Mbit/s", (b.inFlight+b.looked+500)/1000, (b.most+500)/1000)
}
