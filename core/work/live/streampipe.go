package live

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync"
	"time"
)

// A StreamPipe is a Pipe over a connection that carries bytes: each message with its length in four bytes before it.
type StreamPipe struct {
	conn net.Conn
	send sync.Mutex
}

// NewStreamPipe returns a pipe over a connection. Closing that ends it.
func NewStreamPipe(conn net.Conn) *StreamPipe { return &StreamPipe{conn: conn} }

// Bounds of a message.
const (
	maxPiece = MaxPiped
	pieceBy  = 15 * time.Second
)

var errPiece = errors.New("a message that is longer than any picture")

// Send implements Pipe.
func (p *StreamPipe) Send(_ context.Context, b []byte) error {
	if len(b) > maxPiece {
		return errPiece
	}
	p.send.Lock()
	defer p.send.Unlock()
	p.conn.SetWriteDeadline(time.Now().Add(pieceBy))
	head := binary.BigEndian.AppendUint32(make([]byte, 0, 4+len(b)), uint32(len(b)))
	_, err := p.conn.Write(append(head, b...))
	return err
}

// Receive implements Pipe.
func (p *StreamPipe) Receive(ctx context.Context) ([]byte, error) {
	stop := context.AfterFunc(ctx, func() { p.conn.SetReadDeadline(time.Now()) })
	defer stop()
	var head [4]byte
	if _, err := io.ReadFull(p.conn, head[:]); err != nil {
		return nil, err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n > maxPiece {
		return nil, errPiece
	}
	b := make([]byte, n)
	_, err := io.ReadFull(p.conn, b)
	return b, err
}
