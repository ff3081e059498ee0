package exchange

import (
	"context"
	"io"
	"sync"
	"time"
)

// paceRate is how many bytes a second an answer has to bring once its first patience is over: a picture of 8 MB over a slow uplink does.
const paceRate = 64 << 10

// A Pace ends one exchange by time and by progress: the other side has some patience to begin with, and from then on as much longer as
// what has come is worth at paceRate. Whoever drips is let go as soon as whoever is silent.
type Pace struct {
	patience time.Duration
	began    time.Time
	cancel   context.CancelFunc
	timer    *time.Timer
	mu       sync.Mutex
	bytes    int64
	over     bool
}

// Paced is ctx for one exchange. It ends with the Pace, which Stop gives back.
func Paced(ctx context.Context, patience time.Duration) (context.Context, *Pace) {
	ctx, cancel := context.WithCancel(ctx)
	p := &Pace{patience: patience, began: time.Now(), cancel: cancel}
	p.timer = time.AfterFunc(patience, p.look)
	return ctx, p
}

// look ends the exchange, unless what has come since is worth more time.
func (p *Pace) look() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if left := p.patience + time.Duration(p.bytes)*time.Second/paceRate - time.Since(p.began); left > 0 {
		p.timer.Reset(left)
		return
	}
	p.over = true
	p.cancel()
}

// Stop ends the exchange, which is over.
func (p *Pace) Stop() {
	p.timer.Stop()
	p.cancel()
}

// Explain is the error of an exchange: a *SlowError where the pace has ended it, and err otherwise.
func (p *Pace) Explain(err error, waiting string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if err == nil || !p.over {
		return err
	}
	after := time.Since(p.began).Round(100 * time.Millisecond)
	if p.bytes == 0 {
		return &MuteError{Waiting: waiting, After: after}
	}
	return &SlowError{Waiting: waiting, Bytes: p.bytes, After: after}
}

// Body counts what is read of an answer, and stops the pace when it is closed.
func (p *Pace) Body(body io.ReadCloser, waiting string) io.ReadCloser {
	return &pacedBody{body, p, waiting}
}

type pacedBody struct {
	io.ReadCloser
	p       *Pace
	waiting string
}

func (b *pacedBody) Read(buf []byte) (int, error) {
	n, err := b.ReadCloser.Read(buf)
	b.p.mu.Lock()
	b.p.bytes += int64(n)
	b.p.mu.Unlock()
	if err != nil && err != io.EOF {
		err = b.p.Explain(err, b.waiting)
	}
	return n, err
}

func (b *pacedBody) Close() error {
	b.p.Stop()
	return b.ReadCloser.Close()
}
