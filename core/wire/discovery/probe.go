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
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/time/rate"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
)

// probeWait is how long answers are heard after the last probe. The standard allows 500 ms; life takes longer.
const probeWait = 1500 * time.Millisecond

// A caller is one multicast protocol: what it sends, when, and how it reads an answer.
type caller struct {
	name  string
	group netip.AddrPort
	// group6 is the same over IPv6, link-local; zero for a protocol that is not asked there.
	group6 netip.AddrPort
	ttl    int
	wait   time.Duration // for answers after the last call
	calls  func() [][]byte
	read   func(b []byte, from netip.Addr) []sighting.Sighting
}

// callAll calls on every interface with every protocol at once. found is called from several goroutines, and again for what is answered
// again.
func callAll(ctx context.Context, ifaces []net.Interface, callers []caller, found func(sighting.Sighting)) error {
	var (
		wg   sync.WaitGroup
		mu   sync.Mutex
		errs []error
	)
	for _, i := range ifaces {
		for _, own := range addrsOf(i) {
			for _, c := range callers {
				if own.Is6() && !c.group6.IsValid() {
					continue
				}
				wg.Go(func() {
					if err := c.call(ctx, i, own, found); err != nil {
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

// onlyNew returns a function that passes each sighting to found once, never two at the same time, and reports whether it was new.
func onlyNew(found func(sighting.Sighting)) func(sighting.Sighting) bool {
	var mu sync.Mutex
	seen := map[string]bool{}
	return func(s sighting.Sighting) bool {
		mu.Lock()
		defer mu.Unlock()
		key := fmt.Sprint(s.Method, " ", s.Endpoint, " ", s.Name, " ", s.Hardware, " ", s.Serial, " ", s.Addr, " ", s.Ports)
		if seen[key] || len(seen) >= maxAnswers {
			return false
		}
		seen[key] = true
		found(s)
		return true
	}
}

// addrsOf returns the addresses to call from: every IPv4 one, and the link-local IPv6 one with its zone.
func addrsOf(i net.Interface) (out []netip.Addr) {
	addrs, _ := i.Addrs()
	for _, a := range addrs {
		p, err := netip.ParsePrefix(a.String())
		switch {
		case err != nil:
		case p.Addr().Is4():
			out = append(out, p.Addr())
		case p.Addr().IsLinkLocalUnicast():
			out = append(out, p.Addr().WithZone(i.Name))
		}
	}
	return out
}

// call sends the calls twice with jitter, since datagrams get lost, and hears answers until the wait after the last has passed.
func (c caller) call(ctx context.Context, i net.Interface, own netip.Addr, found func(sighting.Sighting)) error {
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(own, 0)))
	if own.Is6() && errors.Is(err, syscall.EADDRNOTAVAIL) {
		return nil // still being checked for a duplicate (RFC 4862 §5.4): the IPv4 calls go out all the same
	}
	if err != nil {
		return err
	}
	defer conn.Close()
	roomy(conn)
	to := c.group
	if own.Is6() {
		to = netip.AddrPortFrom(c.group6.Addr().WithZone(i.Name), c.group6.Port())
		p := ipv6.NewPacketConn(conn)
		if err := p.SetMulticastInterface(&i); err != nil {
			return err
		}
		p.SetMulticastHopLimit(c.ttl)
	} else {
		p := ipv4.NewPacketConn(conn)
		if err := p.SetMulticastInterface(&i); err != nil {
			return err
		}
		p.SetMulticastTTL(c.ttl)
	}
	sent := make(chan error, 1)
	go func() { sent <- c.send(ctx, conn, to) }()
	return listen(ctx, conn, sent, c.wait, func(b []byte, from netip.Addr) {
		for _, s := range c.read(b, from) {
			found(s)
		}
	})
}

// listen hears answers until wait after the last question was sent. They come in bursts that overflow the socket's buffer while one is
// being read: they are taken off it at once and read behind.
func listen(ctx context.Context, conn *net.UDPConn, sent <-chan error, wait time.Duration, read func(b []byte, from netip.Addr)) error {
	heard := make(chan answer, maxBurst)
	stop := make(chan struct{})
	var taking sync.WaitGroup
	taking.Go(func() { take(conn, heard, stop) })
	defer taking.Wait()
	defer close(stop)
	deadline := time.NewTimer(time.Hour)
	defer deadline.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case err := <-sent:
			if err != nil {
				return err
			}
			deadline.Reset(wait)
		case a := <-heard:
			read(a.message, a.from)
		case <-deadline.C:
			for { // what came in time is read, however long that takes
				select {
				case a := <-heard:
					read(a.message, a.from)
				default:
					return ctx.Err()
				}
			}
		}
	}
}

// maxBurst is how many answers may wait to be read.
const maxBurst = 8192

// An answer is one datagram with who sent it.
type answer struct {
	message []byte
	from    netip.Addr
}

// take moves datagrams from a socket to a channel until stop is closed. What does not fit is lost, as it would be in the socket.
func take(conn *net.UDPConn, into chan<- answer, stop <-chan struct{}) {
	buf := make([]byte, 64<<10)
	for {
		select {
		case <-stop:
			return
		default:
		}
		conn.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			continue // nothing yet, or an ICMP error for another's answer
		}
		select {
		case into <- answer{slices.Clone(buf[:n]), from.Addr().Unmap()}:
		default:
		}
	}
}

func (c caller) send(ctx context.Context, conn *net.UDPConn, to netip.AddrPort) error {
	for range 2 {
		for _, message := range c.calls() {
			if _, err := conn.WriteToUDPAddrPort(message, to); err != nil {
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
func probeEach(ctx context.Context, ranges address.Ranges, found func(sighting.Sighting)) error {
	if ranges.Count() > unicastMost {
		return nil
	}
	conn, err := net.ListenUDP("udp4", nil)
	if err != nil {
		return err
	}
	defer conn.Close()
	roomy(conn)
	message, id := NewProbe("")
	ids := map[string]bool{id: true}
	pace := rate.NewLimiter(1000, 32)
	sent := make(chan error, 1)
	go func() {
		for a := range ranges.Hosts() {
			if !a.Is4() || !a.IsLoopback() && pace.Wait(ctx) != nil || ctx.Err() != nil {
				break
			}
			conn.WriteToUDPAddrPort(message, netip.AddrPortFrom(a, Port3702)) // one that cannot be sent is like one that is lost
		}
		sent <- nil
	}()
	return listen(ctx, conn, sent, time.Second, func(b []byte, from netip.Addr) {
		for _, s := range answers(b, from, ranges, ids) {
			if !s.Stray { // asked at an address of the ranges; an answer from elsewhere is not ours
				found(s)
			}
		}
	})
}

// wsDiscovery asks for each type in turn. Answers from outside the ranges are strays: heard, and not talked to.
func wsDiscovery(ranges address.Ranges) caller {
	var mu sync.Mutex
	ids := map[string]bool{}
	return caller{
		name: "WS-Discovery", group: Group4, group6: Group6, ttl: 1, wait: probeWait,
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
		read: func(b []byte, from netip.Addr) []sighting.Sighting {
			mu.Lock()
			defer mu.Unlock()
			return answers(b, from, ranges, ids)
		},
	}
}

// answers turns one datagram into sightings. What does not relate to one of our probes is not ours.
func answers(b []byte, from netip.Addr, ranges address.Ranges, ids map[string]bool) (out []sighting.Sighting) {
	m, err := ParseMessage(b)
	if err != nil || m.Action != "ProbeMatches" || !ids[m.RelatesTo] {
		return nil
	}
	for _, x := range m.Matches {
		out = append(out, x.sighting(from, ranges))
	}
	return out
}

func (m Match) sighting(from netip.Addr, ranges address.Ranges) sighting.Sighting {
	from = m.ipv4(from, ranges)
	s := sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now().UTC(), Addr: from, Stray: !ranges.Contains(from),
		Endpoint: m.Endpoint, Kind: sighting.Other}
	types := append(slices.Clone(m.Types), m.Scope("type")...)
	switch {
	case slices.Contains(types, "NetworkVideoStorage"):
		s.Kind = sighting.Recorder
	case slices.Contains(types, "NetworkVideoTransmitter"):
		s.Kind = sighting.Camera
	}
	if s.Kind == sighting.Other {
		s.Is = strings.Join(m.Types, ", ")
	}
	s.Name = strings.Join(m.Scope("name"), " ")
	s.Hardware = strings.Join(m.Scope("hardware"), " ")
	s.Location = strings.Join(m.Scope("location"), ", ")
	s.XAddr = chooseXAddr(m.XAddrs, from)
	return s
}

// ipv4 returns the address by which a device that answered over IPv6 is worked with: the IPv4 one that it names, inside the ranges if
// there is one. It keeps its IPv6 address, without the zone of this machine, where it names none.
func (m Match) ipv4(from netip.Addr, ranges address.Ranges) netip.Addr {
	if from.Is4() {
		return from
	}
	named := netip.Addr{}
	for _, x := range m.XAddrs {
		u, err := url.Parse(x)
		if err != nil {
			continue
		}
		a, err := netip.ParseAddr(u.Hostname())
		if err != nil || !a.Is4() || a.IsUnspecified() {
			continue
		}
		if ranges.Contains(a) {
			return a
		}
		if !named.IsValid() {
			named = a
		}
	}
	if named.IsValid() {
		return named
	}
	return from.WithZone("")
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
	report := onlyNew(func(x sighting.Sighting) {
		if x.Endpoint == endpoint && !x.Stray {
			at = x.Addr
			stop()
		}
	})
	err = callAll(ctx, ifaces, []caller{wsDiscovery(ranges)}, func(x sighting.Sighting) { report(x) })
	if at.IsValid() {
		return at, nil
	}
	return at, err
}
