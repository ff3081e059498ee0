package targets

import (
	"context"
	"errors"
	"net"
	"net/http"
	"sync"
	"time"

	"unlatch/core/stream/media"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/rtmp"
)

// A push sends one slot on to a live platform, and tries again until it is stopped.
type push struct {
	to     bridge.Push
	cancel context.CancelFunc
	mu     sync.Mutex
	is     string
}

func (p *push) stop() { p.cancel() }

func (p *push) state() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.is
}

func (p *push) set(s string) {
	p.mu.Lock()
	p.is = s
	p.mu.Unlock()
}

func (b *Bridge) pushTo(s *slot, r *http.Request) (any, *bridge.Problem) {
	var in bridge.Push
	if p := read(r, &in); p != nil {
		return nil, p
	}
	if _, err := rtmp.ParseIngest(in.Ingest); err != nil {
		return nil, misfit("ingest", "unreadable", "rtmp://host/app")
	}
	if s.State != bridge.Used {
		return nil, &bridge.Problem{Type: bridge.TypeRefused, Title: "The slot is empty", Status: 409}
	}
	for _, o := range b.slots {
		if o != s && o.push != nil {
			return nil, &bridge.Problem{Type: bridge.TypeBusy, Title: "Another channel is sent on", Status: 409}
		}
	}
	if s.push != nil {
		s.push.stop()
	}
	s.push = b.startPush(s, in)
	b.save()
	return b.view(s), nil
}

func (b *Bridge) endPush(s *slot, _ *http.Request) (any, *bridge.Problem) {
	if s.push != nil {
		s.push.stop()
		s.push = nil
		b.save()
	}
	return nil, nil
}

// startPush begins; the caller holds mu or owns b alone.
func (b *Bridge) startPush(s *slot, to bridge.Push) *push {
	ctx, cancel := context.WithCancel(b.ctx)
	p := &push{to: to, cancel: cancel, is: "connecting"}
	source := s.pulls[to.Stream]
	if source == nil {
		for _, any := range s.pulls {
			source = any
		}
	}
	frames := make(chan sentFrame, 64)
	if source != nil {
		source.Frames(func(f media.Frame, stamp uint32) {
			if ctx.Err() != nil {
				return
			}
			select {
			case frames <- sentFrame{append([]byte(nil), f.Data...), f.Kind == media.Key, stamp}:
			default:
			}
		})
	}
	go func() {
		for ctx.Err() == nil {
			p.once(ctx, frames)
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}()
	return p
}

type sentFrame struct {
	data  []byte
	key   bool
	stamp uint32 // 90 kHz
}

func (p *push) once(ctx context.Context, frames <-chan sentFrame) {
	to, err := rtmp.ParseIngest(p.to.Ingest)
	if err != nil {
		return
	}
	pub, err := rtmp.Publish(ctx, &net.Dialer{Timeout: 2 * time.Second}, to, p.to.Key)
	if err != nil {
		p.set("no_answer")
		if errors.As(err, new(*rtmp.RejectedError)) {
			p.set("refused")
		}
		return
	}
	defer pub.Close()
	p.set("connecting")
	var first uint32
	begun := false
	for {
		select {
		case <-ctx.Done():
			return
		case f := <-frames:
			if !begun {
				if !f.key {
					continue
				}
				first, begun = f.stamp, true
			}
			if pub.Video(f.data, f.key, (f.stamp-first)/90) != nil {
				p.set("no_answer")
				return
			}
			p.set("sending")
		}
	}
}

// A platform is a live platform's ingest.
type platform struct {
	t      Target
	opens  time.Time
	l      net.Listener
	mu     sync.Mutex
	since  time.Time
	last   time.Time
	frames int
	key    []byte
}

// ingestPort is one above the port on which the platform answers for its accounts.
const ingestPort = 1

func startPlatform(ctx context.Context, t Target, began time.Time) (*platform, error) {
	l, err := listen(t, t.Port+ingestPort)
	if err != nil {
		return nil, err
	}
	p := &platform{t: t, l: l, opens: began.Add(time.Duration(t.Wait) * time.Second)}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				stop := context.AfterFunc(ctx, func() { conn.Close() })
				defer stop()
				rtmp.Serve(conn, p)
			}()
		}
	}()
	return p, nil
}

func (p *platform) stop() { p.l.Close() }

// App implements rtmp.Taker.
func (p *platform) App(name string) bool { return name == "live" }

// Begin implements rtmp.Taker.
func (p *platform) Begin(_, key string) error {
	switch {
	case key != p.t.Secret.Reveal():
		return errors.New("no account has this key")
	case time.Now().Before(p.opens):
		return errors.New("the account is new and does not work yet")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.since = time.Now()
	return nil
}

// Frame implements rtmp.Taker.
func (p *platform) Frame(_ string, f rtmp.Frame) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.last = time.Now()
	p.frames++
	if f.Key {
		p.key = f.Data
	}
}

// End implements rtmp.Taker.
func (p *platform) End(string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.last = time.Time{}
}

// status returns the platform's own word.
func (p *platform) status() bridge.Status {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case time.Now().Before(p.opens):
		return bridge.Status{State: "connecting", Ready: p.opens.UTC().Format(time.RFC3339),
			Says: "the account is new: it works from " + p.opens.UTC().Format("15:04:05") + " UTC"}
	case p.key != nil && time.Since(p.last) < 3*time.Second:
		return bridge.Status{State: "showing", Since: p.since.UTC().Format(time.RFC3339)}
	}
	return bridge.Status{State: "off"}
}
