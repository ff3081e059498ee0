package rtsp

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
)

// A Description is the answer to DESCRIBE: the SDP and the base against which its control URLs are resolved.
type Description struct {
	SDP  []byte
	Base string
}

// Describe asks for the stream's description (RFC 2326 §10.2) and follows up to three redirects; every one of them passes
// the dialer and with it the scope guard.
func (c *Conn) Describe(ctx context.Context) (*Description, error) {
	for hops := 0; ; hops++ {
		res, err := c.Do(ctx, "DESCRIBE", c.url.String(), append(c.opt.Replay.required(), Field{"Accept", "application/sdp"})...)
		if err != nil {
			return nil, err
		}
		if res.Status >= 300 {
			if err := c.follow(ctx, res, hops); err != nil {
				return nil, err
			}
			continue
		}
		base := c.url.String()
		for _, name := range []string{"Content-Location", "Content-Base"} {
			if v := res.Header.Get(name); strings.Contains(v, "://") {
				base = v
			}
		}
		return &Description{SDP: res.Body, Base: base}, nil
	}
}

// A DowngradeError is a redirect out of TLS. It is not followed: whoever stands between could have sent it.
type DowngradeError struct{ To string }

func (e *DowngradeError) Error() string {
	return "a redirect out of TLS, to " + e.To + ", is not followed"
}

func (c *Conn) follow(ctx context.Context, res *Response, hops int) error {
	to, err := streamurl.Parse(res.Header.Get("Location"))
	if err == nil && c.url.Scheme == "rtsps" && to.Scheme != "rtsps" {
		return &DowngradeError{To: to.String()}
	}
	if err != nil || to.Scheme != "rtsp" && to.Scheme != c.url.Scheme || hops >= 3 {
		return &StatusError{Method: "DESCRIBE", Status: res.Status, Reason: res.Reason + " (a redirect that leads nowhere)"}
	}
	c.opt.Log.Note("redirected to %s", to)
	c.conn.Close()
	c.auth, c.opened = nil, false
	if to.Host != c.url.Host {
		c.opt.SignIn = signin.SignIn{} // a sign-in goes to the device that it is for, and to no other
		c.opt.Log.Note("the sign-in is not sent to %s", to.Host)
	}
	to.SignIn = signin.SignIn{}
	return c.connect(ctx, to)
}

// Setup asks for one track over channels rtp and rtp+1 (RFC 2326 §10.4) and returns the pair that the device gave, which may differ
// where the packets are interleaved. Datagrams are handed to OnFrame by the channels that were asked for.
func (c *Conn) Setup(ctx context.Context, control string, rtp byte) (byte, error) {
	transport := fmt.Sprintf("RTP/AVP/TCP;unicast;interleaved=%d-%d", rtp, rtp+1)
	if c.opt.Transport == UDP || c.opt.Transport == Multicast {
		var err error
		if transport, err = c.openDatagrams(rtp); err != nil {
			return 0, err
		}
	}
	res, err := c.Do(ctx, "SETUP", control, append(c.opt.Replay.required(), Field{"Transport", transport})...)
	if err != nil {
		return 0, err
	}
	id, params, _ := strings.Cut(res.Header.Get("Session"), ";")
	if id = strings.TrimSpace(id); id != "" {
		c.session = id
	}
	if v, ok := strings.CutPrefix(strings.TrimSpace(params), "timeout="); ok {
		if s, err := strconv.Atoi(strings.TrimSpace(v)); err == nil && s >= 2 && s <= 3600 {
			c.timeout = time.Duration(s) * time.Second
		}
	}
	if c.udp != nil {
		return rtp, c.takeDatagrams(rtp, res.Header.Get("Transport"))
	}
	for _, part := range strings.Split(res.Header.Get("Transport"), ";") {
		if v, ok := strings.CutPrefix(strings.ToLower(strings.TrimSpace(part)), "interleaved="); ok {
			low, _, _ := strings.Cut(v, "-")
			if n, err := strconv.ParseUint(low, 10, 8); err == nil {
				return byte(n), nil
			}
		}
	}
	return rtp, nil
}

// Play starts the session (RFC 2326 §10.5), a recording at the moment that was asked for. base is the description's base.
func (c *Conn) Play(ctx context.Context, base string) error {
	_, err := c.Do(ctx, "PLAY", base, c.opt.Replay.playing()...)
	return err
}

// Await waits for the first packet of a session by datagrams, which Run then hands on; that the device says it plays does not mean that
// its datagrams arrive. None within the answer timeout is a *SilentError. Interleaved packets need no such proof: it returns at once.
func (c *Conn) Await(ctx context.Context) error {
	if c.udp == nil {
		return nil
	}
	for end := time.Now().Add(c.opt.Timeout); !c.udp.any(); {
		ready, err := c.wait(ctx)
		switch {
		case err != nil:
			return err
		case ready:
			if _, err := c.next(ctx, end, "packets"); err != nil {
				return err
			}
		case time.Now().After(end):
			c.opt.Log.Note("no packets")
			return &SilentError{Waiting: "packets after PLAY", After: c.opt.Timeout, Playing: true}
		}
	}
	return nil
}

// Run reads packets until done reports true, ctx ends or an error comes, and keeps the session alive. done is asked
// after each packet and at least every 200 ms. No packet within the answer timeout is a *SilentError.
func (c *Conn) Run(ctx context.Context, base string, done func() bool) error {
	alive := time.Now()
	heard := time.Now()
	for !done() {
		if time.Since(alive) > c.timeout/2 {
			alive = time.Now()
			if err := c.send("GET_PARAMETER", base, nil); err != nil {
				return err
			}
		}
		if c.udp != nil && c.udp.deliver(c.opt.OnFrame) {
			heard = time.Now()
		}
		for c.frameBuffered() && !done() {
			if err := c.readFrame(); err != nil {
				return err
			}
			heard = time.Now()
		}
		if c.r.Buffered() == 0 {
			ready, err := c.wait(ctx)
			if err != nil {
				return err
			}
			if !ready {
				if time.Since(heard) > c.opt.Timeout {
					c.opt.Log.Note("no packets")
					return &SilentError{Waiting: "packets after PLAY", After: c.opt.Timeout, Playing: true}
				}
				continue
			}
		}
		if _, err := c.next(ctx, time.Now().Add(c.opt.Timeout), "packets"); err != nil {
			return err
		}
		if c.udp == nil {
			heard = time.Now()
		}
	}
	return nil
}

// frameBuffered reports whether an interleaved frame has come as a whole, so that reading it waits for nothing.
func (c *Conn) frameBuffered() bool {
	n := c.r.Buffered()
	if n < frameHead {
		return false
	}
	head, err := c.r.Peek(frameHead)
	return err == nil && head[0] == '$' && n >= frameHead+int(binary.BigEndian.Uint16(head[2:]))
}

// frameHead is the length of the head of an interleaved frame (RFC 2326 §10.12).
const frameHead = 4

// wait blocks until something can be read, for at most 200 ms, without taking it. Where packets come as datagrams they are looked for
// in between.
func (c *Conn) wait(ctx context.Context) (bool, error) {
	if err := ctx.Err(); err != nil {
		return false, err
	}
	patience := 200 * time.Millisecond
	if c.udp != nil {
		if c.udp.wait(patience) {
			return false, nil
		}
		patience = time.Millisecond
	}
	c.readBy = limit{}
	c.conn.SetReadDeadline(time.Now().Add(patience))
	_, err := c.r.Peek(1)
	switch {
	case err == nil:
		return true, nil
	case errors.Is(err, os.ErrDeadlineExceeded):
		return false, nil
	case errors.Is(err, io.EOF):
		return false, fmt.Errorf("the device closed the connection while packets were due: %w", io.ErrUnexpectedEOF)
	}
	return false, err
}

// Teardown ends the session politely (RFC 2326 §10.7): devices count sessions and run out of them. Frames still on
// their way are read past.
func (c *Conn) Teardown(base string) {
	if c.session == "" || c.conn == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	c.opt.OnFrame = nil
	c.Do(ctx, "TEARDOWN", base)
	c.session = ""
}
