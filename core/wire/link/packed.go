package link

import (
	"bufio"
	"compress/flate"
	"io"
	"net"
	"sync"
)

// packed is a connection whose bytes are compressed (RFC 1951). What goes over a link is mostly text, and lines are slow. Every secret in
// it is encrypted before, so that the length of what is sent tells nothing of it.
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
