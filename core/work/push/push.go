// Package push sends streams to live platforms by RTMP, over TLS or not: the picture in H.264 as it comes, sound in AAC, and silence where
// a platform wants sound and there is none. A push that breaks off begins again; what the platform says is kept.
package push

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"strconv"
	"sync"
	"time"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/hours"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/rtmp"
	"unlatch/core/work/fanout"
)

// A Push is one stream that is sent to a platform.
type Push struct {
	ID string
	To rtmp.Ingest
	// Key is the stream key. Over TLS it is sent to whoever an authority of this machine vouches for, or who shows the certificate of Pin,
	// and to nobody else.
	Key signin.Secret
	Pin string // SHA-256 of the platform's certificate in hex; "" for one that an authority vouches for
	// Silence is sent as sound where the stream has none.
	Silence bool
	Hours   hours.Week
	// Paused sends nothing until it is taken back.
	Paused bool
	// Dial opens connections to the platform.
	Dial address.Dialer
	// Take begins to take the packets.
	Take func(ctx context.Context) (*fanout.Consumer, error)
}

// same reports whether a push goes on as before.
func (p Push) same(other Push) bool {
	return p.ID == other.ID && p.To == other.To && p.Key.Reveal() == other.Key.Reveal() && p.Pin == other.Pin && p.Silence == other.Silence
}

// A State is how a push goes.
type State string

// The states of a push.
const (
	Connecting State = "connecting"
	Sending    State = "sending"
	Refused    State = "refused" // by the platform
	Broken     State = "broken"  // it is tried again
	NoStream   State = "no_stream"
	OffHours   State = "off_hours"
	Stopped    State = "stopped" // by a person
)

// Status is how a push goes, and since when.
type Status struct {
	ID       string
	State    State
	Since    time.Time
	Says     string // what the platform says, or what went wrong
	Pictures int64  // that were sent in this session
}

// A TLSError says that nobody vouches for the platform's certificate, or that it is another than the one that was agreed on. No key was
// sent.
type TLSError struct{ Shown certificate.Certificate }

func (e *TLSError) Error() string {
	return "nobody vouches for the certificate of the platform, so it was not sent the stream key; it shows SHA-256 " + e.Shown.SHA256
}

// A Server sends streams. Its zero value is ready.
type Server struct {
	Log *slog.Logger // nil for nobody
	// Now is the clock by which hours begin and end; nil means time.Now.
	Now func() time.Time

	mu   sync.Mutex
	list map[string]*pusher
	all  sync.WaitGroup
}

// again is how long it takes until a push is tried again: the shortest, which doubles, and the longest.
const (
	again   = time.Second
	longest = time.Minute
)

// lookEvery is how often it is looked whether the hours have begun or ended.
const lookEvery = 5 * time.Second

// A pusher is one push at work.
type pusher struct {
	server *Server
	stop   context.CancelFunc
	nudge  chan struct{} // something has changed

	mu     sync.Mutex
	push   Push
	status Status
	cut    context.CancelFunc // ends the session under way; nil for none
}

// Set says which pushes there are from now on. One that is as before goes on.
func (s *Server) Set(list []Push) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.Log == nil {
		s.Log = slog.New(slog.DiscardHandler)
	}
	if s.Now == nil {
		s.Now = time.Now
	}
	old := s.list
	s.list = map[string]*pusher{}
	for _, p := range list {
		if was := old[p.ID]; was != nil && was.push.same(p) {
			s.list[p.ID] = was
			delete(old, p.ID)
			was.change(p)
			continue
		}
		x := &pusher{server: s, push: p, nudge: make(chan struct{}, 1), status: Status{ID: p.ID, State: Connecting, Since: s.Now()}}
		var ctx context.Context
		ctx, x.stop = context.WithCancel(context.Background())
		s.list[p.ID] = x
		s.all.Go(func() { x.run(ctx) })
	}
	for _, gone := range old {
		gone.stop()
	}
}

// change takes what of a push may change while it goes on.
func (x *pusher) change(p Push) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.push.Hours, x.push.Paused = p.Hours, p.Paused
	x.wake()
}

// wake has the push checked at once. The caller holds the lock.
func (x *pusher) wake() {
	if x.cut != nil && x.rests() != "" {
		x.cut()
	}
	select {
	case x.nudge <- struct{}{}:
	default:
	}
}

// rests returns why nothing is to be sent now; "" where something is. The lock is held.
func (x *pusher) rests() State {
	switch {
	case x.push.Paused:
		return Stopped
	case !x.push.Hours.Now(x.server.Now()):
		return OffHours
	}
	return ""
}

// Close ends all pushes.
func (s *Server) Close() {
	s.Set(nil)
	s.all.Wait()
}

// Statuses returns how the pushes go.
func (s *Server) Statuses() (out []Status) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range s.list {
		x.mu.Lock()
		out = append(out, x.status)
		x.mu.Unlock()
	}
	return out
}

// is keeps how the push goes.
func (x *pusher) is(state State, says string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.status.State != state {
		x.status.Since = x.server.Now()
	}
	x.status.State, x.status.Says = state, says
	if state != Sending {
		x.status.Pictures = 0
	}
}

// run sends until ctx ends.
func (x *pusher) run(ctx context.Context) {
	for wait := again; ctx.Err() == nil; {
		x.mu.Lock()
		rests := x.rests()
		session, cut := context.WithCancel(ctx)
		x.cut = cut
		x.mu.Unlock()
		pause := lookEvery
		if rests != "" {
			x.is(rests, "")
		} else {
			began := time.Now()
			err := x.takeAndSend(session)
			if time.Since(began) > longest {
				wait = again
			}
			if session.Err() == nil {
				x.broke(err)
				pause, wait = wait, min(2*wait, longest)
			} else {
				pause = 0
			}
		}
		cut()
		if pause == 0 {
			continue
		}
		select {
		case <-ctx.Done():
		case <-x.nudge:
		case <-time.After(pause):
		}
	}
}

// broke keeps why a session has ended.
func (x *pusher) broke(err error) {
	var no *rtmp.RejectedError
	switch {
	case errors.As(err, &no):
		says := diagnose.Capital(err.Error())
		if no.Text != "" {
			says += ": " + no.Text
		}
		x.is(Refused, says)
	case errors.As(err, new(*sourceError)):
		x.is(NoStream, diagnose.Capital(err.Error()))
	case errors.As(err, new(*TLSError)):
		x.is(Broken, diagnose.Capital(err.Error()))
	default:
		host, port, _ := net.SplitHostPort(x.push.To.Host)
		number, _ := strconv.Atoi(port)
		x.is(Broken, diagnose.Explain(err, diagnose.Facts{Host: host, Port: number, Asking: "the platform", Target: true}).Summary)
	}
	x.server.Log.Debug("a push has broken off", "id", x.push.ID, "err", err)
}

// A sourceError is one of the camera, not of the platform.
type sourceError struct{ err error }

func (e *sourceError) Error() string { return e.err.Error() }
func (e *sourceError) Unwrap() error { return e.err }

// connectBy is how long a platform may take to be reached, and to agree on TLS.
const connectBy = 10 * time.Second

// startBy is how long the camera may take to play.
const startBy = 20 * time.Second

// takeAndSend takes the stream and sends it until the stream or the connection ends.
func (x *pusher) takeAndSend(ctx context.Context) error {
	x.is(Connecting, "")
	starting, done := context.WithTimeout(ctx, startBy)
	defer done()
	c, err := x.push.Take(starting)
	if err != nil {
		return &sourceError{err}
	}
	defer c.Close()
	out, err := newSending(c.Tracks(), x.push.Silence)
	if err != nil {
		return &sourceError{err}
	}
	pub, err := rtmp.Publish(ctx, dialer{x.push}, x.push.To, x.push.Key.Reveal())
	if err != nil {
		return err
	}
	defer pub.Close()
	for list := []fanout.Packet(nil); ; {
		if list, err = c.Next(ctx, list[:0]); err != nil {
			return &sourceError{err}
		}
		before := out.pictures
		for _, p := range list {
			if err := out.packet(pub, p); err != nil {
				return err
			}
		}
		if out.pictures > before {
			if before == 0 {
				x.is(Sending, "")
			}
			x.mu.Lock()
			x.status.Pictures = out.pictures
			x.mu.Unlock()
		}
	}
}

// dialer opens the connection to a platform, with TLS where its address says so.
type dialer struct{ push Push }

func (d dialer) DialContext(ctx context.Context, network, at string) (net.Conn, error) {
	ctx, done := context.WithTimeout(ctx, connectBy)
	defer done()
	conn, err := d.push.Dial.DialContext(ctx, network, at)
	if err != nil || !d.push.To.Secure {
		return conn, err
	}
	host, _, _ := net.SplitHostPort(at)
	secure, shown, err := certificate.Agree(ctx, conn, host, "", nil)
	if err != nil {
		return nil, err
	}
	known := shown.VouchedFor(host)
	if d.push.Pin != "" {
		known = shown.SHA256 == d.push.Pin
	}
	if !known {
		secure.Close()
		return nil, &TLSError{*shown}
	}
	return secure, nil
}
