package rtsp

import (
	"bufio"
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"
)

// A Server serves live streams: interleaved, by datagrams, to groups, and within HTTP (see ServeHTTP). Handler must be set before the
// first call of Serve.
type Server struct {
	Name    string // the Server line of its answers
	Handler Handler
	// Takes reports whether the server sends over the transport that a SETUP asks for; nil takes all but groups.
	Takes func(transport string) bool
	// Group is the multicast group of a stream's track and the TTL to send with; nil for a server that sends to none.
	Group func(s Stream, track int) (to *net.UDPAddr, ttl int)
	// Sessions bounds the sessions at a time: 0 for no bound, below 0 for none at all.
	Sessions int
	// Connections bounds the connections at a time, and those from one address; 0 for no bound.
	Connections, FromOne int
	// Tunnels takes RTSP within HTTP on the port of the streams as well.
	Tunnels bool
	// FirstBy is how long a connection may take for its first request; 0 means 90 s, as for every other.
	FirstBy time.Duration
	// Patience is how long a viewer may take nothing of what is sent to it, before it is let go; 0 means 5 s.
	Patience time.Duration

	mu       sync.Mutex
	sessions int
	conns    map[io.Closer]bool
	from     map[string]int           // connections by address
	tunnels  map[string]*serverTunnel // that wait for their other half, by cookie
	closed   bool
	wg       sync.WaitGroup
}

// A Handler is what stands behind a Server.
type Handler interface {
	// Request is asked before the server answers a request. It may answer itself, by Viewer.Reply, and reports whether it did: a refusal,
	// a redirect.
	Request(v *Viewer, q *Request) (answered bool)
	// Stream finds the stream, and the track where it names one, by a request's URL. Tracks count from 1; 0 is the whole stream.
	Stream(url string) (s Stream, track int, ok bool)
}

// A Stream is one live stream of a Server. Its SDP names track n by the control URL "track<n>".
type Stream interface {
	SDP() string
	// Send sends packets until ctx ends or the sink reports an error. Every viewer has a call of its own.
	Send(ctx context.Context, to *Sink)
}

// A Viewer is one connection with at most one session.
type Viewer struct {
	// State is the Handler's own.
	State    any
	server   *Server
	conn     net.Conn
	session  string
	admitted bool
	stream   Stream
	sink     *Sink
	playing  context.CancelFunc
	done     chan struct{}
}

// Serve takes connections until the listener is closed, whose error it returns.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	if !s.track(l) {
		l.Close()
		return net.ErrClosed
	}
	defer s.forget(l)
	for {
		c, err := l.Accept()
		if err != nil {
			return err
		}
		go s.serve(ctx, c)
	}
}

// serve speaks with one viewer until it leaves.
func (s *Server) serve(ctx context.Context, c net.Conn) {
	defer c.Close()
	if !s.track(c) {
		return
	}
	defer s.forget(c)
	leave, ok := s.let(c)
	if !ok {
		return
	}
	defer leave()
	if s.Tunnels {
		r := bufio.NewReaderSize(c, 16<<10)
		c.SetReadDeadline(time.Now().Add(cmp.Or(s.FirstBy, idle)))
		if first, _ := r.Peek(4); string(first) == "GET " || string(first) == "POST" {
			s.tunnelled(ctx, c, r)
			return
		}
		c = readerConn{c, r}
	}
	s.view(ctx, c)
}

// idle is how long a connection may say nothing.
const idle = 90 * time.Second

// readerConn is a connection of which something was read already.
type readerConn struct {
	net.Conn
	r *bufio.Reader
}

func (c readerConn) Read(b []byte) (int, error) { return c.r.Read(b) }

// view speaks RTSP with one viewer until it leaves.
func (s *Server) view(ctx context.Context, c net.Conn) {
	v := &Viewer{server: s, conn: c, session: cookie()[:12], sink: newSink(c, cmp.Or(s.Patience, 5*time.Second))}
	v.run(ctx)
}

// let counts a connection against the bounds.
func (s *Server) let(c net.Conn) (leave func(), ok bool) {
	host, _, _ := net.SplitHostPort(c.RemoteAddr().String())
	s.mu.Lock()
	defer s.mu.Unlock()
	all := 0
	for _, n := range s.from {
		all += n
	}
	if s.Connections > 0 && all >= s.Connections || s.FromOne > 0 && s.from[host] >= s.FromOne {
		return nil, false
	}
	if s.from == nil {
		s.from = map[string]int{}
	}
	s.from[host]++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.from[host]--; s.from[host] == 0 {
			delete(s.from, host)
		}
	}, true
}

// Close ends the listeners and the sessions, and waits for them.
func (s *Server) Close() error {
	s.mu.Lock()
	s.closed = true
	for c := range s.conns {
		c.Close()
	}
	s.mu.Unlock()
	s.wg.Wait()
	return nil
}

// Drop ends every connection and goes on serving.
func (s *Server) Drop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.conns {
		if conn, ok := c.(net.Conn); ok {
			conn.Close()
		}
	}
}

// track remembers what Close has to close, and reports false after it.
func (s *Server) track(c io.Closer) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return false
	}
	if s.conns == nil {
		s.conns = map[io.Closer]bool{}
	}
	s.conns[c] = true
	s.wg.Add(1)
	return true
}

func (s *Server) forget(c io.Closer) {
	s.mu.Lock()
	delete(s.conns, c)
	s.mu.Unlock()
	s.wg.Done()
}

// Viewers returns the number of sessions that are set up.
func (s *Server) Viewers() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.sessions
}

// admit counts a new session against the limit.
func (s *Server) admit() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.Sessions < 0 || s.Sessions > 0 && s.sessions >= s.Sessions {
		return false
	}
	s.sessions++
	return true
}

// Reply answers a request; nil stands for one that could not be read.
func (v *Viewer) Reply(q *Request, status int, reason string, fields ...Field) {
	v.reply(q, status, reason, nil, fields...)
}

func (v *Viewer) reply(q *Request, status int, reason string, body []byte, fields ...Field) {
	p := Response{Status: status, Reason: reason, Body: body}
	if q != nil {
		p.Header.Add("CSeq", q.Header.Get("CSeq"))
	}
	p.Header.Add("Server", v.server.Name)
	p.Header = append(p.Header, fields...)
	v.sink.write(p.Bytes())
}

// Drop ends the connection without an answer.
func (v *Viewer) Drop() { v.conn.Close() }

// From returns the address that the viewer is at.
func (v *Viewer) From() string { return v.sink.From() }

// run reads requests, and passes over what else a viewer sends: its RTCP.
func (v *Viewer) run(ctx context.Context) {
	defer v.halt()
	r := bufio.NewReaderSize(v.conn, 16<<10)
	for wait := cmp.Or(v.server.FirstBy, idle); ; wait = idle {
		v.conn.SetReadDeadline(time.Now().Add(wait))
		first, err := r.Peek(1)
		if err != nil {
			return
		}
		if first[0] == '$' {
			head, err := r.Peek(4)
			if err != nil {
				return
			}
			if _, err := r.Discard(4 + int(binary.BigEndian.Uint16(head[2:]))); err != nil {
				return
			}
			continue
		}
		q, err := ReadRequest(r)
		if err != nil {
			v.Reply(nil, 400, "Bad Request")
			return
		}
		if !v.server.Handler.Request(v, q) && !v.handle(ctx, q) {
			return
		}
	}
}

// halt stops sending and gives the session back.
func (v *Viewer) halt() {
	if v.playing != nil {
		v.playing()
		<-v.done
		v.playing = nil
	}
	v.sink.closeSockets()
	if v.admitted {
		v.admitted = false
		v.server.mu.Lock()
		v.server.sessions--
		v.server.mu.Unlock()
	}
}

// handle answers a request that the Handler left to the server, and reports whether the connection goes on.
func (v *Viewer) handle(ctx context.Context, q *Request) bool {
	switch q.Method {
	case "OPTIONS":
		v.Reply(q, 200, "OK", Field{"Public", "OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN, GET_PARAMETER"})
	case "DESCRIBE":
		v.describe(q)
	case "SETUP":
		v.setup(q)
	case "PLAY":
		v.play(ctx, q)
	case "GET_PARAMETER":
		v.Reply(q, 200, "OK", Field{"Session", v.session})
	case "TEARDOWN":
		v.halt()
		v.Reply(q, 200, "OK")
		return false
	default:
		v.Reply(q, 501, "Not Implemented")
	}
	return true
}

func (v *Viewer) describe(q *Request) {
	stream, _, ok := v.server.Handler.Stream(q.URL)
	if !ok {
		v.Reply(q, 404, "Not Found")
		return
	}
	v.reply(q, 200, "OK", []byte(stream.SDP()), Field{"Content-Type", "application/sdp"},
		Field{"Content-Base", strings.TrimSuffix(q.URL, "/") + "/"})
}

func (v *Viewer) setup(q *Request) {
	stream, track, ok := v.server.Handler.Stream(q.URL)
	if !ok || track == 0 {
		v.Reply(q, 404, "Not Found")
		return
	}
	if v.playing != nil {
		v.Reply(q, 455, "Method Not Valid in This State")
		return
	}
	transport := q.Header.Get("Transport")
	takes := v.server.Takes
	if takes == nil {
		takes = func(transport string) bool { return !strings.Contains(transport, "multicast") }
	}
	if !takes(transport) {
		v.Reply(q, 461, "Unsupported Transport")
		return
	}
	if !v.admitted {
		if v.admitted = v.server.admit(); !v.admitted {
			v.Reply(q, 453, "Not Enough Bandwidth")
			return
		}
	}
	v.stream = stream
	answer := ""
	if strings.Contains(transport, "RTP/AVP/TCP") {
		channel := v.sink.interleave(track, transport)
		answer = fmt.Sprintf("RTP/AVP/TCP;unicast;interleaved=%d-%d%s", channel, channel+1, source(stream, track))
	} else {
		var err error
		if answer, err = v.openSocket(track, transport); err != nil {
			v.Reply(q, 500, "Internal Server Error")
			return
		}
	}
	v.Reply(q, 200, "OK", Field{"Session", v.session + ";timeout=60"}, Field{"Transport", answer})
}

// A Relayed is a stream whose packets are somebody else's: the server does not know what they name as their source.
type Relayed interface{ Relayed() }

// source returns what an answer says of who a track's packets are from (RFC 2326 §12.39: ssrc).
func source(s Stream, track int) string {
	if _, relayed := s.(Relayed); relayed {
		return ""
	}
	return fmt.Sprintf(";ssrc=%08X", track)
}

func (v *Viewer) play(ctx context.Context, q *Request) {
	if v.stream == nil || v.playing != nil {
		v.Reply(q, 455, "Method Not Valid in This State")
		return
	}
	span := "npt=0.000-"
	if _, ok := RangeFrom(q.Header.Get("Range")); ok {
		span = q.Header.Get("Range")
	}
	v.Reply(q, 200, "OK", Field{"Session", v.session}, Field{"Range", span})
	v.sink.asked = q.Header
	ctx, v.playing = context.WithCancel(ctx)
	v.done = make(chan struct{})
	go func() {
		defer close(v.done)
		v.stream.Send(ctx, v.sink)
	}()
}

// A Sink takes the packets of one viewer, over whatever transport it has asked for.
type Sink struct {
	conn     net.Conn
	mu       sync.Mutex // of conn
	channels map[int]byte
	sockets  map[int]*net.UDPConn // by track; that of a track's control packets by its number below zero
	group    bool                 // some of them send to a group
	queue    []byte               // interleaved frames until the next Flush
	asked    Header               // of the PLAY request
	patience time.Duration        // for a viewer that takes nothing
}

func newSink(c net.Conn, patience time.Duration) *Sink {
	return &Sink{conn: c, channels: map[int]byte{}, sockets: map[int]*net.UDPConn{}, patience: patience}
}

// Asked returns a header field of the PLAY request, "" where it has none.
func (s *Sink) Asked(field string) string { return s.asked.Get(field) }

// From returns the address that the viewer is at.
func (s *Sink) From() string {
	host, _, err := net.SplitHostPort(s.conn.RemoteAddr().String())
	if err != nil {
		return s.conn.RemoteAddr().String()
	}
	return host
}

// Drop ends the connection of the viewer: what it takes has ended.
func (s *Sink) Drop() { s.conn.Close() }

// ToGroup reports whether packets go to a group.
func (s *Sink) ToGroup() bool { return s.group }

// Wants reports whether the viewer has set a track up.
func (s *Sink) Wants(track int) bool {
	_, interleaved := s.channels[track]
	return interleaved || s.sockets[track] != nil
}

// RTP sends one packet of a track; interleaved ones go out with Flush.
func (s *Sink) RTP(track int, packet []byte) {
	if socket := s.sockets[track]; socket != nil {
		socket.Write(packet) // a lost datagram is the network's business
		return
	}
	if channel, ok := s.channels[track]; ok {
		s.Interleave(channel, packet)
	}
}

// RTCP sends one control packet of a track, one channel or one port above its packets (RFC 3550 §11). Groups get none.
func (s *Sink) RTCP(track int, packet []byte) {
	if socket := s.sockets[-track]; socket != nil {
		socket.Write(packet)
		return
	}
	if channel, ok := s.channels[track]; ok {
		s.Interleave(channel+1, packet)
	}
}

// Interleave queues a packet on a channel (RFC 2326 §10.12), also on one that nobody asked for. Sessions by datagrams have no channels.
func (s *Sink) Interleave(channel byte, packet []byte) {
	if len(s.sockets) > 0 {
		return
	}
	s.queue = append(s.queue, '$', channel)
	s.queue = binary.BigEndian.AppendUint16(s.queue, uint16(len(packet)))
	s.queue = append(s.queue, packet...)
}

// Queued returns how many bytes wait for the next Flush.
func (s *Sink) Queued() int { return len(s.queue) }

// Flush sends what is queued. An error means that the viewer has gone.
func (s *Sink) Flush() error {
	if len(s.queue) == 0 {
		return nil
	}
	err := s.write(s.queue)
	s.queue = s.queue[:0]
	return err
}

func (s *Sink) write(b []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.conn.SetWriteDeadline(time.Now().Add(s.patience))
	_, err := s.conn.Write(b)
	return err
}

// interleave gives a track the channels that a SETUP asks for.
func (s *Sink) interleave(track int, transport string) byte {
	channel := byte(2 * (track - 1))
	if _, pair, ok := strings.Cut(transport, "interleaved="); ok {
		low, _, _ := strings.Cut(pair, "-")
		if n, err := strconv.ParseUint(low, 10, 8); err == nil {
			channel = byte(n)
		}
	}
	s.channels[track] = channel
	return channel
}

func (s *Sink) closeSockets() {
	for _, c := range s.sockets {
		c.Close()
	}
	clear(s.sockets)
}
