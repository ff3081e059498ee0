//go:build linux

package discovery

import (
	"context"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Whoever takes up what is open may be slower than the connections' time-out: none that has opened meanwhile is given up.
func TestSlowTakerLosesNoConnection(t *testing.T) {
	l, err := net.Listen("tcp4", "127.41.18.1:0")
	require.NoError(t, err)
	defer l.Close()
	to := l.Addr().(*net.TCPAddr).AddrPort()
	opened := 0
	c, err := newConnector(600, 20*time.Millisecond, func(_ netip.AddrPort, conn net.Conn) {
		if opened++; opened == 1 {
			time.Sleep(50 * time.Millisecond) // longer than the time-out
		}
		conn.Close()
	})
	require.NoError(t, err)
	defer c.close()
	for range 400 { // more than one wait tells of; opened by hand, as a connect that is under way opens
		fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
		require.NoError(t, err)
		require.NoError(t, unix.Connect(fd, sockaddr(to)))
		require.NoError(t, unix.EpollCtl(c.epoll, unix.EPOLL_CTL_ADD, fd, &unix.EpollEvent{Events: unix.EPOLLOUT, Fd: int32(fd)}))
		c.pending[int32(fd)] = pending{to, time.Now()}
		c.order = append(c.order, int32(fd))
	}
	require.NoError(t, c.drain(context.Background()))
	assert.Equal(t, 400, opened)
}
