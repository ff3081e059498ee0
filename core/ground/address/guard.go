package address

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Dialer is the network seam through which core opens every connection.
type Dialer interface {
	DialContext(ctx context.Context, network, hostport string) (net.Conn, error)
}

// An OutOfScopeError is returned instead of a connection to an address that the site does not authorise.
type OutOfScopeError struct {
	Addr   netip.Addr
	Ranges Ranges
}

func (e *OutOfScopeError) Error() string {
	return fmt.Sprintf("%s is outside the authorised ranges (%s)", e.Addr, e.Ranges)
}

// A Guard opens connections to addresses in Allowed and to nothing else. The address is checked after
// names are resolved and for each address tried, so that neither a host name nor a redirect leads outside.
type Guard struct {
	Allowed Ranges
	// Consented are single addresses outside the ranges that a person has agreed to, each for a limited time: who makes the
	// guard leaves out those whose time is over.
	Consented []netip.Addr
	// Targets are the stated addresses of the site's targets, each with its port alone: a recorder elsewhere, a broker.
	Targets []netip.AddrPort
	// Names are the addresses that a person has taken for the names of targets, in order. A name is not looked up while they answer.
	Names map[string][]netip.Addr
	// Resolver looks names up; nil means those name servers that the machine is set to.
	Resolver Resolver
	Timeout  time.Duration // for one connection; 0 means 5 s
	// Count counts what goes over the guard's connections; nil counts nothing.
	Count *Count
	// Trace is told of each connection before it is opened; nil for nobody. Of what it returns, opened is called with how that went, and
	// ended once an opened connection is closed.
	Trace func(ctx context.Context, hostport string) (opened func(error), ended func())
}

// A Count is how much went over connections. The zero value is ready.
type Count struct{ sessions, bytes atomic.Int64 }

// Sessions returns how many connections were opened.
func (c *Count) Sessions() int { return int(c.sessions.Load()) }

// Bytes returns how many bytes went both ways.
func (c *Count) Bytes() int64 { return c.bytes.Load() }

// countedConn is a connection whose bytes are counted.
type countedConn struct {
	net.Conn
	to *Count
}

func (c countedConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.to.bytes.Add(int64(n))
	return n, err
}

func (c countedConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.to.bytes.Add(int64(n))
	return n, err
}

// Check returns an *OutOfScopeError when a is not authorised.
func (g *Guard) Check(a netip.Addr) error {
	if a.IsValid() && (g.Allowed.Contains(a) || slices.Contains(g.Consented, a)) {
		return nil
	}
	return &OutOfScopeError{Addr: a, Ranges: g.Allowed}
}

// DialContext implements Dialer.
func (g *Guard) DialContext(ctx context.Context, network, hostport string) (net.Conn, error) {
	if host, port, err := net.SplitHostPort(hostport); err == nil && len(g.Names[strings.ToLower(host)]) > 0 {
		return g.dialName(ctx, network, host, port, g.Names[strings.ToLower(host)])
	}
	return g.dial(ctx, network, hostport)
}

// dial connects to an address that may be connected to.
func (g *Guard) dial(ctx context.Context, network, hostport string) (net.Conn, error) {
	timeout := g.Timeout
	if timeout == 0 {
		timeout = 5 * time.Second
	}
	d := net.Dialer{
		Timeout: timeout,
		Control: func(_, resolved string, _ syscall.RawConn) error {
			to, err := netip.ParseAddrPort(resolved)
			if err != nil {
				return fmt.Errorf("address %q cannot be checked against the ranges: %w", resolved, err)
			}
			to = netip.AddrPortFrom(to.Addr().Unmap(), to.Port())
			if slices.Contains(g.Targets, to) {
				return nil
			}
			return g.Check(to.Addr())
		},
	}
	conn, err := g.traced(ctx, hostport, func() (net.Conn, error) { return d.DialContext(ctx, network, hostport) })
	if err != nil || g.Count == nil {
		return conn, err
	}
	g.Count.sessions.Add(1)
	return countedConn{conn, g.Count}, nil
}

// traced opens a connection and tells of it.
func (g *Guard) traced(ctx context.Context, hostport string, open func() (net.Conn, error)) (net.Conn, error) {
	if g.Trace == nil {
		return open()
	}
	opened, ended := g.Trace(ctx, hostport)
	conn, err := open()
	if opened(err); err != nil {
		return nil, err
	}
	return &tracedConn{Conn: conn, ended: sync.OnceFunc(ended)}, nil
}

// A tracedConn tells when it is closed.
type tracedConn struct {
	net.Conn
	ended func()
}

// Close implements net.Conn.
func (c *tracedConn) Close() error {
	c.ended()
	return c.Conn.Close()
}
