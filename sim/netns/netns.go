//go:build linux

// Package netns gives tests and measures a network of their own: a network namespace with a wire that nothing hangs on.
package netns

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"syscall"
)

// Name is the interface of the lone wire. Nothing is at its other end: packets are taken and lost, and multicast comes back to this
// machine's own sockets.
const Name = "wire0"

const inside = "UNLATCH_OWN_NETWORK"

// Inside reports whether this process runs in a network that Again made.
func Inside() bool { return os.Getenv(inside) != "" }

// Again runs this program once more, with these arguments, in a network of its own, and returns what it printed. Where the user is not
// root a user namespace makes him root of that network alone.
func Again(args ...string) ([]byte, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(self, args...)
	cmd.Env = append(os.Environ(), inside+"=1")
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL}
	if os.Getuid() != 0 {
		cmd.SysProcAttr.Cloneflags |= syscall.CLONE_NEWUSER
		cmd.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}}
		cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}
	}
	return cmd.CombinedOutput()
}

// Wire sets the lone wire up with an IPv4 address like "192.0.2.1/24", and a link-local IPv6 one.
func Wire(address string) error {
	if !Inside() {
		return fmt.Errorf("a wire is set up only in a network of its own")
	}
	for _, args := range [][]string{
		{"link", "set", "lo", "up"},
		{"link", "add", Name, "type", "veth", "peer", "name", "end0"},
		{"link", "set", Name, "arp", "off"}, // whoever is sent to is taken to be there, and never answers
		{"link", "set", "end0", "up"},
		{"addr", "add", address, "dev", Name},
		{"addr", "add", "fe80::5e:53/64", "dev", Name, "nodad"},
		{"link", "set", Name, "up"},
	} {
		if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
			return fmt.Errorf("ip %v: %w: %s", args, err, bytes.TrimSpace(out))
		}
	}
	return nil
}
