package exchange

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"sync/atomic"
	"time"
)

// Traffic counts what comes in over a client's connections, so that a device which answers too slowly is told from one that
// does not answer. The zero value is ready.
type Traffic struct {
	opened atomic.Int64
	bytes  atomic.Int64
}

// A DialFunc opens connections, as net.Dialer.DialContext does.
type DialFunc func(ctx context.Context, network, address string) (net.Conn, error)

// Watch returns dial with its connections counted.
func (t *Traffic) Watch(dial DialFunc) DialFunc {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		t.opened.Add(1)
		return countingConn{c, t}, nil
	}
}

type countingConn struct {
	net.Conn
	t *Traffic
}

func (c countingConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.t.bytes.Add(int64(n))
	return n, err
}

// Mark remembers how much has come so far.
func (t *Traffic) Mark() Since { return Since{t, t.bytes.Load(), time.Now()} }

// Since is the traffic after a mark.
type Since struct {
	t     *Traffic
	bytes int64
	at    time.Time
}

// Bytes returns how many came since the mark.
func (s Since) Bytes() int64 { return s.t.bytes.Load() - s.bytes }

// Explain says more of an error where time ran out: a *SlowError when something came meanwhile, a *MuteError when a connection
// was open and nothing came. Any other error is returned as it is.
func (s Since) Explain(err error, waiting string) error {
	var ne net.Error
	if err == nil || !errors.Is(err, context.DeadlineExceeded) && !errors.Is(err,
		os.ErrDeadlineExceeded) && !(errors.As(err, &ne) && ne.Timeout()) {
		return err
	}
	after := time.Since(s.at).Round(100 * time.Millisecond)
	switch n := s.Bytes(); {
	case n > 0:
		return &SlowError{Waiting: waiting, Bytes: n, After: after}
	case s.t.opened.Load() > 0:
		return &MuteError{Waiting: waiting, After: after}
	}
	return err
}

// A SlowError means that an answer began and was not finished in time.
type SlowError struct {
	Waiting string // what for
	Bytes   int64  // that came
	After   time.Duration
}

func (e *SlowError) Error() string {
	return fmt.Sprintf("the device sent %d bytes in %s and did not finish %s", e.Bytes, e.After, e.Waiting)
}

// Timeout marks it as running out of time for package net.
func (e *SlowError) Timeout() bool { return true }

// A MuteError means that the connection was taken and nothing came over it.
type MuteError struct {
	Waiting string
	After   time.Duration
}

func (e *MuteError) Error() string {
	return fmt.Sprintf("the device took the connection and sent nothing within %s (waiting for %s)", e.After, e.Waiting)
}

// Timeout marks it as running out of time for package net.
func (e *MuteError) Timeout() bool { return true }
