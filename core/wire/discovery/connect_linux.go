package discovery

import (
	"context"
	"net"
	"net/netip"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// connector opens many connections at once without a goroutine for each: a window of non-blocking connects and one
// epoll. A closed port on a near network answers within the system call, so that a sweep costs little more than
// the calls themselves.
type connector struct {
	epoll   int
	window  int
	timeout time.Duration
	pending map[int32]pending
	order   []int32 // of pending, oldest first; may hold finished ones
	open    func(to netip.AddrPort, c net.Conn)
	events  []unix.EpollEvent
}

type pending struct {
	to    netip.AddrPort
	since time.Time
}

func newConnector(window int, timeout time.Duration, open func(netip.AddrPort, net.Conn)) (*connector, error) {
	e, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return nil, err
	}
	return &connector{epoll: e, window: window, timeout: timeout, pending: map[int32]pending{}, open: open,
		events: make([]unix.EpollEvent, 256)}, nil
}

func (c *connector) close() {
	for fd := range c.pending {
		unix.Close(int(fd))
	}
	unix.Close(c.epoll)
}

// connect begins one connection, waiting first while the window is full.
func (c *connector) connect(ctx context.Context, to netip.AddrPort) error {
	for len(c.pending) >= c.window {
		c.wait(20)
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	family := unix.AF_INET
	if to.Addr().Is6() {
		family = unix.AF_INET6
	}
	for {
		fd, err := unix.Socket(family, unix.SOCK_STREAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
		if err == unix.EMFILE && len(c.pending) > 0 {
			c.wait(20)
			continue
		}
		if err != nil {
			return os.NewSyscallError("socket", err)
		}
		switch err := unix.Connect(fd, sockaddr(to)); err {
		case nil:
			c.opened(fd, to)
		case unix.EINPROGRESS:
			if err := unix.EpollCtl(c.epoll, unix.EPOLL_CTL_ADD, fd, &unix.EpollEvent{Events: unix.EPOLLOUT, Fd: int32(fd)}); err != nil {
				unix.Close(fd)
				return os.NewSyscallError("epoll_ctl", err)
			}
			c.pending[int32(fd)] = pending{to, time.Now()}
			c.order = append(c.order, int32(fd))
		case unix.EADDRNOTAVAIL, unix.EAGAIN: // the machine is out of local ports for the moment
			unix.Close(fd)
			c.wait(20)
			if err := ctx.Err(); err != nil {
				return err
			}
			continue
		default:
			unix.Close(fd)
		}
		return nil
	}
}

func sockaddr(to netip.AddrPort) unix.Sockaddr {
	if to.Addr().Is4() {
		return &unix.SockaddrInet4{Port: int(to.Port()), Addr: to.Addr().As4()}
	}
	return &unix.SockaddrInet6{Port: int(to.Port()), Addr: to.Addr().As16()}
}

// opened hands a connected socket on as a net.Conn, so that the question goes over the same connection.
func (c *connector) opened(fd int, to netip.AddrPort) {
	f := os.NewFile(uintptr(fd), "")
	defer f.Close()
	if conn, err := net.FileConn(f); err == nil {
		c.open(to, conn)
	}
}

// wait takes what has finished within ms milliseconds and gives up what is too old.
func (c *connector) wait(ms int) {
	n, err := unix.EpollWait(c.epoll, c.events, ms)
	if err != nil {
		n = 0
	}
	now := time.Now() // taking up what is open may block for long, and what opens meanwhile is not too old for that
	for _, e := range c.events[:n] {
		p, ok := c.pending[e.Fd]
		if !ok {
			continue
		}
		delete(c.pending, e.Fd)
		unix.EpollCtl(c.epoll, unix.EPOLL_CTL_DEL, int(e.Fd), nil)
		if code, err := unix.GetsockoptInt(int(e.Fd), unix.SOL_SOCKET, unix.SO_ERROR); err == nil && code == 0 {
			c.opened(int(e.Fd), p.to)
		} else {
			unix.Close(int(e.Fd))
		}
	}
	if n == len(c.events) {
		return // more may be open already than one call tells
	}
	for len(c.order) > 0 {
		fd := c.order[0]
		p, ok := c.pending[fd]
		if ok && now.Sub(p.since) < c.timeout {
			return
		}
		if ok {
			delete(c.pending, fd)
			unix.Close(int(fd))
		}
		c.order = c.order[1:]
	}
}

// drain waits for everything under way.
func (c *connector) drain(ctx context.Context) error {
	for len(c.pending) > 0 {
		c.wait(20)
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}
