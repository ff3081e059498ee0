package link

import (
	"bufio"
	"compress/flate"
	"io"
	"net"
	"sync"
)

// packed compresses what goes over a connection (RFC 1951), each piece for itself as far as the other side waits for it: what goes over a
// link is text for the most part, and lines are slow. No secret is in it that is not encrypted already, so that its length tells nothing of
// one.
type packed struct {
	net.Conn
	in  io.Reader
	mu  sync.Mutex // guards what follows
	out *flate.Writer
	buf *bufio.Writer // between out and the connection
}

// pack returns the connection as both sides use it from now on.
func pack(conn net.Conn) (net.Conn, error) {
	p := &packed{Conn: conn, in: flate.NewReader(bufio.NewReader(conn)), buf: bufio.NewWriterSize(conn, 32<<10)}
	var err error
	p.out, err = flate.NewWriter(p.buf, flate.BestSpeed)
	return p, err
}

// Read implements net.Conn.
func (p *packed) Read(b []byte) (int, error) { return p.in.Read(b) }

// Write implements net.Conn. The other side can read all of b when it returns.
func (p *packed) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	n, err := p.out.Write(b)
	if err == nil {
		err = p.out.Flush()
	}
	if err == nil {
		err = p.buf.Flush()
	}
	return n, err
}
