package rtsp

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"unlatch/core/ground/streamurl"
)

// A tunnelConn is RTSP within HTTP: what the device sends comes as the body of a GET that does not end, what is sent goes base64-coded
// in the body of a POST. Both carry the same x-sessioncookie.
type tunnelConn struct {
	net.Conn // of the GET
	r        *bufio.Reader
	post     net.Conn
	mu       sync.Mutex
}

func (t *tunnelConn) Read(b []byte) (int, error) { return t.r.Read(b) }

func (t *tunnelConn) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if _, err := io.WriteString(t.post, base64.StdEncoding.EncodeToString(b)); err != nil {
		return 0, err
	}
	return len(b), nil
}

func (t *tunnelConn) SetWriteDeadline(at time.Time) error { return t.post.SetWriteDeadline(at) }

func (t *tunnelConn) Close() error {
	t.post.Close()
	return t.Conn.Close()
}

// tunnel opens both halves; get is the first, connected already. The POST is opened once the GET was answered.
func (c *Conn) tunnel(ctx context.Context, get net.Conn, u streamurl.URL) (net.Conn, error) {
	id := cookie()
	target := u.Target()
	if target == "" {
		target = "/"
	}
	get.SetDeadline(time.Now().Add(c.opt.Timeout))
	defer get.SetDeadline(time.Time{})
	const both = "%s %s HTTP/1.0\r\nHost: %s\r\nUser-Agent: Unlatch\r\nx-sessioncookie: %s\r\nPragma: no-cache\r\nCache-Control: no-cache\r\n"
	ask := fmt.Sprintf(both+"Accept: application/x-rtsp-tunnelled\r\n\r\n", "GET", target, u.HostPort(), id)
	c.opt.Log.Sent(ask)
	if _, err := io.WriteString(get, ask); err != nil {
		get.Close()
		return nil, err
	}
	r := bufio.NewReaderSize(get, 64<<10)
	if err := c.tunnelAnswer(get, r); err != nil {
		get.Close()
		return nil, err
	}
	post, err := c.traffic.Watch(c.opt.Dial.DialContext)(ctx, "tcp", u.HostPort())
	if err == nil && u.Scheme == "rtsps" {
		post, err = c.secure(ctx, post, u.Host)
	}
	if err != nil {
		get.Close()
		return nil, err
	}
	post.SetWriteDeadline(time.Now().Add(c.opt.Timeout))
	// The length stands for "long": the body ends when the session does.
	say := fmt.Sprintf(both+"Content-Type: application/x-rtsp-tunnelled\r\nContent-Length: 32767\r\n\r\n", "POST", target, u.HostPort(), id)
	c.opt.Log.Sent(say)
	if _, err := io.WriteString(post, say); err != nil {
		get.Close()
		post.Close()
		return nil, err
	}
	return &tunnelConn{Conn: get, r: r, post: post}, nil
}

// cookie returns a name that nobody guesses.
func cookie() string {
	raw := make([]byte, 16)
	rand.Read(raw)
	return hex.EncodeToString(raw)
}

// maxTunnelHead bounds the head of the answer to the GET.
const maxTunnelHead = 16 << 10

// tunnelAnswer reads the head of the answer to the GET, and leaves the reader where RTSP begins.
func (c *Conn) tunnelAnswer(get net.Conn, r *bufio.Reader) error {
	var head []byte
	for !bytes.HasSuffix(head, []byte("\r\n\r\n")) {
		b, err := r.ReadByte()
		if err != nil {
			return fmt.Errorf("the device closed the connection while the answer to the tunnel's GET was due: %w", err)
		}
		if head = append(head, b); len(head) > maxTunnelHead {
			return &LimitError{What: "the tunnel's head", Limit: maxTunnelHead}
		}
	}
	c.opt.Log.Got(string(head))
	res, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(head)), nil)
	if err != nil {
		return &ProtocolError{Problem: "the answer to the tunnel's GET cannot be read"}
	}
	res.Body.Close()
	if res.StatusCode != http.StatusOK || res.Header.Get("Content-Type") != "application/x-rtsp-tunnelled" {
		return &NoTunnelError{Status: res.StatusCode}
	}
	return nil
}

// A NoTunnelError means that a web server does not carry RTSP.
type NoTunnelError struct{ Status int }

func (e *NoTunnelError) Error() string {
	return fmt.Sprintf("the web port carries no RTSP (the tunnel's GET was answered with %d)", e.Status)
}
