package jobs

import (
	"runtime"
	"runtime/debug"
	"sync"

	"golang.org/x/sys/unix"
)

// Of large work that nobody waits for while they look: how nice its thread is, and how far the heap may grow over what lives before garbage
// is collected, in percent. Collecting takes all cores for some milliseconds, so it is done seldom while little lives, and often once much
// does.
const (
	asideNice   = 15
	asideSeldom = 300
	asideOften  = 20
)

// asides guards the percentage, which is the whole process's.
var asides sync.Mutex

// aside runs work on a thread of its own of the lowest priority, so that pages and live pictures do not wait for it. The work calls frugal
// before it takes much memory.
func aside(work func(frugal func()) error) error {
	asides.Lock()
	defer asides.Unlock()
	before := debug.SetGCPercent(asideSeldom)
	defer debug.SetGCPercent(before)
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with this goroutine
		unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), asideNice)
		done <- work(func() {
			debug.SetGCPercent(asideOften)
			debug.FreeOSMemory()
		})
	}()
	return <-done
}
