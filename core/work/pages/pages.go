// Package pages serves streams on to web pages: by HLS with parts for low latency (RFC 8216 and its second edition), and by WebRTC (WHEP),
// with a page that plays either. An address is signed, ends at a time, and opens one stream. Packets are taken as a relay takes them.
package pages

import (
	"context"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/pion/webrtc/v4"

	"unlatch/core/ground/signin"
	"unlatch/core/work/fanout"
)

// A Page is one stream that is served to pages.
type Page struct {
	ID   string
	Path string // as in "footbridge/main"
	// Secret is the relay's own; addresses are signed with a key made of it.
	Secret signin.Secret
	// Most is how many may take it by WebRTC at once; 0 means 16.
	Most int
	// Take begins to take the packets.
	Take func(ctx context.Context) (*fanout.Consumer, error)
}

// Options are what a server is made with.
type Options struct {
	Log *slog.Logger // nil for nobody
	// Now is the clock by which addresses end; nil means time.Now.
	Now func() time.Time
	// Front holds player.html, the page that plays a stream, and its parts.
	Front fs.FS
	// Datagrams is where WebRTC is served; nil for nowhere.
	Datagrams net.PacketConn
	// Taken is told whenever somebody begins to take a page's stream, and from which address; nil for nobody.
	Taken func(id, from string)
}

// Bounds of a server.
const (
	mostOfOne = 16
	startBy   = 20 * time.Second // for the camera to play
	answerBy  = 12 * time.Second // for what a playlist is waited for
	// idle is after how long a stream that nobody has asked for is no longer cut for HLS.
	idle     = 30 * time.Second
	mostBody = 64 << 10 // of an offer
)

// A Server serves pages. It is made by New.
type Server struct {
	Options
	api  *webrtc.API
	ctx  context.Context
	stop context.CancelFunc
	all  sync.WaitGroup

	mu    sync.Mutex
	pages map[string]*served // by path
}

// served is a page as it is served.
type served struct {
	Page
	until context.Context // ends when the page is taken away
	stop  context.CancelFunc

	mu      sync.Mutex
	feed    *feed            // for HLS; nil while nobody asks
	peers   map[string]*peer // by WebRTC
	problem string
}

// Status is how a page goes.
type Status struct {
	ID      string
	Takers  int // by WebRTC, and one for all who take it by HLS
	Problem string
}

// New prepares a server without pages.
func New(o Options) *Server {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	s := &Server{Options: o, pages: map[string]*served{}}
	s.ctx, s.stop = context.WithCancel(context.Background())
	if o.Datagrams != nil {
		s.api = newAPI(o.Datagrams)
	}
	return s
}

// Close lets go all who take something.
func (s *Server) Close() {
	s.stop()
	s.all.Wait()
}

// Set says which pages there are from now on. One that is as before goes on.
func (s *Server) Set(list []Page) {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.pages
	s.pages = map[string]*served{}
	for _, p := range list {
		p.Path = strings.Trim(p.Path, "/")
		if was := old[p.Path]; was != nil && was.ID == p.ID && was.Secret.Reveal() == p.Secret.Reveal() && was.Most == p.Most {
			s.pages[p.Path] = was
			delete(old, p.Path)
			continue
		}
		x := &served{Page: p, peers: map[string]*peer{}}
		x.until, x.stop = context.WithCancel(s.ctx)
		s.pages[p.Path] = x
	}
	for _, gone := range old {
		gone.stop()
	}
}

// Statuses returns how the pages go.
func (s *Server) Statuses() (out []Status) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.pages {
		p.mu.Lock()
		x := Status{p.ID, len(p.peers), p.problem}
		if p.feed != nil {
			x.Takers++
		}
		p.mu.Unlock()
		out = append(out, x)
	}
	return out
}

// find returns the page that a path names, and what stands behind it.
func (s *Server) find(path string) (p *served, leaf string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for at := strings.LastIndexByte(path, '/'); at > 0; at = strings.LastIndexByte(path[:at], '/') {
		if p := s.pages[path[:at]]; p != nil {
			return p, path[at+1:]
		}
	}
	return nil, ""
}

// ServeHTTP implements http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Referrer-Policy", "no-referrer") // the address opens the stream
	h.Set("X-Content-Type-Options", "nosniff")
	if strings.HasPrefix(r.URL.Path, "/assets/") && s.Front != nil {
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
		http.FileServerFS(s.Front).ServeHTTP(w, r)
		return
	}
	h.Set("Cache-Control", "no-store")
	h.Set("Access-Control-Allow-Origin", "*") // any page may play it that has the address
	h.Set("Access-Control-Expose-Headers", "Location")
	if r.Method == http.MethodOptions {
		h.Set("Access-Control-Allow-Methods", "GET, POST, DELETE")
		h.Set("Access-Control-Allow-Headers", "Content-Type")
		w.WriteHeader(http.StatusNoContent)
		return
	}
	token, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	p, leaf := s.find(rest)
	if p == nil {
		http.Error(w, "There is no stream at this address.", http.StatusNotFound)
		return
	}
	until, ok := check(p.Secret, p.Path, token)
	switch {
	case !ok:
		http.Error(w, "There is no stream at this address.", http.StatusNotFound)
	case !s.Now().Before(until):
		http.Error(w, "This address has ended. Ask whoever gave it to you for another.", http.StatusGone)
	case leaf == "whep" || strings.HasPrefix(leaf, "whep/"):
		s.whep(w, r, p, strings.TrimPrefix(strings.TrimPrefix(leaf, "whep"), "/"), until)
	case r.Method != http.MethodGet && r.Method != http.MethodHead:
		h.Set("Allow", "GET")
		http.Error(w, "This can only be read.", http.StatusMethodNotAllowed)
	case leaf == "":
		s.player(w, r)
	default:
		s.hls(w, r, p, leaf)
	}
}

// player hands out the page that plays the stream.
func (s *Server) player(w http.ResponseWriter, r *http.Request) {
	if s.Front == nil {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Security-Policy", "default-src 'self'; media-src blob:; worker-src blob:; style-src 'self' 'unsafe-inline'; "+
		"base-uri 'none'; form-action 'none'")
	http.ServeFileFS(w, r, s.Front, "player.html")
}

// from returns the address that a request comes from.
func from(r *http.Request) string {
	if host, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
		return host
	}
	return r.RemoteAddr
}

// noteTaken calls Taken because somebody begins to take a page's stream.
func (s *Server) noteTaken(p *served, r *http.Request) {
	if s.Taken != nil {
		s.Taken(p.ID, from(r))
	}
}

// take begins to take the stream of a page, and remembers why it cannot be taken.
func (p *served) take(ctx context.Context) (*fanout.Consumer, error) {
	ctx, done := context.WithTimeout(ctx, startBy)
	defer done()
	c, err := p.Take(ctx)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.problem = ""; err != nil {
		p.problem = err.Error()
	}
	return c, err
}
