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
	if to, err := rtmp.ParseIngest(in.Ingest); err != nil || to.Secure { // this recorder speaks no TLS
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
			case frames <- sentFrame{data: append([]byte(nil), f.Data...), key: f.Kind == media.Key, stamp: stamp}:
			default:
			}
		})
	}
	if source != nil && to.Sound {
		source.Heard(func(unit, config []byte) {
			if ctx.Err() != nil {
				return
			}
			select {
			case frames <- sentFrame{data: append([]byte(nil), unit...), config: append([]byte(nil), config...)}:
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
	// config is the configuration of AAC, of an access unit of sound; nil for a picture.
	config []byte
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
	begun, told := time.Time{}, false
	for {
		select {
		case <-ctx.Done():
			return
		case f := <-frames:
			if f.config != nil {
				if !begun.IsZero() && sendSound(pub, f, begun, &told) != nil {
					p.set("no_answer")
					return
				}
				continue
			}
			if begun.IsZero() {
				if !f.key {
					continue
				}
				first, begun = f.stamp, time.Now()
			}
			if pub.Video(f.data, f.key, (f.stamp-first)/90, 0) != nil {
				p.set("no_answer")
				return
			}
			p.set("sending")
		}
	}
}

// sendSound sends one access unit, the configuration before the first; told says that it went out.
func sendSound(pub *rtmp.Publisher, f sentFrame, begun time.Time, told *bool) error {
	at := uint32(time.Since(begun).Milliseconds())
	if !*told {
		*told = true
		if err := pub.Audio(nil, f.config, at); err != nil {
			return err
		}
	}
	return pub.Audio(f.data, nil, at)
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
	units  int // access units of sound, after their configuration
	config []byte
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

// Sound implements rtmp.Hearer.
func (p *platform) Sound(_ string, unit, config []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if unit == nil {
		p.config = config
	} else if p.config != nil {
		p.units++
	}
}

// End implements rtmp.Taker.
func (p *platform) End(string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.last, p.units, p.config = time.Time{}, 0, nil
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
		out := bridge.Status{State: "showing", Since: p.since.UTC().Format(time.RFC3339)}
		if p.units > 0 {
			out.Says = "with sound"
		}
		return out
	}
	return bridge.Status{State: "off"}
}
