// Package udpfrom has the kernel sort a UDP socket's datagrams by who sent them. What is sorted out takes no room in the socket's
// buffer, so that a flood from somebody else does not crowd out the one who is listened to.
package udpfrom

import (
	"encoding/binary"
	"net"
	"net/netip"

	"golang.org/x/net/bpf"
	"golang.org/x/net/ipv4"
)

// ipSource is where a socket filter finds the source address of an IPv4 packet: offset 12 of its header (RFC 791 §3.1), which Linux puts at
// SKF_NET_OFF for a socket whose data begin behind it.
const ipSource = 0xfff0_0000 + 12

// Only has a socket take the datagrams of one IPv4 sender alone. Where the system cannot, the error says so and the socket takes all.
func Only(conn *net.UDPConn, sender netip.Addr) error { return filter(conn, sender, bpf.JumpEqual) }

// Except has a socket take the datagrams of everybody but one IPv4 sender.
func Except(conn *net.UDPConn, sender netip.Addr) error {
	return filter(conn, sender, bpf.JumpNotEqual)
}

func filter(conn *net.UDPConn, sender netip.Addr, take bpf.JumpTest) error {
	addr := sender.Unmap().As4()
	program, err := bpf.Assemble([]bpf.Instruction{
		bpf.LoadAbsolute{Off: ipSource, Size: 4},
		bpf.JumpIf{Cond: take, Val: binary.BigEndian.Uint32(addr[:]), SkipFalse: 1},
		bpf.RetConstant{Val: 1 << 18}, // the whole of it
		bpf.RetConstant{Val: 0},
	})
	if err != nil {
		return err
	}
	return ipv4.NewPacketConn(conn).SetBPF(program)
}
