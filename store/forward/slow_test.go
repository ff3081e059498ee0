package forward

import (
	"context"
	"net"
	"testing"
	"time"
)

// A slowConn is a connection on which the answer is there before writing has ended, as on a machine that has much to do.
type slowConn struct {
	net.Conn
	left *int // writes that are still slow: those of signing in
}

func (c slowConn) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	if *c.left > 0 {
		*c.left--
		time.Sleep(50 * time.Millisecond)
	}
	return n, err
}

// SlowDown has a worker's connections to the database write slowly while they sign in.
func SlowDown(t *testing.T, w *Worker) {
	t.Helper()
	dial := w.config.DialFunc
	w.config.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		left := 3
		return slowConn{conn, &left}, err
	}
}
