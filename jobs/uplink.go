package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"

	"unlatch/core/ground/pairing"
	"unlatch/core/ground/wiretext"
	"unlatch/core/wire/link"
	"unlatch/core/work/live"
)

// An Uplink is the one connection that a paired worker has with its server. It is made by NewUplink, kept by Run, and safe for concurrent
// use.
type Uplink struct {
	to    ServerAddress
	key   pairing.Key
	hello link.Hello
	log   *slog.Logger

	mu      sync.Mutex
	now     *link.Link    // nil while there is none
	changed chan struct{} // closed when now changes
	refused error         // for which the server lets it in no more
	since   time.Time     // of now, or of when there was none any more
	problem string        // for which there is none
}

// An UplinkState is how the connection of a paired worker stands.
type UplinkState struct {
	Server    string    `json:"server"` // host, with the port where it is another than usual
	Connected bool      `json:"connected"`
	Since     time.Time `json:"since"`
	DelayMS   float64   `json:"delay_ms,omitempty"` // how long an answer of the server takes
	Problem   string    `json:"problem,omitempty"`  // for which it is not connected
}

// State asks how the connection stands; the server's answer is waited for where there is one.
func (u *Uplink) State() UplinkState {
	u.mu.Lock()
	l, out := u.now, UplinkState{Server: u.to.URL.Host, Connected: u.now != nil, Since: u.since, Problem: u.problem}
	u.mu.Unlock()
	if l == nil {
		return out
	}
	delay, err := l.Ping()
	if err != nil {
		out.Connected, out.Problem = false, "The server does not answer."
	}
	out.DelayMS = float64(delay.Microseconds()) / 1000
	return out
}

// An InsecureError says that a server's address would send everything readable.
type InsecureError struct{ Server string }

func (e *InsecureError) Error() string {
	return e.Server + " is no https address: all that the worker does would go readable over the network"
}

// ReadServer reads the address of a server that a machine is paired with. http is for this machine alone.
func ReadServer(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return nil, fmt.Errorf("%q is no address of a server, such as https://bench.example", text)
	}
	if ip := net.ParseIP(u.Hostname()); u.Scheme == "http" && (ip == nil || !ip.IsLoopback()) {
		return nil, &InsecureError{text}
	}
	return u, nil
}

// NewUplink prepares the connection of an identity.
func NewUplink(i pairing.Identity, hello link.Hello, log *slog.Logger) (*Uplink, error) {
	u, err := ReadServer(i.Server)
	if err != nil {
		return nil, err
	}
	hello.Worker = i.Worker
	return &Uplink{to: ServerAddress{URL: u, Fingerprint: i.Fingerprint}, key: i.Key(), hello: hello, log: log,
		changed: make(chan struct{}), since: time.Now(), problem: "It has not been reached yet."}, nil
}

// Bounds of a link.
const (
	uplinkBy       = 20 * time.Second
	mostUplinkWait = 30 * time.Second
	uplinkMessage  = 1 << 20
)

// Run keeps the link until ctx ends, or until the server lets this worker in no more: then it returns a *link.Refusal.
func (u *Uplink) Run(ctx context.Context) error {
	for n := 0; ; n++ {
		began := time.Now()
		err := u.runLink(ctx)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if no := (*link.Refusal)(nil); errors.As(err, &no) && no.Final {
			u.set(nil, no)
			return no
		}
		if time.Since(began) > time.Minute {
			n = 0
		}
		u.mu.Lock()
		u.problem = wiretext.Line(err.Error(), 300)
		u.mu.Unlock()
		u.log.Warn("the server is not reached at the moment", "server", u.to.URL.Host, "err", err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(min(time.Second<<min(n, 5), mostUplinkWait)):
		}
	}
}

// runLink connects to the server and serves the link until it ends.
func (u *Uplink) runLink(ctx context.Context) error {
	at := *u.to.URL
	at.Scheme = strings.Replace(at.Scheme, "http", "ws", 1)
	dial, cancel := context.WithTimeout(ctx, uplinkBy)
	defer cancel()
	ws, _, err := websocket.Dial(dial, at.JoinPath(pairing.LinkPath).String(), &websocket.DialOptions{HTTPClient: u.to.client(),
		CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return err
	}
	defer ws.CloseNow()
	ws.SetReadLimit(uplinkMessage)
	l, err := link.Begin(dial, websocket.NetConn(ctx, ws, websocket.MessageBinary), u.key, u.hello)
	if err != nil {
		return err
	}
	defer l.Close()
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	u.log.Info("the server is reached", "server", u.to.URL.Host)
	u.set(l, nil)
	defer u.set(nil, nil)
	return l.Serve(nil)
}

func (u *Uplink) set(l *link.Link, refused error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.now, u.refused, u.since = l, refused, time.Now()
	if l != nil {
		u.problem = ""
	}
	close(u.changed)
	u.changed = make(chan struct{})
}

// open opens a stream of a kind, and waits for a link where there is none.
func (u *Uplink) open(ctx context.Context, kind link.Kind) (net.Conn, error) {
	for {
		u.mu.Lock()
		l, refused, changed := u.now, u.refused, u.changed
		u.mu.Unlock()
		if refused != nil {
			return nil, refused
		}
		if l != nil {
			if c, err := l.Open(kind); err == nil {
				return c, nil
			}
			l.Close() // it has ended
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return nil, fmt.Errorf("the server is not reached: %w", ctx.Err())
		}
	}
}

// Dial opens a connection to the server's database. It has the form of a dialer of pgconn; where it is told to connect to is not asked.
func (u *Uplink) Dial(ctx context.Context, _, _ string) (net.Conn, error) {
	return u.open(ctx, link.Database)
}

// SendPicturesOver sends the streams that people look at at the server, over the link, until ctx ends.
func (w *Workers) SendPicturesOver(ctx context.Context, u *Uplink) {
	for n := 0; ctx.Err() == nil; n++ {
		if err := w.sendPicturesOver(ctx, u); err != nil && ctx.Err() == nil {
			w.env.log.Debug("pictures cannot be sent to the server at the moment", "err", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(min(n+1, 10)) * time.Second):
		}
	}
}

func (w *Workers) sendPicturesOver(ctx context.Context, u *Uplink) error {
	lease, ok := w.env.held()
	if !ok {
		return errors.New("the database is away")
	}
	c, err := u.open(ctx, link.Pictures)
	if err != nil {
		return err
	}
	defer c.Close()
	pipe := live.NewStreamPipe(c)
	if err := pipe.Send(ctx, []byte(lease.Worker)); err != nil {
		return err
	}
	return w.servePictures(ctx, pipe)
}

// Ask asks a server to pair this machine, and returns the code that a person is to type there and what its answer is waited for by.
func Ask(ctx context.Context, to ServerAddress, a pairing.Ask) (out pairing.Asked, err error) {
	return askServer(ctx, to, http.MethodPost, "", a)
}

// Confirmed returns the worker that this machine has become, "" while nobody has confirmed it. It is the answer to the token of Ask.
func Confirmed(ctx context.Context, to ServerAddress, token string) (pairing.Asked, error) {
	return askServer(ctx, to, http.MethodGet, token, nil)
}
