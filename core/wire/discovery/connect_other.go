//go:build !linux

package discovery

import (
	"context"
	"net"
	"net/netip"
	"sync"
	"time"
)

// connector opens many connections at once, a goroutine each. See connect_linux.go for the faster one.
type connector struct {
	slots   chan struct{}
	timeout time.Duration
	open    func(netip.AddrPort, net.Conn)
	wg      sync.WaitGroup
}

func newConnector(window int, timeout time.Duration, open func(netip.AddrPort, net.Conn)) (*connector, error) {
	var mu sync.Mutex
	return &connector{slots: make(chan struct{}, window), timeout: timeout, open: func(to netip.AddrPort, c net.Conn) {
		mu.Lock()
		defer mu.Unlock()
		open(to, c)
	}}, nil
}

func (c *connector) close() { c.wg.Wait() }

func (c *connector) connect(ctx context.Context, to netip.AddrPort) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case c.slots <- struct{}{}:
	}
	c.wg.Go(func() {
		defer func() { <-c.slots }()
		if conn, err := net.DialTimeout("tcp", to.String(), c.timeout); err == nil {
			c.open(to, conn)
		}
	})
	return nil
}

func (c *connector) drain(context.Context) error { c.wg.Wait(); return nil }
