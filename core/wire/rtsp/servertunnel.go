package rtsp

import (
	"bufio"
	"context"
	"encoding/base64"
	"io"
	"net"
	"net/http"
	"time"
)

// A serverTunnel is the server's side of RTSP within HTTP: what is sent is the body of the GET, what comes is the body of the POST.
type serverTunnel struct {
	net.Conn // of the GET
	in, feed net.Conn
	over     chan struct{} // closed when the session has ended
}

func (t *serverTunnel) Read(b []byte) (int, error) { return t.in.Read(b) }

func (t *serverTunnel) SetReadDeadline(at time.Time) error { return t.in.SetReadDeadline(at) }

func (t *serverTunnel) Close() error {
	t.in.Close()
	t.feed.Close()
	return t.Conn.Close()
}

// beginTunnel begins a session on the connection of a GET. It is known before the GET is answered: the POST may follow on the answer's
// heels. ok is false where there is one of that cookie already.
func (s *Server) beginTunnel(id string, conn net.Conn) (half *serverTunnel, end func(), ok bool) {
	conn.SetDeadline(time.Time{})
	half = &serverTunnel{Conn: conn, over: make(chan struct{})}
	half.in, half.feed = net.Pipe()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.tunnels == nil {
		s.tunnels = map[string]*serverTunnel{}
	}
	if s.tunnels[id] != nil {
		return nil, nil, false
	}
	s.tunnels[id] = half
	return half, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.tunnels[id] == half {
			delete(s.tunnels, id)
		}
		half.Close()
		close(half.over)
	}, true
}

// answerTunnel answers a GET.
func (s *Server) answerTunnel(conn net.Conn) {
	io.WriteString(conn, "HTTP/1.0 200 OK\r\nServer: "+oneLine.Replace(s.Name)+
		"\r\nContent-Type: application/x-rtsp-tunnelled\r\nCache-Control: no-cache\r\n\r\n")
}

// complete hands on what comes on the connection of a POST, until the session ends.
func (t *serverTunnel) complete(conn net.Conn, r *bufio.Reader) {
	conn.SetReadDeadline(time.Time{})
	done := make(chan struct{})
	defer close(done)
	go func() {
		select {
		case <-t.over:
		case <-done:
		}
		conn.Close()
	}()
	decodeTunnel(r, t.feed)
}

// takeTunnel returns the session that a POST completes, or nil.
func (s *Server) takeTunnel(id string) *serverTunnel {
	s.mu.Lock()
	defer s.mu.Unlock()
	half := s.tunnels[id]
	delete(s.tunnels, id)
	return half
}

// half takes one half of a session within HTTP: a GET begins the session, which serve speaks until it ends, and the POST of the same cookie
// completes it. taken is false for a POST of nothing, and for a GET whose cookie is in use.
func (s *Server) half(method, id string, conn net.Conn, r *bufio.Reader, serve func(net.Conn)) (taken bool) {
	if method == http.MethodPost {
		half := s.takeTunnel(id)
		if half == nil {
			return false
		}
		half.complete(conn, r)
		return true
	}
	half, end, ok := s.beginTunnel(id, conn)
	if !ok {
		return false
	}
	defer end()
	s.answerTunnel(conn)
	serve(half)
	return true
}

// ServeHTTP carries a session within HTTP: the GET begins it, the POST with the same x-sessioncookie completes it.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	id := r.Header.Get("x-sessioncookie")
	if id == "" {
		http.NotFound(w, r)
		return
	}
	conn, rest, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer conn.Close()
	// The request's own context ends with the hijacking: Close is what ends the session.
	s.half(r.Method, id, conn, rest.Reader, func(c net.Conn) { s.serve(context.Background(), c) })
}

// maxCookie bounds the name that a client gives a session, in bytes.
const maxCookie = 200

// tunnelled takes one half of a session within HTTP on the port of the streams.
func (s *Server) tunnelled(ctx context.Context, conn net.Conn, r *bufio.Reader) {
	q, err := readTunnelHead(r)
	id := ""
	if err == nil {
		id = q.Header.Get("x-sessioncookie")
	}
	known := id != "" && len(id) <= maxCookie
	if !known || !s.half(q.Method, id, conn, r, func(c net.Conn) { s.view(ctx, c) }) {
		io.WriteString(conn, "HTTP/1.0 404 Not Found\r\nConnection: close\r\n\r\n")
	}
}

// decodeTunnel decodes what comes in groups of four characters, since each request is padded for itself.
func decodeTunnel(r *bufio.Reader, to net.Conn) {
	group := make([]byte, 4)
	for {
		if _, err := io.ReadFull(r, group); err != nil {
			to.Close()
			return
		}
		var out [3]byte
		n, err := base64.StdEncoding.Decode(out[:], group)
		if err != nil {
			to.Close()
			return
		}
		if _, err := to.Write(out[:n]); err != nil {
			return
		}
	}
}
