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
	if r.Method == http.MethodPost {
		defer conn.Close()
		if half := s.takeTunnel(id); half != nil {
			half.complete(conn, rest.Reader)
		}
		return
	}
	if half, end, ok := s.beginTunnel(id, conn); ok {
		defer end()
		s.answerTunnel(conn)
		// The request's own context ends with the hijacking: Close is what ends the session.
		s.serve(context.Background(), half)
	} else {
		conn.Close()
	}
}

// tunnelled takes one half of a session within HTTP on the port of the streams.
func (s *Server) tunnelled(ctx context.Context, conn net.Conn, r *bufio.Reader) {
	q, err := readTunnelHead(r)
	id := ""
	if err == nil {
		id = q.Header.Get("x-sessioncookie")
	}
	const no = "HTTP/1.0 404 Not Found\r\nConnection: close\r\n\r\n"
	switch {
	case id == "" || len(id) > 200:
		io.WriteString(conn, no)
	case q.Method == http.MethodPost:
		if half := s.takeTunnel(id); half != nil {
			half.complete(conn, r)
		} else {
			io.WriteString(conn, no)
		}
	default:
		half, end, ok := s.beginTunnel(id, conn)
		if !ok {
			io.WriteString(conn, no)
			return
		}
		defer end()
		s.answerTunnel(conn)
		s.view(ctx, half)
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
