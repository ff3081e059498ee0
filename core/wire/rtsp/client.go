package rtsp

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
)

// An AuthError is a refusal for want of a sign-in that the device takes.
type AuthError struct {
	Tried   bool     // a sign-in was sent and refused; false when there was none to send
	Scheme  string   // the scheme it was sent with
	Offered []string // what the device offers
	Realm   string
	Status  int
}

func (e *AuthError) Error() string {
	if !e.Tried {
		return fmt.Sprintf("the stream wants a sign-in (%s) and none was given", strings.Join(e.Offered, ", "))
	}
	return fmt.Sprintf("the device refuses this sign-in for its streams (%d, %s)", e.Status, e.Scheme)
}

// A StatusError is any other answer than success.
type StatusError struct {
	Method string
	Status int
	Reason string
}

func (e *StatusError) Error() string {
	return fmt.Sprintf("%s was answered with %d %s", e.Method, e.Status, e.Reason)
}

// A SilentError means that the connection was taken and what was waited for did not come.
type SilentError struct {
	Waiting  string // what for
	After    time.Duration
	Bytes    int64 // that came meanwhile and were no whole answer
	Requests int   // of the device's own that came in place of an answer
	Others   int   // answers to something that was not asked
	Frames   int   // interleaved packets that came in place of an answer
	Playing  bool  // PLAY was accepted, so that packets were due
}

func (e *SilentError) Error() string {
	switch {
	case e.Requests > 0:
		return fmt.Sprintf("the device sent %d requests of its own within %s and did not answer (waiting for %s)", e.Requests, e.After,
			e.Waiting)
	case e.Others > 0:
		return fmt.Sprintf("the device sent %d answers within %s, none of them to what was asked: their CSeq is another's (waiting for %s)",
			e.Others, e.After, e.Waiting)
	case e.Frames > 0:
		return fmt.Sprintf("the device sent %d packets within %s and did not answer (waiting for %s)", e.Frames, e.After, e.Waiting)
	case e.Bytes > 0:
		return fmt.Sprintf("the device sent %d bytes within %s and did not finish (waiting for %s)", e.Bytes, e.After, e.Waiting)
	}
	return fmt.Sprintf("the device took the connection and sent nothing within %s (waiting for %s)", e.After, e.Waiting)
}

// Options of a client connection. The zero value of each field but Dial is usable.
type Options struct {
	Dial    address.Dialer
	SignIn  signin.SignIn
	Leave   signin.Leave  // is asked before the sign-in goes out; nil lets no readable one out
	Timeout time.Duration // for one answer; 0 means 5 s
	Log     *exchange.Log // nil records nothing
	// Transport is how the packets shall come; "" means TCP.
	Transport Transport
	// Pin is the SHA-256 of the certificate that the device showed before, in hex; "" takes any and says which it was.
	Pin string
	// Replay asks for what was recorded; nil for a live stream.
	Replay *Replay
	// OnFrame receives each RTP and RTCP packet by its channel: interleaved frames (RFC 2326 §10.12), also those that come between a request
	// and its answer, and datagrams. The payload is valid only during the call.
	OnFrame func(channel byte, payload []byte, at time.Time)
}

// A Conn is one RTSP connection with at most one session. It is not safe for concurrent use.
type Conn struct {
	opt     Options
	url     streamurl.URL
	conn    net.Conn
	r       *bufio.Reader
	cseq    int
	auth    *httpauth.Answer
	opened  bool        // the device has taken the sign-in
	judged  func(error) // is told how the device judges the sign-in that goes out next; nil when it is known
	traffic exchange.Traffic
	served  int // requests of the device's own that were answered
	session string
	timeout time.Duration // of the session, as the device announced it
	Server  string        // the device's Server line, once seen
	frame   []byte
	// Certificate is what the device showed, of a connection over TLS.
	Certificate *certificate.Certificate
	// Group is the first group that the device has named, of a multicast session.
	Group   netip.AddrPort
	udp     *datagrams
	readBy  limit
	writeBy limit
}

// A limit is a deadline that is set on a connection. Setting one wakes the poller of the whole process, which costs as much as an
// exchange: one that is a little later than asked for will do.
type limit struct{ at time.Time }

// set moves the deadline to at, or up to slack later.
func (l *limit) set(at time.Time, slack time.Duration, to func(time.Time) error) {
	if d := l.at.Sub(at); d >= 0 && d <= slack {
		return
	}
	l.at = at.Add(slack)
	to(l.at)
}

// A Transport is how the packets of a stream come.
type Transport string

const (
	TCP       Transport = "tcp"         // interleaved with the requests (RFC 2326 §10.12)
	UDP       Transport = "udp"         // datagrams to this machine (RFC 2326 §12.39)
	Multicast Transport = "multicast"   // datagrams to a group
	Tunnel    Transport = "http tunnel" // interleaved, within two HTTP connections
)

// Dial connects to the host of u. Its sign-in is used where opt.SignIn has none.
func Dial(ctx context.Context, u streamurl.URL, opt Options) (*Conn, error) {
	if opt.Timeout == 0 {
		opt.Timeout = 5 * time.Second
	}
	if opt.SignIn.Anonymous() {
		opt.SignIn = u.SignIn
	}
	if u.Scheme != "rtsp" && u.Scheme != "rtsps" {
		return nil, &streamurl.SyntaxError{Problem: "it begins with " + u.Scheme + "://",
			Fix: "a stream that is played by RTSP begins with rtsp:// or rtsps://"}
	}
	opt.Log.Know(opt.SignIn)
	c := &Conn{opt: opt, timeout: 60 * time.Second}
	return c, c.connect(ctx, u)
}

func (c *Conn) connect(ctx context.Context, u streamurl.URL) error {
	conn, err := c.traffic.Watch(c.opt.Dial.DialContext)(ctx, "tcp", u.HostPort())
	if err != nil {
		c.opt.Log.Note("connecting to %s failed: %v", u.HostPort(), err)
		return fmt.Errorf("connecting to %s: %w", u.HostPort(), err)
	}
	c.opt.Log.Note("connected to %s", u.HostPort())
	if u.Scheme == "rtsps" {
		if conn, err = c.secure(ctx, conn, u.Host); err != nil {
			return err
		}
	}
	if c.opt.Transport == Tunnel {
		if conn, err = c.tunnel(ctx, conn, u); err != nil {
			return err
		}
	}
	c.readBy, c.writeBy = limit{}, limit{}
	c.conn, c.url, c.r = conn, u, bufio.NewReaderSize(conn, 64<<10)
	return nil
}

// Close ends the connection; a session should be ended by Teardown first.
func (c *Conn) Close() error {
	if c.udp != nil {
		c.udp.close()
	}
	if c.conn == nil {
		return nil
	}
	return c.conn.Close()
}

// Do sends one request and returns its answer, signing in where the device asks for it. A status of 400 and above
// is returned as an *AuthError or *StatusError together with the response.
func (c *Conn) Do(ctx context.Context, method, target string, extra ...Field) (*Response, error) {
	renewed := false // a nonce is renewed once for each request
	for {
		signed := c.auth != nil
		res, err := c.roundTrip(ctx, method, target, extra)
		if err != nil {
			c.tell(err)
			return nil, err
		}
		if res.Status >= 400 {
			if err := signin.LockedOut(signed && !c.opened, res.Status, res.Header.Get("Retry-After"), res.Reason, time.Now()); err != nil {
				c.tell(err)
				return res, err
			}
		}
		c.opened = c.opened || signed && res.Status < 400
		switch {
		case res.Status == 401:
			if err := c.answer(ctx, res, signed, renewed); err != nil {
				return res, err
			}
			renewed = signed
			continue
		case res.Status < 500:
			c.tell(nil) // the sign-in was taken, whatever else is the matter
		default:
			c.tell(&StatusError{Method: method, Status: res.Status, Reason: res.Reason})
		}
		switch {
		case res.Status >= 400:
			return res, &StatusError{Method: method, Status: res.Status, Reason: res.Reason}
		default:
			return res, nil
		}
	}
}

// tell passes on how the device has judged the sign-in that went out last.
func (c *Conn) tell(err error) {
	if c.judged != nil {
		c.judged(err)
		c.judged = nil
	}
}

// answer prepares the next try after a 401, or says why there is none. A sign-in is sent once: again only when the
// device says that nothing but the nonce was too old.
func (c *Conn) answer(ctx context.Context, res *Response, signed, renewed bool) error {
	offered := httpauth.ParseChallenges(res.Header.Values("WWW-Authenticate"))
	refusal := &AuthError{Tried: signed, Status: res.Status}
	for _, o := range offered {
		refusal.Offered = append(refusal.Offered, o.Name())
	}
	best, err := httpauth.Choose(offered)
	if err != nil {
		c.tell(err)
		return errors.Join(err, refusal)
	}
	refusal.Scheme, refusal.Realm = best.Name(), best.Realm()
	if c.opt.SignIn.Anonymous() || signed && (!c.auth.OutOfDate(best) || best.Name() != c.auth.Scheme()) || renewed {
		c.tell(refusal)
		return refusal
	}
	c.tell(signin.ErrStale)
	if c.judged, err = c.opt.Leave.Ask(ctx, signin.Sending{Scheme: best.Name(), Channel: c.channel(), Renewed: signed}); err != nil {
		c.judged = nil
		c.opt.Log.Note("the sign-in is not sent: %v", err)
		return err
	}
	c.auth = httpauth.NewAnswer(best, c.opt.SignIn.User, c.opt.SignIn.Secret.Reveal())
	return nil
}

// channel returns where requests go.
func (c *Conn) channel() signin.Channel {
	out := signin.Channel{Scheme: c.url.Scheme, At: c.url.HostPort()}
	if c.url.Scheme == "rtsps" && c.Certificate != nil {
		out.Certificate = c.Certificate.SHA256
	}
	return out
}

// Auth names the scheme that opened the stream; "none" where it is open to anyone.
func (c *Conn) Auth() string {
	if c.auth == nil {
		return "none"
	}
	return c.auth.Scheme()
}

func (c *Conn) roundTrip(ctx context.Context, method, target string, extra []Field) (*Response, error) {
	if err := c.send(method, target, extra); err != nil {
		return nil, err
	}
	deadline := time.Now().Add(c.opt.Timeout)
	since, served := c.traffic.Mark(), c.served
	others, frames := 0, 0
	for {
		res, err := c.next(ctx, deadline, "the answer to "+method)
		var silent *SilentError
		if errors.As(err, &silent) {
			silent.Bytes, silent.Requests, silent.Others, silent.Frames = since.Bytes(), c.served-served, others, frames-(c.served-served)
		}
		if err != nil {
			return nil, err
		}
		if res == nil { // an interleaved frame, or a request of the device's own
			frames++
			continue
		}
		if seq := res.Header.Get("CSeq"); seq != "" && seq != strconv.Itoa(c.cseq) {
			others++
			continue // the late answer to an earlier request
		}
		if s := res.Header.Get("Server"); s != "" {
			c.Server = clip(s)
		}
		return res, nil
	}
}

func (c *Conn) send(method, target string, extra []Field) error {
	c.cseq++
	q := Request{Method: method, URL: target, Header: make(Header, 0, 8)}
	q.Header.Add("CSeq", strconv.Itoa(c.cseq))
	q.Header.Add("User-Agent", "Unlatch")
	if c.session != "" {
		q.Header.Add("Session", c.session)
	}
	if c.auth != nil {
		q.Header.Add("Authorization", c.auth.Header(method, target))
	}
	q.Header = append(q.Header, extra...)
	raw := q.Bytes()
	if c.opt.Log != nil {
		c.opt.Log.Sent(string(raw))
	}
	c.writeBy.set(time.Now().Add(c.opt.Timeout), c.opt.Timeout/8, c.conn.SetWriteDeadline)
	if _, err := c.conn.Write(raw); err != nil {
		return fmt.Errorf("sending %s: %w", method, err)
	}
	return nil
}

// next reads one message. It returns nil, nil for an interleaved frame (handed to OnFrame) and for a request of
// the server's own, which is answered.
func (c *Conn) next(ctx context.Context, deadline time.Time, waiting string) (*Response, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if d, ok := ctx.Deadline(); ok && d.Before(deadline) {
		deadline = d
	}
	c.readBy.set(deadline, c.opt.Timeout/8, c.conn.SetReadDeadline)
	stop := context.AfterFunc(ctx, func() { c.conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	res, err := c.read()
	switch {
	case err == nil:
		return res, nil
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.Is(err, os.ErrDeadlineExceeded):
		c.opt.Log.Note("nothing came (waiting for %s)", waiting)
		return nil, &SilentError{Waiting: waiting, After: c.opt.Timeout, Playing: waiting == "packets"}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		c.opt.Log.Note("the device closed the connection (waiting for %s)", waiting)
		return nil, fmt.Errorf("the device closed the connection while %s was due: %w", waiting, io.ErrUnexpectedEOF)
	}
	c.opt.Log.Note("%v", err)
	return nil, err
}

func (c *Conn) read() (*Response, error) {
	first, err := c.r.Peek(1)
	if err != nil {
		return nil, err
	}
	if first[0] == '$' {
		return nil, c.readFrame()
	}
	// "RTSP" begins an answer; anything else upper case is a request of the server's own.
	if head, _ := c.r.Peek(5); len(head) == 5 && string(head) != "RTSP/" && string(head) != "HTTP/" && isMethod(head) {
		q, err := ReadRequest(c.r)
		if err != nil {
			return nil, err
		}
		c.opt.Log.Got(string(q.Bytes()))
		c.served++
		reply := Response{Status: 200, Reason: "OK", Header: Header{{"CSeq", q.Header.Get("CSeq")}}}
		_, err = c.conn.Write(reply.Bytes())
		return nil, err
	}
	res, err := ReadResponse(c.r)
	if err == nil && c.opt.Log != nil {
		c.opt.Log.Got(string(res.Bytes()))
	}
	return res, err
}

func isMethod(b []byte) bool {
	for _, c := range b {
		if (c < 'A' || c > 'Z') && c != '_' && c != ' ' {
			return false
		}
	}
	return true
}

func (c *Conn) readFrame() error {
	var head [4]byte
	if _, err := io.ReadFull(c.r, head[:]); err != nil {
		return err
	}
	n := int(binary.BigEndian.Uint16(head[2:]))
	if cap(c.frame) < n {
		c.frame = make([]byte, 64<<10)
	}
	if _, err := io.ReadFull(c.r, c.frame[:n]); err != nil {
		return err
	}
	if c.opt.OnFrame != nil {
		c.opt.OnFrame(head[1], c.frame[:n], time.Now())
	}
	return nil
}
