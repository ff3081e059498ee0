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

	"unlatch/core/address"
)

// probeWait is how long answers are heard after the last probe. The standard allows 500 ms; life takes longer.
const probeWait = 1500 * time.Millisecond

// probe sends WS-Discovery probes by multicast on each interface and reports each device once an address.
// Answers from outside the ranges are strays: heard, and not talked to.
func probe(ctx context.Context, ifaces []net.Interface, ranges address.Ranges, found func(Sighting)) error {
	var (
		wg   sync.WaitGroup
		mu   sync.Mutex
		errs []error
		seen = map[string]bool{}
	)
	once := func(s Sighting) {
		mu.Lock()
		defer mu.Unlock()
		key := s.Endpoint + " " + s.Addr.String()
		if !seen[key] {
			seen[key] = true
			found(s)
		}
	}
	for _, i := range ifaces {
		for _, own := range ipv4Of(i) {
			wg.Go(func() {
				if err := probeFrom(ctx, i, own, ranges, once); err != nil {
					mu.Lock()
					errs = append(errs, fmt.Errorf("WS-Discovery on %s: %w", i.Name, err))
					mu.Unlock()
				}
			})
		}
	}
	wg.Wait()
	return errors.Join(errs...)
}

func ipv4Of(i net.Interface) (out []netip.Addr) {
	addrs, _ := i.Addrs()
	for _, a := range addrs {
		if p, err := netip.ParsePrefix(a.String()); err == nil && p.Addr().Is4() {
			out = append(out, p.Addr())
		}
	}
	return out
}

func probeFrom(ctx context.Context, i net.Interface, own netip.Addr, ranges address.Ranges, found func(Sighting)) error {
	c, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(own, 0)))
	if err != nil {
		return err
	}
	defer c.Close()
	p := ipv4.NewPacketConn(c)
	if err := p.SetMulticastInterface(&i); err != nil {
		return err
	}
	p.SetMulticastTTL(1) // the link and no further
	ids := map[string]bool{}
	var mu sync.Mutex
	sent := make(chan error, 1)
	go func() { sent <- sendProbes(ctx, c, ids, &mu) }()
	buf := make([]byte, 64<<10)
	deadline := time.Time{}
	for {
		select {
		case err := <-sent:
			if err != nil {
				return err
			}
			deadline = time.Now().Add(probeWait)
		default:
		}
		if !deadline.IsZero() && time.Now().After(deadline) || ctx.Err() != nil {
			return ctx.Err()
		}
		c.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		n, from, err := c.ReadFromUDPAddrPort(buf)
		if err != nil {
			continue // nothing yet, or an ICMP error for another's answer
		}
		mu.Lock()
		for _, s := range answers(buf[:n], from.Addr().Unmap(), ranges, ids) {
			found(s)
		}
		mu.Unlock()
	}
}

// sendProbes asks for each type twice with jitter: datagrams get lost, and some devices answer only one type.
func sendProbes(ctx context.Context, c *net.UDPConn, ids map[string]bool, mu *sync.Mutex) error {
	for range 2 {
		for _, types := range probeTypes {
			message, id := NewProbe(types)
			mu.Lock()
			ids[id] = true
			mu.Unlock()
			if _, err := c.WriteToUDPAddrPort(message, Group4); err != nil {
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
