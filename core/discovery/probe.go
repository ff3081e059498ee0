package discovery

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/time/rate"

	"unlatch/core/address"
)

// probeWait is how long answers are heard after the last probe. The standard allows 500 ms; life takes longer.
const probeWait = 1500 * time.Millisecond

// A caller is one multicast protocol: what it sends, when, and how it reads an answer.
type caller struct {
	name  string
	group netip.AddrPort
	ttl   int
	wait  time.Duration // for answers after the last call
	calls func() [][]byte
	read  func(b []byte, from netip.Addr) []Sighting
}

// callAll calls on every interface with every protocol at once and reports each answer once.
func callAll(ctx context.Context, ifaces []net.Interface, callers []caller, found func(Sighting)) error {
	var (
		wg   sync.WaitGroup
		mu   sync.Mutex
		errs []error
		seen = map[string]bool{}
	)
	once := func(s Sighting) {
		mu.Lock()
		defer mu.Unlock()
		ports := fmt.Sprint(s.Ports)
		key := string(s.Method) + " " + s.Endpoint + " " + s.Name + " " + s.Addr.String() + " " + ports
		if !seen[key] && len(seen) < maxAnswers {
			seen[key] = true
			found(s)
		}
	}
	for _, i := range ifaces {
		for _, own := range ipv4Of(i) {
			for _, c := range callers {
				wg.Go(func() {
					if err := c.call(ctx, i, own, once); err != nil {
						mu.Lock()
						errs = append(errs, fmt.Errorf("%s on %s: %w", c.name, i.Name, err))
						mu.Unlock()
					}
				})
			}
		}
	}
	wg.Wait()
	return errors.Join(errs...)
}

// maxAnswers bounds what one sweep takes from a hostile wire.
const maxAnswers = 20000

func ipv4Of(i net.Interface) (out []netip.Addr) {
	addrs, _ := i.Addrs()
	for _, a := range addrs {
		if p, err := netip.ParsePrefix(a.String()); err == nil && p.Addr().Is4() {
			out = append(out, p.Addr())
		}
	}
	return out
}

// call sends the calls twice with jitter, since datagrams get lost, and hears answers until the wait after the last has passed.
func (c caller) call(ctx context.Context, i net.Interface, own netip.Addr, found func(Sighting)) error {
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(own, 0)))
	if err != nil {
		return err
	}
	defer conn.Close()
	p := ipv4.NewPacketConn(conn)
	if err := p.SetMulticastInterface(&i); err != nil {
		return err
	}
	p.SetMulticastTTL(c.ttl)
	sent := make(chan error, 1)
	go func() { sent <- c.send(ctx, conn) }()
	buf := make([]byte, 64<<10)
	deadline := time.Time{}
	for {
		select {
		case err := <-sent:
			if err != nil {
				return err
			}
			deadline = time.Now().Add(c.wait)
		default:
		}
		if !deadline.IsZero() && time.Now().After(deadline) || ctx.Err() != nil {
			return ctx.Err()
		}
		conn.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			continue // nothing yet, or an ICMP error for another's answer
		}
		for _, s := range c.read(buf[:n], from.Addr().Unmap()) {
			found(s)
		}
	}
}

func (c caller) send(ctx context.Context, conn *net.UDPConn) error {
	for range 2 {
		for _, message := range c.calls() {
			if _, err := conn.WriteToUDPAddrPort(message, c.group); err != nil {
				return err
			}
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(time.Duration(40+rand.IntN(60)) * time.Millisecond):
			}
		}
	}
	return nil
}

// unicastMost is the largest range that is probed address by address; larger ones would take longer than the port sweep tells anyway.
const unicastMost = 4096

// probeEach sends a probe to every address of the ranges by itself. It reaches devices behind a router and behind switches that keep
// multicast back (WS-Discovery §3.1.2 allows a probe to be sent to one device).
func probeEach(ctx context.Context, ranges address.Ranges, found func(Sighting)) error {
	if ranges.Count() > unicastMost {
		return nil
	}
	conn, err := net.ListenUDP("udp4", nil)
	if err != nil {
		return err
	}
	defer conn.Close()
	message, id := NewProbe("")
	ids := map[string]bool{id: true}
	pace := rate.NewLimiter(1000, 32)
	sent := make(chan struct{})
	go func() {
		defer close(sent)
		for a := range ranges.Hosts() {
			if !a.Is4() || !a.IsLoopback() && pace.Wait(ctx) != nil || ctx.Err() != nil {
				return
			}
			conn.WriteToUDPAddrPort(message, netip.AddrPortFrom(a, Port3702)) // one that cannot be sent is like one that is lost
		}
	}()
	buf := make([]byte, 64<<10)
	var deadline time.Time
	for ctx.Err() == nil && (deadline.IsZero() || time.Now().Before(deadline)) {
		select {
		case <-sent:
			if deadline.IsZero() {
				deadline = time.Now().Add(time.Second)
			}
		default:
		}
		conn.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			continue
		}
		for _, s := range answers(buf[:n], from.Addr().Unmap(), ranges, ids) {
			if !s.Stray { // asked at an address of the ranges; an answer from elsewhere is not ours
				found(s)
			}
		}
	}
	return ctx.Err()
}

// wsDiscovery asks for each type in turn. Answers from outside the ranges are strays: heard, and not talked to.
func wsDiscovery(ranges address.Ranges) caller {
	var mu sync.Mutex
	ids := map[string]bool{}
	return caller{
		name: "WS-Discovery", group: Group4, ttl: 1, wait: probeWait,
		calls: func() (out [][]byte) {
			mu.Lock()
			defer mu.Unlock()
			for _, types := range probeTypes {
				message, id := NewProbe(types)
				ids[id] = true
				out = append(out, message)
			}
			return out
		},
		read: func(b []byte, from netip.Addr) []Sighting {
			mu.Lock()
			defer mu.Unlock()
			return answers(b, from, ranges, ids)
		},
	}
}

// answers turns one datagram into sightings. What does not relate to one of our probes is not ours.
func answers(b []byte, from netip.Addr, ranges address.Ranges, ids map[string]bool) (out []Sighting) {
	m, err := ParseMessage(b)
	if err != nil || m.Action != "ProbeMatches" || !ids[m.RelatesTo] {
		return nil
	}
	for _, x := range m.Matches {
		out = append(out, x.sighting(from, ranges))
	}
	return out
}

func (m Match) sighting(from netip.Addr, ranges address.Ranges) Sighting {
	s := Sighting{Method: WSDiscovery, At: time.Now().UTC(), Addr: from, Stray: !ranges.Contains(from), Endpoint: m.Endpoint, Kind: Other}
	types := append(slices.Clone(m.Types), m.Scope("type")...)
	switch {
	case slices.Contains(types, "NetworkVideoStorage"):
		s.Kind = Recorder
	case slices.Contains(types, "NetworkVideoTransmitter"):
		s.Kind = Camera
	}
	if s.Kind == Other {
		s.Is = strings.Join(m.Types, ", ")
	}
	s.Name = strings.Join(m.Scope("name"), " ")
	s.Hardware = strings.Join(m.Scope("hardware"), " ")
	s.Location = strings.Join(m.Scope("location"), ", ")
	s.XAddr = chooseXAddr(m.XAddrs, from)
	return s
}

// chooseXAddr takes the device service address that names the host which answered, else the first readable one with its
// host put right: devices list dead, private and IPv6 ones as well.
func chooseXAddr(list []string, from netip.Addr) string {
	var fallback string
	for _, x := range list {
		u, err := url.Parse(x)
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			continue
		}
		if u.Hostname() == from.String() {
			return u.String()
		}
		if fallback == "" {
			port := u.Port()
			u.Host = from.String()
			if port != "" {
				u.Host = net.JoinHostPort(from.String(), port)
			}
			fallback = u.String()
		}
	}
	return fallback
}

// Locate calls for a device by its endpoint reference and returns where it answers, inside the ranges only. It is how a device is
// found again whose new address nobody knows.
func Locate(ctx context.Context, ranges address.Ranges, endpoint string) (netip.Addr, error) {
	s := Sweep{Ranges: ranges}
	ifaces, err := s.interfaces()
	if err != nil {
		return netip.Addr{}, err
	}
	var at netip.Addr
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	err = callAll(ctx, ifaces, []caller{wsDiscovery(ranges)}, func(x Sighting) {
		if x.Endpoint == endpoint && !x.Stray {
			at = x.Addr
			stop()
		}
	})
	if at.IsValid() {
		return at, nil
	}
	return at, err
}
