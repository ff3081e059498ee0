// Package link is the one connection that a worker elsewhere has with its server, and what goes over it. The worker opens it and proves who
// it is; then both open streams on it, each of a kind: connections to the database, live pictures. What carries it is the caller's: a
// WebSocket to the server's own port.
package link

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"sync/atomic"
	"time"

	"github.com/hashicorp/yamux"

	"unlatch/core/ground/pairing"
	"unlatch/core/ground/wiretext"
)

// A Kind says what a stream is for.
type Kind byte

// The kinds of streams.
const (
	Database Kind = 'd' // opened by the worker: the protocol of PostgreSQL
	Pictures Kind = 'p' // opened by the worker: live pictures, which the server asks for on it
)

// Protocol is the version of what is said on a link. A server speaks with workers of its own version and of the one before.
const Protocol = 2

// packs is the first version in which what follows the agreement is compressed.
const packs = 2

// Bounds of a link.
const (
	maxWord = 16 << 10 // bytes of one message while the link begins
	wordBy  = 15 * time.Second
	// mostStreams is how many streams of a worker a server has open at a time.
	mostStreams = 48
	window      = 256 << 10 // bytes of one stream that are under way
	beat        = 20 * time.Second
	writeBy     = 30 * time.Second
)

// A Hello is what a worker says of itself.
type Hello struct {
	Worker   string `json:"worker"` // its ID
	Protocol int    `json:"protocol"`
	Version  string `json:"version"`
	Machine  string `json:"machine"`
}

// A Refusal is why a server takes no link, and what to do.
type Refusal struct {
	Problem string `json:"problem"`
	Fix     string `json:"fix"`
	// Final says that asking again does not help: the worker stops.
	Final bool `json:"final,omitempty"`
}

func (e *Refusal) Error() string { return e.Problem + " " + e.Fix }

// challenge is the server's first word, proof the worker's answer, and verdict what the server says to that.
type (
	challenge struct {
		Nonce []byte `json:"nonce"`
	}
	proof struct {
		Hello     string `json:"hello"` // as it was signed: a Hello in JSON
		Nonce     []byte `json:"nonce"`
		Signature []byte `json:"signature"`
	}
	verdict struct {
		Refusal *Refusal `json:"refusal,omitempty"`
	}
)

// A Link is a connection that both sides have agreed on. It is safe for concurrent use.
type Link struct {
	mux  *yamux.Session
	open atomic.Int32 // streams of the other side
}

func config() *yamux.Config {
	c := yamux.DefaultConfig()
	c.AcceptBacklog, c.KeepAliveInterval, c.ConnectionWriteTimeout = 64, beat, writeBy
	c.MaxStreamWindowSize, c.LogOutput = window, io.Discard
	return c
}

// Begin is the worker's side: it proves on conn who it is, by the key of its pairing. conn is closed after an error, which is a *Refusal
// where the server has said no.
func Begin(ctx context.Context, conn net.Conn, key pairing.Key, hello Hello) (*Link, error) {
	hello.Protocol = Protocol
	return begin(ctx, conn, key, hello)
}

// begin is Begin for a worker that speaks the version that its hello names.
func begin(ctx context.Context, conn net.Conn, key pairing.Key, hello Hello) (l *Link, err error) {
	defer closeUnless(&err, conn, ctx)()
	conn.SetDeadline(time.Now().Add(wordBy))
	var asked challenge
	if err := hear(conn, &asked); err != nil {
		return nil, err
	}
	if len(asked.Nonce) != pairing.NonceSize {
		return nil, errors.New("what answers is no server that links begin with")
	}
	text, err := json.Marshal(hello)
	if err != nil {
		return nil, err
	}
	own := pairing.Nonce()
	if err := say(conn, proof{string(text), own, key.Sign(asked.Nonce, own, string(text))}); err != nil {
		return nil, err
	}
	var v verdict
	if err := hear(conn, &v); err != nil {
		return nil, err
	}
	if v.Refusal != nil {
		v.Refusal.Problem, v.Refusal.Fix = wiretext.Line(v.Refusal.Problem, 500), wiretext.Line(v.Refusal.Fix, 500)
		return nil, v.Refusal
	}
	conn.SetDeadline(time.Time{})
	if hello.Protocol >= packs {
		if conn, err = pack(conn); err != nil {
			return nil, err
		}
	}
	mux, err := yamux.Client(conn, config())
	if err != nil {
		return nil, err
	}
	return &Link{mux: mux}, nil
}

// A Door decides who is let in.
type Door interface {
	// Key returns the key of the worker that somebody says to be; nil where there is none of that ID.
	Key(ctx context.Context, h Hello) (pairing.Public, error)
	// Admit is asked once somebody has proven to be that worker. A *Refusal is told to it.
	Admit(ctx context.Context, h Hello) error
}

// errStranger is told to whoever proves nothing: whether there is a worker of that ID is nobody's business.
var errStranger = &Refusal{Problem: "This server does not know this worker.", Fix: "Pair it: unlatch worker pair", Final: true}

// Accept is the server's side. conn is closed after an error.
func Accept(ctx context.Context, conn net.Conn, door Door) (l *Link, h Hello, err error) {
	defer closeUnless(&err, conn, ctx)()
	conn.SetDeadline(time.Now().Add(wordBy))
	asked := challenge{pairing.Nonce()}
	if err := say(conn, asked); err != nil {
		return nil, h, err
	}
	var p proof
	if err := hear(conn, &p); err != nil {
		return nil, h, err
	}
	if err := json.Unmarshal([]byte(p.Hello), &h); err != nil {
		return nil, h, refuse(conn, errStranger)
	}
	h.Machine, h.Version = wiretext.Line(h.Machine, 100), wiretext.Line(h.Version, 50)
	key, err := door.Key(ctx, h)
	if err != nil {
		return nil, h, err
	}
	if !key.Verify(asked.Nonce, p.Nonce, p.Hello, p.Signature) {
		return nil, h, refuse(conn, errStranger)
	}
	if h.Protocol < Protocol-1 || h.Protocol > Protocol {
		says := fmt.Sprintf("This worker speaks version %d of the link, and this server versions %d and %d.", h.Protocol, Protocol-1, Protocol)
		return nil, h, refuse(conn, &Refusal{Problem: says, Fix: "Install the version of the server on it.", Final: true})
	}
	if err := door.Admit(ctx, h); err != nil {
		if no := (*Refusal)(nil); errors.As(err, &no) {
			refuse(conn, no)
		}
		return nil, h, err
	}
	if err := say(conn, verdict{}); err != nil {
		return nil, h, err
	}
	conn.SetDeadline(time.Time{})
	if h.Protocol >= packs {
		if conn, err = pack(conn); err != nil {
			return nil, h, err
		}
	}
	mux, err := yamux.Server(conn, config())
	if err != nil {
		return nil, h, err
	}
	return &Link{mux: mux}, h, nil
}

func refuse(conn net.Conn, no *Refusal) error {
	say(conn, verdict{no})
	return no
}

// closeUnless closes conn where ctx ends before the link has begun, and where it could not begin.
func closeUnless(err *error, conn net.Conn, ctx context.Context) (end func()) {
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	return func() {
		stop()
		if *err != nil {
			conn.Close()
		}
	}
}

// say writes one message: its length in two bytes, and JSON.
func say(w io.Writer, v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, err = w.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(raw))), raw...))
	return err
}

func hear(r io.Reader, v any) error {
	var head [2]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return err
	}
	n := binary.BigEndian.Uint16(head[:])
	if n > maxWord {
		return errors.New("a message that is too long")
	}
	raw := make([]byte, n)
	if _, err := io.ReadFull(r, raw); err != nil {
		return err
	}
	return json.Unmarshal(raw, v)
}

// Open opens a stream of a kind.
func (l *Link) Open(kind Kind) (net.Conn, error) {
	s, err := l.mux.OpenStream()
	if err != nil {
		return nil, err
	}
	if _, err := s.Write([]byte{byte(kind)}); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Serve hands each stream that the other side opens to the handler of its kind, in a goroutine of its own, until the link ends. It closes
// the stream when the handler returns, one of another kind at once, and those above what is allowed at a time.
func (l *Link) Serve(handlers map[Kind]func(net.Conn)) error {
	for {
		s, err := l.mux.AcceptStream()
		if err != nil {
			return err
		}
		if l.open.Add(1) > mostStreams {
			l.open.Add(-1)
			s.Close()
			continue
		}
		go func() {
			defer l.open.Add(-1)
			defer s.Close()
			var kind [1]byte
			s.SetReadDeadline(time.Now().Add(wordBy))
			if _, err := io.ReadFull(s, kind[:]); err != nil {
				return
			}
			s.SetReadDeadline(time.Time{})
			if h := handlers[Kind(kind[0])]; h != nil {
				h(s)
			}
		}()
	}
}

// Ping returns how long an answer takes.
func (l *Link) Ping() (time.Duration, error) { return l.mux.Ping() }

// Done is closed when the link has ended.
func (l *Link) Done() <-chan struct{} { return l.mux.CloseChan() }

// Close ends the link with all its streams.
func (l *Link) Close() error { return l.mux.Close() }
