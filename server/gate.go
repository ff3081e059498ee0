package server

import (
	"sync"
	"time"
)

// A gate slows down guessing. Tries are counted before they are judged, so that many at once gain nothing; a right one takes its own count
// back. After some wrong tries under one name within ten minutes, each further one waits twice as long as the one before, up to a minute.
//
// Names are whatever tries are counted by: an account, an address, a browser that has been signed in before.
type gate struct {
	free int // wrong tries before the first wait
	mu   sync.Mutex
	now  func() time.Time
	seen map[string]*guesses
}

type guesses struct {
	tries int // wrong ones and those that are not judged yet
	last  time.Time
}

// How many tries are free. An address may be a whole office behind one router.
const (
	freeByAccount = 5
	freeByAddress = 10
	maxGuessed    = 10000
	forgetAfter   = 10 * time.Minute
)

func newGate(free int, now func() time.Time) *gate {
	return &gate{free: free, now: now, seen: map[string]*guesses{}}
}

// begin counts a try, or returns how long to wait in place of it.
func (g *gate) begin(name string) (wait time.Duration) {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.now()
	if len(g.seen) > maxGuessed {
		for k, s := range g.seen {
			if now.Sub(s.last) > forgetAfter {
				delete(g.seen, k)
			}
		}
	}
	s := g.seen[name]
	if s == nil || now.Sub(s.last) > forgetAfter {
		s = &guesses{}
		g.seen[name] = s
	}
	if s.tries >= g.free {
		hold := min(time.Second<<min(s.tries-g.free, 6), time.Minute)
		if wait = s.last.Add(hold).Sub(now); wait > 0 {
			return wait
		}
	}
	s.tries++
	s.last = now
	return 0
}

// undo takes a try back that was counted and not judged.
func (g *gate) undo(name string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if s := g.seen[name]; s != nil && s.tries > 0 {
		s.tries--
	}
}

// passed forgets the tries under a name after a right one.
func (g *gate) passed(name string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.seen, name)
}
