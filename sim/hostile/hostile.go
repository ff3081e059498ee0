// Package hostile is the devices that nobody wants to meet: they drip, flood, lie, loop and beg for passwords. They ship with the product
// as a kept suite: whatever once broke it stands here, with what has to come of it.
//
// A device is a TCP server on a loopback address that speaks just enough of a protocol to do its harm. What it was sent is kept, so that a
// test can look for secrets in it.
package hostile

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"strings"
	"sync"
	"time"
	"unlatch/core/ground/trouble"
)

// A Speech is which client a device is for.
type Speech string

const (
	DeviceService Speech = "device service"
	Streams       Speech = "streams"
	Web           Speech = "web"
)

// A Device is one of them.
type Device struct {
	Name   string
	Speaks Speech
	// Want is the diagnosis that has to come of it; "" where the work goes on all the same.
	Want trouble.Cause
	// serve answers on one connection until it is closed; n counts connections from 1.
	serve func(c *conn, n int)
}

// conn is one connection with a reader, and with what its peer needs to answer.
type conn struct {
	net.Conn
	r    *bufio.Reader
	stop <-chan struct{}
}

// A Running is a device that serves.
type Running struct {
	Device
	Addr string // host and port
	l    net.Listener
	stop chan struct{}
	wg   sync.WaitGroup
	mu   sync.Mutex
	got  bytes.Buffer
	open map[net.Conn]bool
}

// Start serves a device on an address, such as 127.48.1.7; the port is chosen.
func (d Device) Start(host string) (*Running, error) { return d.StartAt(host + ":0") }

// StartAt serves a device on an address and port.
func (d Device) StartAt(addr string) (*Running, error) {
	l, err := net.Listen("tcp4", addr)
	if err != nil {
		return nil, err
	}
	return d.on(l), nil
}

// StartTLS serves a device over TLS, with a certificate that it has made for itself.
func (d Device) StartTLS(host string) (*Running, error) {
	l, err := net.Listen("tcp4", host+":0")
	if err != nil {
		return nil, err
	}
	return d.on(tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{certificate(time.Now().UnixNano())}})), nil
}

// on serves a device on a listener.
func (d Device) on(l net.Listener) *Running {
	r := &Running{Device: d, Addr: l.Addr().String(), l: l, stop: make(chan struct{}), open: map[net.Conn]bool{}}
	r.wg.Go(func() {
		for n := 1; ; n++ {
			c, err := l.Accept()
			if err != nil {
				return
			}
			r.mu.Lock()
			r.open[c] = true
			r.mu.Unlock()
			r.wg.Go(func() {
				defer c.Close()
				d.serve(&conn{c, bufio.NewReader(io.TeeReader(c, r)), r.stop}, n)
			})
		}
	})
	return r
}

// Write keeps what a peer has sent, up to a megabyte.
func (r *Running) Write(b []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.got.Len() < 1<<20 {
		r.got.Write(b)
	}
	return len(b), nil
}

// Got is everything that was sent to the device.
func (r *Running) Got() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.got.String()
}

// Stop ends the device.
func (r *Running) Stop() {
	close(r.stop)
	r.l.Close()
	r.mu.Lock()
	for c := range r.open {
		c.Close()
	}
	r.mu.Unlock()
	r.wg.Wait()
}

// request reads the head of one request, HTTP or RTSP, with its body, and returns its method, its CSeq and its head.
func (c *conn) request() (method, cseq string, head textproto.MIMEHeader, ok bool) {
	t := textproto.NewReader(c.r)
	line, err := t.ReadLine()
	if err != nil {
		return "", "", nil, false
	}
	head, err = t.ReadMIMEHeader()
	if err != nil {
		return "", "", nil, false
	}
	n := 0
	fmt.Sscan(head.Get("Content-Length"), &n)
	if _, err := c.r.Discard(n); err != nil {
		return "", "", nil, false
	}
	method, _, _ = strings.Cut(line, " ")
	return method, head.Get("CSeq"), head, true
}

// say writes text and reports whether it went out.
func (c *conn) say(text string) bool {
	_, err := io.WriteString(c, text)
	return err == nil
}

// forever writes text again and again.
func (c *conn) forever(text string) {
	big := []byte(strings.Repeat(text, 1+(32<<10)/len(text)))
	for {
		if _, err := c.Write(big); err != nil {
			return
		}
	}
}

// drip writes a byte at a time, slower than anybody waits.
func (c *conn) drip(text string) {
	for i := 0; ; i = (i + 1) % len(text) {
		if !c.say(text[i : i+1]) {
			return
		}
		select {
		case <-c.stop:
			return
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// hold says nothing until the peer has enough.
func (c *conn) hold() { io.Copy(io.Discard, c.r) }

// each answers every request with what answer makes of it; "" is no answer.
func (c *conn) each(answer func(method, cseq string, head textproto.MIMEHeader) string) {
	for {
		method, cseq, head, ok := c.request()
		if !ok {
			return
		}
		if text := answer(method, cseq, head); text != "" && !c.say(text) {
			return
		}
	}
}

// All returns every hostile device.
func All() []Device {
	return append(append(deviceServices(), streams()...), webs()...)
}
