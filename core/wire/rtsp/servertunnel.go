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
	in       *io.PipeReader
	feed     *io.PipeWriter
}

func (t *serverTunnel) Read(b []byte) (int, error) { return t.in.Read(b) }

func (t *serverTunnel) SetReadDeadline(time.Time) error { return nil }

func (t *serverTunnel) Close() error {
	t.feed.Close()
	return t.Conn.Close()
}

// ServeHTTP carries a session within HTTP: the GET begins it, the POST with the same x-sessioncookie completes it.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	id := r.Header.Get("x-sessioncookie")
	if id == "" {
		http.NotFound(w, r)
		return
	}
	if r.Method == http.MethodPost {
		s.mu.Lock()
		half := s.tunnels[id]
		delete(s.tunnels, id)
		s.mu.Unlock()
		conn, rest, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		if half == nil {
			return
		}
		decodeTunnel(rest.Reader, half.feed)
		return
	}
	conn, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	conn.SetDeadline(time.Time{})
	half := &serverTunnel{Conn: conn}
	half.in, half.feed = io.Pipe()
	// It is known before the GET is answered: the POST may follow on the answer's heels.
	s.mu.Lock()
	if s.tunnels == nil {
		s.tunnels = map[string]*serverTunnel{}
	}
	s.tunnels[id] = half
	s.mu.Unlock()
	io.WriteString(conn, "HTTP/1.0 200 OK\r\nServer: "+oneLine.Replace(s.Name)+
		"\r\nContent-Type: application/x-rtsp-tunnelled\r\nCache-Control: no-cache\r\n\r\n")
	// The request's own context ends with the hijacking: Close is what ends the session.
	s.serve(context.Background(), half)
	s.mu.Lock()
	delete(s.tunnels, id)
	s.mu.Unlock()
}

// decodeTunnel decodes what comes in groups of four characters, since each request is padded for itself.
func decodeTunnel(r *bufio.Reader, to *io.PipeWriter) {
	group := make([]byte, 4)
	for {
		if _, err := io.ReadFull(r, group); err != nil {
			to.Close()
			return
		}
		var out [3]byte
		n, err := base64.StdEncoding.Decode(out[:], group)
		if err != nil {
			to.CloseWithError(err)
			return
		}
		if _, err := to.Write(out[:n]); err != nil {
			return
		}
	}
}
