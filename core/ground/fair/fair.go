// Package fair shares a number of places among several who want many of them: one who wants thousands does not keep another waiting who
// wants one.
package fair

import (
	"context"
	"slices"
	"sync"
)

// A Gate has a number of places. It is safe for concurrent use.
type Gate struct {
	mu      sync.Mutex
	free    int
	held    map[string]int
	waiting []*waiter // in the order in which they came
}

type waiter struct {
	who string
	in  chan struct{} // is closed when it has a place
}

// New returns a gate with a number of places.
func New(places int) *Gate { return &Gate{free: places, held: map[string]int{}} }

// Enter waits for a place. Whoever enters has it until leave is called; a place that becomes free goes to the one who has fewest, and
// among equals to the one who came first. If ctx ends before there is a place, the error is that of ctx.
func (g *Gate) Enter(ctx context.Context, who string) (leave func(), err error) {
	g.mu.Lock()
	if g.free > 0 && len(g.waiting) == 0 {
		g.free--
		g.held[who]++
		g.mu.Unlock()
		return g.leaver(who), nil
	}
	w := &waiter{who, make(chan struct{})}
	g.waiting = append(g.waiting, w)
	g.mu.Unlock()
	select {
	case <-w.in:
		return g.leaver(who), nil
	case <-ctx.Done():
	}
	g.mu.Lock()
	i := slices.Index(g.waiting, w)
	if i >= 0 {
		g.waiting = slices.Delete(g.waiting, i, i+1)
	}
	g.mu.Unlock()
	if i < 0 { // the place came at that moment
		g.leave(who)
	}
	return nil, ctx.Err()
}

// leaver returns a function that gives a place back, once.
func (g *Gate) leaver(who string) func() {
	var once sync.Once
	return func() { once.Do(func() { g.leave(who) }) }
}

func (g *Gate) leave(who string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.held[who]--; g.held[who] == 0 {
		delete(g.held, who)
	}
	g.free++
	for g.free > 0 && len(g.waiting) > 0 {
		next := 0
		for i, w := range g.waiting {
			if g.held[w.who] < g.held[g.waiting[next].who] {
				next = i
			}
		}
		w := g.waiting[next]
		g.waiting = slices.Delete(g.waiting, next, next+1)
		g.free--
		g.held[w.who]++
		close(w.in)
	}
}

// Bounds of Places, and how many bytes of memory one place is reckoned with.
const (
	leastPlaces = 16
	mostPlaces  = 256
	perPlace    = 9 << 20
)

// Places returns how many may be inside at once in a process that may take so many bytes of memory.
func Places(memory int64) int { return int(min(max(memory/perPlace, leastPlaces), mostPlaces)) }
