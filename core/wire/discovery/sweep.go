// Package discovery finds devices by every open method and reports each answer as a Sighting, as it comes. It asks only
// harmless questions: nothing that needs a sign-in and nothing that changes a device.
package discovery

import (
	"context"
	"errors"
	"math"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
)

// DefaultPorts are swept where nothing else is asked for.
var DefaultPorts = []uint16{80, 443, 554, 8080, 8554}

// MorePorts are asked of cameras and recorders that were heard, and not of every address: RTSP over TLS (RFC 7826 §19.2), and a web
// page over TLS.
var MorePorts = []uint16{322, 8443}

// Times and bounds of the port sweep.
const (
	// ConnectWindow connections are under way at once: more would overflow the address tables of small switches and this machine's file
	// table, and a silent /22 is swept in ten seconds with it.
	ConnectWindow  = 512
	ConnectTimeout = time.Second
	paceAway       = 2000 // connects a second outside this machine: cheap switches drop more
)

// A Sweep is one discovery run over a site's ranges.
type Sweep struct {
	Ranges address.Ranges
	Ports  []uint16 // nil means DefaultPorts
	// Interfaces are the names of those to probe from; nil means every one whose own network touches the ranges, and an empty list
	// that nothing is probed and only ports are asked.
	Interfaces []string
	// EveryInterface probes from every interface that is up, touching the ranges or not.
	EveryInterface bool
	// Own are addresses and ports at which Unlatch itself serves streams. They are not asked: its relays are no cameras.
	Own []netip.AddrPort
	// Progress is told now and then how far the sweep is; may be nil.
	Progress func(Progress)
}

// Progress of a sweep, counted in ports asked.
type Progress struct {
	Asked, Total int
}

// Total returns how many connects a sweep of ranges over so many ports makes; it is capped, since IPv6 ranges hold more than can be
// counted.
func Total(ranges address.Ranges, ports int) int {
	if n := ranges.Count(); n < math.MaxInt/1024 {
		return int(n) * ports
	}
	return math.MaxInt / 1024 * 1024
}

// Run sweeps until done or ctx ends and reports each sighting as it comes, never two at a time. Everything found by
// then stays reported when it returns an error.
func (s *Sweep) Run(ctx context.Context, found func(sighting.Sighting)) error {
	ports := s.Ports
	if len(ports) == 0 {
		ports = DefaultPorts
	}
	ifaces, err := s.interfaces()
	if err != nil {
		return err
	}
	var heard sync.Map // addresses in the ranges at which a camera or recorder was heard
	fresh := onlyNew(func(x sighting.Sighting) {
		if !x.Stray && x.Kind != sighting.Other {
			heard.Store(x.Addr, true)
		}
		found(x)
	})
	report := func(x sighting.Sighting) { fresh(x) }
	var wg sync.WaitGroup
	var probeErr, eachErr error
	if s.Interfaces == nil || len(s.Interfaces) > 0 {
		wg.Go(func() { eachErr = probeEach(ctx, s.Ranges, report) })
	}
	guard := &address.Guard{Allowed: s.Ranges, Timeout: questionTimeout}
	var follow sync.WaitGroup
	wg.Go(func() {
		probeErr = callAll(ctx, ifaces, []caller{wsDiscovery(s.Ranges), mdns(s.Ranges), ssdp(s.Ranges)}, func(x sighting.Sighting) {
			if fresh(x) && !x.Stray && (len(x.Ports) > 0 || x.Description != "") {
				follow.Go(func() { followUp(ctx, guard, x, report) })
			}
		})
	})
	sweepErr := s.ports(ctx, guard, ports, report)
	wg.Wait()
	if s.Ports == nil && sweepErr == nil {
		more := make(chan struct{}, 64)
		for a := range heard.Range {
			for _, port := range MorePorts {
				more <- struct{}{}
				follow.Go(func() {
					askPort(ctx, guard, netip.AddrPortFrom(a.(netip.Addr), port), report)
					<-more
				})
			}
		}
	}
	follow.Wait()
	for _, x := range neighbours(s.Ranges) {
		report(x)
	}
	return errors.Join(sweepErr, probeErr, eachErr)
}

func (s *Sweep) interfaces() ([]net.Interface, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(all, func(i net.Interface) bool {
		if i.Flags&net.FlagUp == 0 || i.Flags&(net.FlagMulticast|net.FlagLoopback) == 0 {
			return true
		}
		switch {
		case s.Interfaces != nil:
			return !slices.Contains(s.Interfaces, i.Name)
		case s.EveryInterface:
			return false
		}
		return !s.touches(i)
	}), nil
}

func (s *Sweep) touches(i net.Interface) bool {
	addrs, _ := i.Addrs()
	for _, a := range addrs {
		own, err := netip.ParsePrefix(a.String())
		if err != nil {
			continue
		}
		for _, p := range s.Ranges.Prefixes() {
			if p.Overlaps(own.Masked()) {
				return true
			}
		}
	}
	return false
}

// ports connects to every pair of address and port and asks what answers.
func (s *Sweep) ports(ctx context.Context, guard *address.Guard, ports []uint16, found func(sighting.Sighting)) error {
	asking := make(chan struct{}, 64)
	var questions sync.WaitGroup
	c, err := newConnector(ConnectWindow, ConnectTimeout, func(to netip.AddrPort, conn net.Conn) {
		asking <- struct{}{}
		questions.Go(func() {
			defer func() { <-asking }()
			found(ask(ctx, guard, to, conn))
		})
	})
	if err != nil {
		return err
	}
	defer questions.Wait()
	defer c.close()
	pace := rate.NewLimiter(paceAway, 64)
	progress := Progress{Total: Total(s.Ranges, len(ports))}
	for _, port := range ports {
		for a := range s.Ranges.Hosts() {
			if err := guard.Check(a); err != nil {
				return err
			}
			if progress.Asked++; slices.Contains(s.Own, netip.AddrPortFrom(a, port)) {
				continue
			}
			if !a.IsLoopback() {
				if err := pace.Wait(ctx); err != nil {
					return ctx.Err()
				}
			}
			if err := c.connect(ctx, netip.AddrPortFrom(a, port)); err != nil {
				return err
			}
			if progress.Asked%256 == 0 {
				if err := ctx.Err(); err != nil {
					return err
				}
				if s.Progress != nil {
					s.Progress(progress)
				}
			}
		}
	}
	err = c.drain(ctx)
	if progress.Asked = progress.Total; err == nil && s.Progress != nil {
		s.Progress(progress)
	}
	return err
}

// ParsePorts reads a list like "80,443,8000-8010".
func ParsePorts(list string) ([]uint16, error) {
	var out []uint16
	for _, f := range strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' }) {
		low, high, span := strings.Cut(f, "-")
		first, err1 := netip.ParseAddrPort("0.0.0.0:" + low)
		last := first
		var err2 error
		if span {
			last, err2 = netip.ParseAddrPort("0.0.0.0:" + high)
		}
		if err1 != nil || err2 != nil || first.Port() == 0 || last.Port() < first.Port() {
			return nil, errors.New("ports: " + f + ` is not a port; type them like "80,443,8000-8010"`)
		}
		for p := int(first.Port()); p <= int(last.Port()); p++ {
			out = append(out, uint16(p))
		}
	}
	if len(out) > 1024 {
		return nil, errors.New("ports: more than 1024 are too many for one sweep")
	}
	return out, nil
}
