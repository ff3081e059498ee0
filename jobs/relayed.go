package jobs

import (
	"context"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/net/netutil"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/rtmp"
	"unlatch/core/work/fanout"
	"unlatch/core/work/pages"
	"unlatch/core/work/push"
	"unlatch/core/work/relay"
	"unlatch/store"
)

// RelayPorts are where a process serves streams on.
type RelayPorts struct {
	Streams []net.Listener // by RTSP
	// Pages is where web pages are served; nil for nowhere. Datagrams is where they are by WebRTC, and Front what they are made of.
	Pages     net.Listener
	Datagrams net.PacketConn
	Front     fs.FS
}

// Bounds of the server of pages.
const (
	pageConnections = 600
	pageHeaders     = 16 << 10
	pageReadBy      = 10 * time.Second
	pageWriteBy     = 30 * time.Second
)

// relayed is all by which this process hands its relays on.
type relayed struct {
	env    *env
	rtsp   *relay.Server
	faces  *faces
	pages  *pages.Server // nil where no pages are served
	pushes *push.Server
}

// newRelayed prepares to hand relays on. taken is told who takes them.
func (w *Workers) newRelayed(p RelayPorts, taken func(id, from string)) *relayed {
	e := w.env
	x := &relayed{env: e, rtsp: &relay.Server{Log: e.log, Taken: taken}, faces: newFaces(e, w.faces), pushes: &push.Server{Log: e.log}}
	if p.Pages != nil {
		x.pages = pages.New(pages.Options{Log: e.log, Front: p.Front, Datagrams: p.Datagrams, Taken: taken})
	}
	return x
}

// servePages answers web pages on a listener until ctx ends.
func (x *relayed) servePages(ctx context.Context, l net.Listener) error {
	s := &http.Server{Handler: x.pages, ReadHeaderTimeout: pageReadBy, ReadTimeout: pageReadBy, WriteTimeout: pageWriteBy,
		IdleTimeout: time.Minute, MaxHeaderBytes: pageHeaders}
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	return s.Serve(netutil.LimitListener(l, pageConnections))
}

func (x *relayed) close() {
	x.pushes.Close()
	if x.pages != nil {
		x.pages.Close()
	}
	x.rtsp.Close()
}

// set says which relays there are from now on.
func (x *relayed) set(ctx context.Context, list []openedRelay) {
	var streams []relay.Relay
	var shown []pages.Page
	var sent []push.Push
	for _, r := range list {
		take := func(ctx context.Context) (*fanout.Consumer, error) {
			return x.env.takeAs(ctx, r.Device, r.Role, r.Form.V)
		}
		streams = append(streams, relay.Relay{ID: r.ID.String(), Path: r.Path, User: r.User, Secret: r.secret, Most: r.Most,
			Always: r.Always, Take: take})
		if r.Page {
			shown = append(shown, pages.Page{ID: r.ID.String(), Path: r.Path, Secret: r.secret, Most: r.Most, Take: take})
		}
		if p := r.Push.V; p != nil && x.env.serves(r.At) {
			if to, err := rtmp.ParseIngest(p.To); err == nil {
				sent = append(sent, push.Push{ID: r.ID.String(), To: to, Key: r.key, Pin: p.Pin, Silence: p.Silence, Hours: p.Hours,
					Paused: p.Paused, Dial: platformDialer{x.env}, Take: take})
			}
		}
	}
	x.rtsp.Set(streams)
	if x.pages != nil {
		x.pages.Set(shown)
	}
	x.pushes.Set(sent)
	x.faces.set(ctx, list)
}

// serves reports whether a relay's address is one at which this process serves streams: what only one of several workers may do, that one
// does.
func (e *env) serves(at string) bool {
	a, err := netip.ParseAddrPort(at)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(e.relaysAt, func(own string) bool {
		o, err := netip.ParseAddrPort(own)
		return err == nil && o.Port() == a.Port() && (o.Addr().Unmap() == a.Addr().Unmap() || o.Addr().IsUnspecified() && ownAddress(a.Addr()))
	})
}

// platformDialer connects to live platforms: to the host that is dialled, at the addresses that its name leads to, and to nothing else.
type platformDialer struct{ env *env }

// DialContext implements address.Dialer.
func (d platformDialer) DialContext(ctx context.Context, network, at string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return nil, err
	}
	number, err := net.LookupPort("tcp", port)
	if err != nil {
		return nil, err
	}
	list := []netip.Addr{}
	if a, err := netip.ParseAddr(host); err == nil {
		list = append(list, a)
	} else if list, err = address.Lookup(ctx, d.env.names(), host); err != nil {
		return nil, err
	}
	guard := &address.Guard{}
	for _, a := range list {
		guard.Targets = append(guard.Targets, netip.AddrPortFrom(a, uint16(number)))
	}
	for _, to := range guard.Targets {
		var conn net.Conn
		if conn, err = guard.DialContext(ctx, network, to.String()); err == nil {
			return conn, nil
		}
	}
	return nil, err
}

// names returns what looks names up.
func (e *env) names() address.Resolver {
	if e.resolver == nil {
		return net.DefaultResolver
	}
	return e.resolver
}

// openedRelay is a relay with what opens it.
type openedRelay struct {
	store.Relay
	secret signin.Secret
	key    signin.Secret // of the platform that it is sent to
}

// going returns how the relays go, as the store keeps it.
func (x *relayed) going(list []openedRelay) (out []store.RelayStatus) {
	byID := map[string]*store.RelayStatus{}
	for _, s := range x.rtsp.Statuses() {
		byID[s.ID] = &store.RelayStatus{ID: s.ID, Takers: s.Takers, Packets: int64(s.Packets), Lost: int64(s.Lost), Problem: s.Problem,
			FPS: s.Measured.FPS, DelayMS: s.Measured.DelayMS}
	}
	if x.pages != nil {
		for _, s := range x.pages.Statuses() {
			if r := byID[s.ID]; r != nil {
				r.Takers += s.Takers
				if r.Problem == "" {
					r.Problem = s.Problem
				}
			}
		}
	}
	for _, s := range x.pushes.Statuses() {
		if r := byID[s.ID]; r != nil {
			r.PushState, r.PushSince, r.PushSays = string(s.State), &s.Since, s.Says
			if s.State == push.Sending {
				r.Takers++
			}
		}
	}
	for _, r := range list {
		if s := byID[r.ID.String()]; s != nil {
			came := x.env.streams.Arrival(streamKey(r.Device, r.Role))
			s.CameraFPS, s.CameraLost = came.FPS, came.Lost
			out = append(out, *s)
		}
	}
	slices.SortFunc(out, func(a, b store.RelayStatus) int { return slices.Compare([]byte(a.ID), []byte(b.ID)) })
	return out
}
