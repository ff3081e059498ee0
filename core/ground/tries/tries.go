// Package tries counts wrong sign-ins by address, so that nobody guesses on: after ten within a minute an address is let wait for the rest
// of it.
package tries

import (
	"sync"
	"time"
)

// Free is how many wrong sign-ins an address has in a minute, over all its connections.
const Free = 10

// mostKept bounds the addresses that are remembered.
const mostKept = 10_000

// A Counter counts. Its zero value is ready.
type Counter struct {
	// Now is the clock; nil means time.Now.
	Now func() time.Time

	mu    sync.Mutex
	wrong map[string]count // by address
}

type count struct {
	n     int
	since time.Time
}

func (c *Counter) now() time.Time {
	if c.Now != nil {
		return c.Now()
	}
	return time.Now()
}

// Shut reports whether an address has tried too often within a minute.
func (c *Counter) Shut(from string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	x := c.wrong[from]
	return x.n >= Free && c.now().Sub(x.since) < time.Minute
}

// Wrong counts a wrong sign-in.
func (c *Counter) Wrong(from string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.wrong == nil || len(c.wrong) >= mostKept {
		c.wrong = map[string]count{}
	}
	x := c.wrong[from]
	if now := c.now(); now.Sub(x.since) >= time.Minute {
		x = count{since: now}
	}
	x.n++
	c.wrong[from] = x
}
