// Package relay serves streams on by RTSP (RFC 2326), for targets that cannot take the camera's own: one session with the camera, however
// many take it. Packets go on as they come. Whoever takes a stream signs in with a sign-in of the relay's own, which opens that stream
// and nothing else.
package relay

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/tries"
	"unlatch/core/stream/media"
	"unlatch/core/wire/rtsp"
	"unlatch/core/work/fanout"
)

// A Relay is one stream that is served on.
type Relay struct {
	ID   string
	Path string // under which it is served, such as "footbridge/main"
	User string
	// Secret opens the stream with User.
	Secret signin.Secret
	// Most is how many may take it at once; 0 means MostOfOne.
	Most int
	// Always keeps the session with the camera also while nobody takes the stream.
	Always bool
	// Take begins to take the packets.
	Take func(ctx context.Context) (*fanout.Consumer, error)
}

// Bounds of a server.
const (
	MostOfOne       = 16  // who take one stream
	mostConnections = 600 // at a time
	mostFromOne     = 64  // from one address
	firstBy         = 10 * time.Second
	// patience is how long a consumer may take nothing. It is moved on meanwhile, and let go afterwards.
	patience = 15 * time.Second
	// mostQueued is how many bytes are gathered for one write: a group that somebody begins with would take memory for as long as they stay.
	mostQueued = 64 << 10
	// startBy is how long the camera may take to play.
	startBy = 20 * time.Second
)

const realm = "Unlatch relay"

// A Server serves relays. Its zero value is usable; Set says which there are.
type Server struct {
	Log *slog.Logger // nil for nobody
	// Now is the clock by which wrong sign-ins are counted; nil means time.Now.
	Now func() time.Time
	// FromOne bounds the connections from one address; 0 means 64.
	FromOne int
	// Taken is told whenever somebody begins to take a relay, and from which address; nil for nobody.
	Taken func(id, from string)

	mu      sync.Mutex
	relays  map[string]*served // by path
	wrong   tries.Counter
	rtsp    *rtsp.Server
	started bool
	ctx     context.Context
	stop    context.CancelFunc
	running sync.WaitGroup
}

// served is a relay as it is served.
type served struct {
	Relay
	mu      sync.Mutex
	sdp     string // of the stream as it was last; "" before it was taken
	takers  int
	took    uint64          // packets that were handed on
	lost    uint64          // packets that takers were too slow for
	gauge   *gauge          // of one of the takers; nil where nobody takes it
	problem string          // why the camera did not play when it was last asked to
	until   context.Context // ends when the relay is taken away
	stop    context.CancelFunc
}

// Status is how a relay goes.
type Status struct {
	ID      string `json:"id"`
	Takers  int    `json:"takers"`
	Packets uint64 `json:"packets"`
	Lost    uint64 `json:"lost,omitempty"`
	Problem string `json:"problem,omitempty"`
	// Measured is what one of the takers gets; zero where nobody takes it, or too shortly.
	Measured Measured `json:"measured,omitzero"`
}

// Serve answers on l until ctx ends. It is called once, or once for each listener.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	server := s.begin()
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	err := server.Serve(ctx, l)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

func (s *Server) begin() *rtsp.Server {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.started {
		s.started = true
		if s.Log == nil {
			s.Log = slog.New(slog.DiscardHandler)
		}
		s.wrong.Now = s.Now
		s.ctx, s.stop = context.WithCancel(context.Background())
		s.rtsp = &rtsp.Server{Name: "Unlatch", Handler: handler{s}, Connections: mostConnections,
			FromOne: cmp.Or(s.FromOne, mostFromOne), FirstBy: firstBy, Patience: patience, Tunnels: true}
	}
	return s.rtsp
}

// Close ends the sessions of all takers, and those with cameras.
func (s *Server) Close() {
	server := s.begin()
	s.stop()
	server.Close()
	s.running.Wait()
}

// Set says which relays there are from now on. One that is as before goes on; who takes one that has gone, or that opens by another
// sign-in, is let go.
func (s *Server) Set(list []Relay) {
	s.begin()
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.relays
	s.relays = map[string]*served{}
	for _, r := range list {
		path := strings.Trim(r.Path, "/")
		if was := old[path]; was != nil && was.same(r) {
			was.mu.Lock()
			was.Most = r.Most
			was.mu.Unlock()
			s.relays[path] = was
			delete(old, path)
			continue
		}
		one := &served{Relay: r}
		one.until, one.stop = context.WithCancel(s.ctx)
		s.relays[path] = one
		if r.Always {
			s.running.Go(func() { one.keep(one.until) })
		}
	}
	for _, gone := range old {
		gone.stop()
	}
}

// same reports whether a relay opens as before, so that who takes it goes on.
func (r *served) same(other Relay) bool {
	return r.ID == other.ID && r.User == other.User && r.Secret.Reveal() == other.Secret.Reveal() && r.Always == other.Always
}

// Serves reports whether a relay is served now.
func (s *Server) Serves(id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.relays {
		if r.ID == id {
			return true
		}
	}
	return false
}

// Statuses returns how the relays go.
func (s *Server) Statuses() (out []Status) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.relays {
		r.mu.Lock()
		x := Status{ID: r.ID, Takers: r.takers, Packets: r.took, Lost: r.lost, Problem: r.problem}
		if r.gauge != nil {
			x.Measured = r.gauge.measured
		}
		out = append(out, x)
		r.mu.Unlock()
	}
	return out
}

// keep takes a stream for nobody, so that the next one begins at once, until ctx ends.
func (r *served) keep(ctx context.Context) {
	for wait := time.Second; ctx.Err() == nil; wait = min(2*wait, time.Minute) {
		c, err := r.take(ctx)
		for list := []fanout.Packet(nil); err == nil; wait = time.Second {
			list, err = c.Next(ctx, list[:0])
		}
		if c != nil {
			c.Close()
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// take begins to take the stream, and remembers what it is like.
func (r *served) take(ctx context.Context) (*fanout.Consumer, error) {
	ctx, done := context.WithTimeout(ctx, startBy)
	defer done()
	c, err := r.Take(ctx)
	r.mu.Lock()
	defer r.mu.Unlock()
	if err != nil {
		r.problem = err.Error()
		return nil, err
	}
	r.sdp, r.problem = describe(c), ""
	return c, nil
}

// find returns the relay of a request's URL, and the track that it names; 0 for none.
func (s *Server) find(target string) (r *served, track int) {
	u, err := streamurl.Parse(target)
	if err != nil {
		return nil, 0
	}
	path := strings.Trim(u.Target(), "/")
	if base, n, cut := strings.Cut(path, "/track"); cut {
		if track, err = strconv.Atoi(n); err != nil || track < 1 || track > 8 {
			return nil, 0
		}
		path = base
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.relays[path], track
}

// handler is the side of the RTSP server that knows relays.
type handler struct{ s *Server }

// Request implements rtsp.Handler. It lets nobody do anything without the sign-in of the relay that the request names; whether there is
// one of that name is told to nobody else.
func (h handler) Request(v *rtsp.Viewer, q *rtsp.Request) (answered bool) {
	if q.Method == "OPTIONS" {
		return false
	}
	nonce, ok := v.State.(string)
	if !ok {
		nonce = rand.Text()
		v.State = nonce
	}
	r, _ := h.s.find(q.URL)
	lines := challenges(nonce)
	if given := q.Header.Get("Authorization"); given != "" {
		if h.s.wrong.Shut(v.From()) {
			v.Reply(q, 403, "Forbidden", rtsp.Field{Name: "Retry-After", Value: "60"})
			return true
		}
		for _, c := range httpauth.ParseChallenges(lines) {
			if user, ok := httpauth.Check(given, c, q.Method, r.secret); ok && user != "" {
				return h.start(v, q, r)
			}
		}
		h.s.wrong.Wrong(v.From())
	}
	var fields []rtsp.Field
	for _, l := range lines {
		fields = append(fields, rtsp.Field{Name: "WWW-Authenticate", Value: l})
	}
	v.Reply(q, 401, "Unauthorized", fields...)
	return true
}

// challenges are what a client chooses from: the stronger first (RFC 7616 §3.7).
func challenges(nonce string) (lines []string) {
	for _, algorithm := range []string{"SHA-256", "MD5"} {
		lines = append(lines, fmt.Sprintf(`Digest realm="%s", nonce="%s", algorithm=%s, qop="auth"`, realm, nonce, algorithm))
	}
	return lines
}

// secret returns what opens a relay for a user. A nil relay opens for nobody.
func (r *served) secret(user string) (string, bool) {
	if r == nil || user != r.User || r.Secret.Empty() {
		return "", false
	}
	return r.Secret.Reveal(), true
}

// start makes sure that the stream is known before it is described, which begins the session with the camera where it is not, and that
// not too many take it.
func (h handler) start(v *rtsp.Viewer, q *rtsp.Request, r *served) (answered bool) {
	r.mu.Lock()
	known, full := r.sdp != "", r.takers >= r.most()
	r.mu.Unlock()
	if q.Method == "SETUP" && full {
		v.Reply(q, 453, "Not Enough Bandwidth")
		return true
	}
	if q.Method != "DESCRIBE" || known {
		return false
	}
	c, err := r.take(h.s.ctx)
	if err != nil {
		h.s.Log.Debug("a relay cannot begin", "path", r.Path, "err", err)
		v.Reply(q, 503, "Service Unavailable", rtsp.Field{Name: "Retry-After", Value: "10"})
		return true
	}
	c.Linger() // whoever asks for the description plays next
	return false
}

func (r *served) most() int {
	if r.Most > 0 {
		return r.Most
	}
	return MostOfOne
}

// Stream implements rtsp.Handler.
func (h handler) Stream(target string) (rtsp.Stream, int, bool) {
	r, track := h.s.find(target)
	if r == nil {
		return nil, 0, false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return stream{h.s, r, r.sdp}, track, r.sdp != ""
}

// stream is a relay for one taker.
type stream struct {
	s   *Server
	r   *served
	sdp string
}

// Relayed implements rtsp.Relayed.
func (stream) Relayed() {}

// SDP implements rtsp.Stream.
func (x stream) SDP() string { return x.sdp }

// Send implements rtsp.Stream. It ends when the taker goes, when the stream ends, and when the relay is taken away; the connection then
// tells the taker.
func (x stream) Send(ctx context.Context, to *rtsp.Sink) {
	defer to.Drop()
	r := x.r
	r.mu.Lock()
	if r.takers >= r.most() {
		r.mu.Unlock()
		return
	}
	r.takers++
	g := &gauge{}
	if r.gauge == nil {
		r.gauge = g
	}
	r.mu.Unlock()
	defer func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.takers--
		if r.gauge == g {
			r.gauge = nil
		}
	}()
	if x.s.Taken != nil {
		x.s.Taken(r.ID, to.From())
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	unhook := context.AfterFunc(r.until, stop)
	defer unhook()
	c, err := r.take(ctx)
	if err != nil {
		return
	}
	defer c.Linger()
	if describe(c) != x.sdp {
		return // the stream is another than was described: the taker has to ask anew
	}
	cut := cutters(c)
	lost := uint64(0)
	for list := []fanout.Packet(nil); err == nil; {
		if list, err = c.Next(ctx, list[:0]); err != nil {
			break
		}
		for _, p := range list {
			switch {
			case p.RTCP:
				to.RTCP(p.Track+1, p.Payload)
			case cut != nil:
				if cerr := cut[p.Track].Packet(p.Payload, func(b []byte) { to.RTP(p.Track+1, b) }); cerr != nil && err == nil {
					err = r.cannot(cerr)
				}
			default:
				to.RTP(p.Track+1, p.Payload)
			}
			if to.Queued() > mostQueued && err == nil {
				err = to.Flush()
			}
		}
		if err == nil {
			err = to.Flush()
		}
		r.mu.Lock()
		r.took += uint64(len(list))
		r.lost += c.Lost() - lost
		lost = c.Lost()
		if r.gauge == nil {
			r.gauge = g // the taker that was measured has gone
		}
		if r.gauge == g {
			g.sent(list, time.Now())
		}
		r.mu.Unlock()
	}
	if err != nil && !errors.Is(err, context.Canceled) {
		x.s.Log.Debug("a taker of a relay has gone", "path", r.Path, "err", err)
	}
}

// cannot keeps why what the camera sends is not served on, and returns it.
func (r *served) cannot(err error) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.problem = err.Error()
	return err
}

// cutters returns what makes packets fit for a network, one for each track, of a stream that comes without RTSP; nil for any other.
func cutters(c *fanout.Consumer) (list []*media.Fragmenter) {
	if !c.Session().Carried() {
		return nil
	}
	for _, t := range c.Tracks() {
		list = append(list, &media.Fragmenter{Codec: t.Codec, Files: t.Files})
	}
	return list
}
