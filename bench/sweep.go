package main

import (
	"context"
	"fmt"
	"net/netip"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/sim/scene"
)

const sweepRange = "127.60.0.0/20"

// sweep compares the port sweep of a /20 with a bare loop of non-blocking connects over the same pairs.
func sweep(ctx context.Context, _ *scene.Library) ([]figure, error) {
	ranges := address.MustParse(sweepRange)
	var swept, bare []time.Duration
	for range 7 {
		began := time.Now()
		if err := bareConnects(ranges); err != nil {
			return nil, err
		}
		bare = append(bare, time.Since(began))
		began = time.Now()
		s := discovery.Sweep{Ranges: ranges, Interfaces: []string{}}
		if err := s.Run(ctx, func(sighting.Sighting) {}); err != nil {
			return nil, err
		}
		swept = append(swept, time.Since(began))
	}
	var whole []time.Duration
	var most int64
	for range 3 {
		_, took, rss, err := peak("sweep", sweepRange, "--interface", "lo", "--json")
		if err != nil {
			return nil, err
		}
		whole, most = append(whole, took), max(most, rss)
	}
	got, floor := median(swept), median(bare)
	pairs := int(ranges.Count()) * len(discovery.DefaultPorts)
	return []figure{
		{fmt.Sprintf("Sweep of a /20 on loopback, 5 ports (%d pairs): the port sweep", pairs), ms(got), ms(floor) + " bare connects",
			fmt.Sprintf("%.2f", float64(got)/float64(floor)), atMost(2, float64(got)/float64(floor), "")},
		{"The same, whole command, which also listens for WS-Discovery answers", ms(median(whole)), ms(floor) + " bare connects",
			fmt.Sprintf("%.2f", float64(median(whole))/float64(floor)), "listening takes its 1.9 s whatever the range"},
		{"Largest resident size of that command", fmt.Sprintf("%.0f MB", float64(most)/1e6), "", "", under(100, float64(most)/1e6, " MB")},
	}, nil
}

func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }

// msOf returns a time in milliseconds.
func msOf(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// bareConnects is the floor: a socket, a non-blocking connect and a close for each pair, and nothing else.
func bareConnects(ranges address.Ranges) error {
	for _, port := range discovery.DefaultPorts {
		for a := range ranges.Hosts() {
			if err := bareConnect(netip.AddrPortFrom(a, port)); err != nil {
				return err
			}
		}
	}
	return nil
}

func bareConnect(to netip.AddrPort) error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	unix.Connect(fd, &unix.SockaddrInet4{Port: int(to.Port()), Addr: to.Addr().As4()})
	return unix.Close(fd)
}

// maxRSS returns the largest resident size of an ended process in bytes; the kernel counts KiB.
func maxRSS(usage any) int64 {
	if u, ok := usage.(*syscall.Rusage); ok {
		return u.Maxrss << 10
	}
	return 0
}
