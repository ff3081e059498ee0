//go:build unix

package discovery

import "golang.org/x/sys/unix"

// reuse lets several programs on this machine hear the same group.
func reuse(fd uintptr) error {
	return unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
}
