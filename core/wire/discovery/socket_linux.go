package discovery

import (
	"net"

	"golang.org/x/sys/unix"
)

// roomy gives a socket room for a thousand answers within half a second: as much as the system allows, and as root as much as is asked for.
func roomy(conn *net.UDPConn) {
	conn.SetReadBuffer(4 << 20)
	if raw, err := conn.SyscallConn(); err == nil {
		raw.Control(func(fd uintptr) { unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 8<<20) })
	}
}

// reuse lets several programs on this machine hear the same group.
func reuse(fd uintptr) error {
	return unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
}
