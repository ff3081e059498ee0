// Package forward hands connections of workers elsewhere to the server's own PostgreSQL, and to nothing else: the server signs in there
// itself, so that a worker has neither an address nor a password of it.
package forward

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
)

// Bounds of a forwarded connection.
const (
	startBy = 15 * time.Second // for the first message, and for the database to answer
	// mostConnections is how many one worker has at a time.
	mostConnections = 48
)

// allowed are the settings that a connection may begin with (PostgreSQL's protocol, §55.2.1); all others are left out.
var allowed = []string{"application_name", "client_encoding", "timezone", "TimeZone", "DateStyle", "IntervalStyle", "extra_float_digits",
	"plan_cache_mode"}

// A Worker hands on the connections of one worker. It is safe for concurrent use.
type Worker struct {
	config *pgconn.Config

	mu      sync.Mutex
	open    int
	cancels map[cancelKey]bool // of the connections that are open
}

// cancelKey is what a query of a connection is cancelled by.
type cancelKey struct {
	pid    uint32
	secret string
}

// New prepares to hand on connections to the database of a URL, where the worker is signed in by a role and a password of its own.
func New(url, role, password string) (*Worker, error) {
	cfg, err := pgconn.ParseConfig(url)
	if err != nil {
		return nil, errors.New("the address of the database cannot be read") // its own error may hold the password
	}
	cfg.User, cfg.Password = role, password
	return &Worker{config: cfg, cancels: map[cancelKey]bool{}}, nil
}

// ErrTooMany is for one connection too many of a worker.
var ErrTooMany = errors.New("this worker has as many connections to the database as it may")

// Serve hands one connection on until either side ends it.
func (w *Worker) Serve(ctx context.Context, conn net.Conn) error {
	conn.SetDeadline(time.Now().Add(startBy))
	back := pgproto3.NewBackend(conn, conn)
	for range 3 { // asking for encryption comes before the start
		first, err := back.ReceiveStartupMessage()
		if err != nil {
			return err
		}
		switch m := first.(type) {
		case *pgproto3.SSLRequest, *pgproto3.GSSEncRequest:
			if _, err := conn.Write([]byte{'N'}); err != nil { // the link is encrypted
				return err
			}
		case *pgproto3.CancelRequest:
			return w.cancel(ctx, m)
		case *pgproto3.StartupMessage:
			return w.start(ctx, conn, back, m)
		}
	}
	return errors.New("a connection that never starts")
}

// start signs in at the database for a worker, and joins the two connections.
func (w *Worker) start(ctx context.Context, conn net.Conn, back *pgproto3.Backend, m *pgproto3.StartupMessage) error {
	if name := m.Parameters["database"]; name != "" && name != w.config.Database {
		return refuse(back, "3D000", "only the server's own database is reached by this connection")
	}
	w.mu.Lock()
	full := w.open >= mostConnections
	if !full {
		w.open++
	}
	w.mu.Unlock()
	if full {
		refuse(back, "53300", ErrTooMany.Error())
		return ErrTooMany
	}
	defer func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.open--
	}()
	cfg := w.config.Copy()
	cfg.RuntimeParams = maps.Clone(cfg.RuntimeParams)
	for name, value := range m.Parameters {
		if slices.Contains(allowed, name) {
			cfg.RuntimeParams[name] = value
		}
	}
	begin, done := context.WithTimeout(ctx, startBy)
	server, err := pgconn.ConnectConfig(begin, cfg)
	if err == nil {
		// Where writing took long, what reads beside it may still be reading, and would take the answer to the worker's first question.
		err = server.SyncConn(begin)
	}
	done()
	if err != nil {
		refuse(back, "08006", "the database does not answer")
		return err
	}
	h, err := server.Hijack()
	if err != nil {
		return err
	}
	defer h.Conn.Close()
	key := cancelKey{h.PID, string(h.SecretKey)}
	w.mu.Lock()
	w.cancels[key] = true
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.cancels, key)
	}()
	back.Send(&pgproto3.AuthenticationOk{})
	for name, value := range h.ParameterStatuses {
		back.Send(&pgproto3.ParameterStatus{Name: name, Value: value})
	}
	back.Send(&pgproto3.BackendKeyData{ProcessID: h.PID, SecretKey: h.SecretKey})
	back.Send(&pgproto3.ReadyForQuery{TxStatus: h.TxStatus})
	if err := back.Flush(); err != nil {
		return err
	}
	conn.SetDeadline(time.Time{})
	return join(ctx, conn, h.Conn)
}

// join carries bytes both ways until one side ends, or ctx does.
func join(ctx context.Context, a, b net.Conn) error {
	both := func() {
		a.Close()
		b.Close()
	}
	stop := context.AfterFunc(ctx, both)
	defer stop()
	ended := make(chan error, 2)
	for _, way := range [][2]net.Conn{{a, b}, {b, a}} {
		go func() {
			_, err := io.Copy(way[0], way[1])
			both()
			ended <- err
		}()
	}
	err := <-ended
	<-ended
	if errors.Is(err, net.ErrClosed) {
		err = nil
	}
	return err
}

// cancel cancels a query of one of the worker's own connections, and of no other's.
func (w *Worker) cancel(ctx context.Context, m *pgproto3.CancelRequest) error {
	w.mu.Lock()
	own := w.cancels[cancelKey{m.ProcessID, string(m.SecretKey)}]
	w.mu.Unlock()
	if !own {
		return fmt.Errorf("asks for the queries of connection %d to be cancelled, which is not its own", m.ProcessID)
	}
	ctx, done := context.WithTimeout(ctx, startBy)
	defer done()
	network, at := pgconn.NetworkAddress(w.config.Host, w.config.Port)
	conn, err := w.config.DialFunc(ctx, network, at)
	if err != nil {
		return err
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(startBy))
	const code = 80877102 // CancelRequest (PostgreSQL's protocol, §55.7)
	raw := binary.BigEndian.AppendUint32(nil, uint32(12+len(m.SecretKey)))
	raw = binary.BigEndian.AppendUint32(raw, code)
	raw = binary.BigEndian.AppendUint32(raw, m.ProcessID)
	if _, err := conn.Write(append(raw, m.SecretKey...)); err != nil {
		return err
	}
	io.Copy(io.Discard, conn) // it closes when it has been heard
	return nil
}

// refuse tells the worker that it gets no connection.
func refuse(back *pgproto3.Backend, code, text string) error {
	back.Send(&pgproto3.ErrorResponse{Severity: "FATAL", Code: code, Message: text})
	back.Flush()
	return errors.New(text)
}
