package sim

import (
	"cmp"
	"fmt"
	"sync"
	"time"
)

// A lock shuts a device for a while when it has seen too many wrong sign-ins, on its web side and its streams together.
type lock struct {
	mu    sync.Mutex
	wrong int
	until time.Time
	held  time.Duration // what is always left of a lock that a test holds, whatever the time is
	most  int           // wrong tries seen since the start, for tests
}

// A lockAnswer is what a locked device says.
type lockAnswer struct {
	status int
	reason string
	retry  string // Retry-After
	drop   bool
}

// locked returns what the device answers to a sign-in while it is locked; ok is false when it is not.
func (d *device) locked() (a lockAnswer, ok bool) {
	d.lock.mu.Lock()
	defer d.lock.mu.Unlock()
	left := max(time.Until(d.lock.until), d.lock.held)
	if left <= 0 {
		return a, false
	}
	seconds := int(left/time.Second) + 1
	switch d.Defects.LockAnswer {
	case "words":
		return lockAnswer{status: 403, reason: fmt.Sprintf("Locked after too many attempts, try again in %d seconds", seconds)}, true
	case "refuses":
		return lockAnswer{status: 401, reason: "Unauthorized"}, true
	case "drops":
		return lockAnswer{drop: true}, true
	}
	return lockAnswer{status: 503, reason: "Service Unavailable", retry: fmt.Sprint(seconds)}, true
}

// judged counts how a sign-in was judged.
func (d *device) judged(right bool) {
	d.lock.mu.Lock()
	defer d.lock.mu.Unlock()
	if right {
		d.lock.wrong = 0
		return
	}
	d.lock.wrong++
	d.lock.most = max(d.lock.most, d.lock.wrong)
	if d.Defects.LocksAfter > 0 && d.lock.wrong >= d.Defects.LocksAfter {
		d.lock.wrong, d.lock.until = 0, time.Now().Add(time.Duration(cmp.Or(d.Defects.LockSeconds, 60))*time.Second)
	}
}

// WrongTries returns the most wrong sign-ins in a row that the device has seen since its start.
func (l Look) WrongTries() int {
	l.d.lock.mu.Lock()
	defer l.d.lock.mu.Unlock()
	return l.d.lock.most
}

// HoldLocked locks the device until it is let go, and has it say each time that so many seconds are left: a test on a slow machine
// would otherwise begin when a lock that runs by the clock has ended.
func (l Look) HoldLocked(seconds int) {
	l.d.lock.hold(time.Duration(seconds)*time.Second - time.Millisecond) // what is left is rounded up to whole seconds
}

// LetGo ends what HoldLocked began.
func (l Look) LetGo() { l.d.lock.hold(0) }

func (k *lock) hold(left time.Duration) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.held = left
}
