package tuner

import (
	"context"
	"time"

	"unlatch/core/work/prove"
)

// Held is a session that is kept open while a device is set, to see whether it drops those that are in use. The zero Held is none.
type Held struct {
	ended chan struct{}
	stop  context.CancelFunc
}

// mostHeld bounds for how long a session is kept open, beginFor how long it may take to begin.
const (
	mostHeld = 90 * time.Second
	beginFor = 8 * time.Second
)

// Hold begins to play a stream and returns once it plays; the zero Held where it does not. after, where not nil, is called when the session
// has ended, whoever has ended it.
func Hold(ctx context.Context, p *prove.Prover, req prove.Request, after func()) Held {
	ctx, cancel := context.WithTimeout(ctx, mostHeld)
	h := Held{ended: make(chan struct{}), stop: cancel}
	playing := make(chan struct{})
	req.Measure = mostHeld
	req.Playing = func() { close(playing) }
	quiet := *p
	quiet.Still = nil
	go func() {
		defer close(h.ended)
		if after != nil {
			defer after()
		}
		quiet.Prove(ctx, req)
	}()
	select {
	case <-playing:
		return h
	case <-h.ended:
	case <-time.After(beginFor):
	}
	h.Close()
	return Held{}
}

// Dropped reports whether the device has ended the session by itself.
func (h Held) Dropped() bool {
	select {
	case <-h.ended:
		return true
	default: // also where there is no session: a nil channel is never ready
		return false
	}
}

// Close ends the session.
func (h Held) Close() {
	if h.stop != nil {
		h.stop()
		<-h.ended
	}
}
