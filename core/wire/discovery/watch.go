package discovery

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
)

// A Watch hears what devices say by themselves: that they have come (Hello, WS-Discovery §4.1; an mDNS announcement, RFC 6762 §8.3; an SSDP
// alive, UPnP Device Architecture 1.1 §1.2.2) and that they go (Bye, WS-Discovery §4.2). It asks nothing and connects to nothing.
type Watch struct {
	Ranges address.Ranges
	Found  func(sighting.Sighting)
	// Left is told the endpoint reference of a device that says goodbye.
	Left func(endpoint string)
}

// quiet is how long the same word of the same device is not told again: announcements are repeated (WS-Discovery §3.1.3).
const quiet = 3 * time.Second

// maxHeard bounds what is remembered of a hostile wire.
const maxHeard = 4096

// Run hears until ctx ends. It returns an error where no interface can be heard on.
func (w *Watch) Run(ctx context.Context) error {
	s := Sweep{Ranges: w.Ranges}
	ifaces, err := s.interfaces()
	if err != nil {
		return err
	}
	h := groupListener{w: w, last: map[string]time.Time{}}
	var wg sync.WaitGroup
	var conns []*net.UDPConn
	var errs []error
	for _, g := range []struct {
		group netip.AddrPort
		read  func(b []byte, from netip.Addr)
	}{{Group4, h.wsDiscovery}, {Group6, h.wsDiscovery}, {GroupMDNS, h.mdns}, {GroupSSDP, h.ssdp}} {
		conn, err := join(g.group, ifaces)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		conns = append(conns, conn)
		wg.Go(func() {
			buf := make([]byte, 64<<10)
			for {
				n, from, err := conn.ReadFromUDPAddrPort(buf)
				if err != nil {
					return
				}
				g.read(buf[:n], from.Addr().Unmap())
			}
		})
	}
	if len(conns) == 0 {
		return errors.Join(errs...)
	}
	<-ctx.Done()
	for _, c := range conns {
		c.Close()
	}
	wg.Wait()
	return ctx.Err()
}

// join opens a multicast group's port, which several programs on this machine may share, and joins it on each interface.
func join(group netip.AddrPort, ifaces []net.Interface) (*net.UDPConn, error) {
	shared := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var serr error
		err := c.Control(func(fd uintptr) { serr = reuse(fd) })
		return errors.Join(err, serr)
	}}
	network := "udp4"
	if group.Addr().Is6() {
		network = "udp6"
	}
	c, err := shared.ListenPacket(context.Background(), network, group.String())
	if err != nil {
		return nil, err
	}
	conn := c.(*net.UDPConn)
	joined := errors.New("no interface")
	for _, i := range ifaces {
		to := &net.UDPAddr{IP: group.Addr().AsSlice()}
		if group.Addr().Is6() {
			err = ipv6.NewPacketConn(conn).JoinGroup(&i, to)
		} else {
			err = ipv4.NewPacketConn(conn).JoinGroup(&i, to)
		}
		if err == nil {
			joined = nil
		}
	}
	if joined != nil {
		conn.Close()
		return nil, joined
	}
	return conn, nil
}

// groupListener reads announcements of all protocols and tells each once.
type groupListener struct {
	w    *Watch
	mu   sync.Mutex
	last map[string]time.Time
}

func (h *groupListener) fresh(key string) bool {
	now := time.Now()
	if at, ok := h.last[key]; ok && now.Sub(at) < quiet {
		return false
	}
	if len(h.last) >= maxHeard {
		clear(h.last)
	}
	h.last[key] = now
	return true
}

func (h *groupListener) report(s sighting.Sighting) {
	h.mu.Lock()
	defer h.mu.Unlock()
	s.At, s.Stray = time.Now().UTC(), !h.w.Ranges.Contains(s.Addr)
	if h.fresh(string(s.Method) + " " + s.Endpoint + " " + s.Addr.String() + " " + s.Name) {
		h.w.Found(s)
	}
}

func (h *groupListener) wsDiscovery(b []byte, from netip.Addr) {
	m, err := ParseMessage(b)
	if err != nil || m.Action != "Hello" && m.Action != "Bye" {
		return
	}
	for _, x := range m.Matches {
		if m.Action == "Hello" {
			h.report(x.sighting(from, h.w.Ranges))
			continue
		}
		h.mu.Lock()
		if x.Endpoint != "" && h.fresh("bye "+x.Endpoint) {
			h.w.Left(x.Endpoint)
		}
		h.mu.Unlock()
	}
}

func (h *groupListener) mdns(b []byte, from netip.Addr) {
	if s, ok := mdnsAnswer(b); ok {
		s.Method, s.Addr = sighting.MDNS, from
		h.report(s)
	}
}

// ssdp reads a NOTIFY. What says goodbye by SSDP has no reference to be known by, and is left as it is.
func (h *groupListener) ssdp(b []byte, from netip.Addr) {
	r, err := http.ReadRequest(bufio.NewReader(bytes.NewReader(b)))
	if err != nil || r.Method != "NOTIFY" || !strings.EqualFold(r.Header.Get("NTS"), "ssdp:alive") {
		return
	}
	s := sighting.Sighting{Method: sighting.SSDP, Addr: from, Kind: ssdpKind(r.Header.Get("NT"))}
	if u, err := url.Parse(r.Header.Get("Location")); err != nil || u.Hostname() != from.String() {
		return
	}
	h.report(s)
}
