package rtsp

import (
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"unlatch/core/ground/udpfrom"
)

// datagrams are the sockets at which a session's packets come in. Only what comes from the device counts.
type datagrams struct {
	from    netip.Addr
	sockets []net.PacketConn
	mu      sync.Mutex
	packets []datagram
	bytes   int // of packets
	wake    chan struct{}
	wg      sync.WaitGroup
}

type datagram struct {
	channel byte
	payload []byte
	at      time.Time
}

// maxWaiting and maxWaitingBytes bound the packets that are not taken yet: a device may send before it is asked to.
const (
	maxWaiting      = 4096
	maxWaitingBytes = 8 << 20
)

// openDatagrams prepares sockets for a track, and returns the Transport line that asks for it (RFC 2326 §12.39).
func (c *Conn) openDatagrams(channel byte) (string, error) {
	remote, err := netip.ParseAddrPort(c.conn.RemoteAddr().String())
	if err != nil {
		return "", err
	}
	if c.udp == nil {
		c.udp = &datagrams{from: remote.Addr().Unmap(), wake: make(chan struct{}, 1)}
	}
	if c.opt.Transport == Multicast {
		return "RTP/AVP;multicast", nil
	}
	local, err := netip.ParseAddrPort(c.conn.LocalAddr().String())
	if err != nil {
		return "", err
	}
	// RTP takes an even port and RTCP the next (RFC 3550 §11).
	for range 50 {
		rtp, err := net.ListenUDP("udp", &net.UDPAddr{IP: local.Addr().AsSlice()})
		if err != nil {
			return "", err
		}
		port := rtp.LocalAddr().(*net.UDPAddr).Port
		rtcp, err := net.ListenUDP("udp", &net.UDPAddr{IP: local.Addr().AsSlice(), Port: port + 1})
		if port%2 != 0 || err != nil {
			rtp.Close()
			if err == nil {
				rtcp.Close()
			}
			continue
		}
		c.udp.listen(channel, rtp)
		c.udp.listen(channel+1, rtcp)
		return fmt.Sprintf("RTP/AVP;unicast;client_port=%d-%d", port, port+1), nil
	}
	return "", &ProtocolError{Problem: "no pair of free UDP ports was found on this machine"}
}

// takeDatagrams reads the answer to SETUP: of a multicast session it names the group and the port.
func (c *Conn) takeDatagrams(channel byte, answer string) error {
	if c.opt.Transport != Multicast {
		return nil
	}
	group, port, ok := parseGroup(answer)
	if !ok {
		return &ProtocolError{Problem: "the device names no multicast group for the stream"}
	}
	local, err := netip.ParseAddrPort(c.conn.LocalAddr().String())
	if err != nil {
		return err
	}
	if !c.Group.IsValid() {
		c.Group = netip.AddrPortFrom(group, uint16(port))
	}
	c.opt.Log.Note("joining %s port %d", group, port)
	socket, err := net.ListenMulticastUDP("udp", interfaceOf(local.Addr().Unmap()), &net.UDPAddr{IP: group.AsSlice(), Port: port})
	if err != nil {
		return fmt.Errorf("joining the group %s: %w", group, err)
	}
	c.udp.listen(channel, socket)
	return nil
}

// parseGroup reads the group and port that a Transport line names (RFC 2326 §12.39).
func parseGroup(transport string) (group netip.Addr, port int, ok bool) {
	for _, part := range strings.Split(transport, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		switch strings.ToLower(name) {
		case "destination":
			group, _ = netip.ParseAddr(value)
		case "port":
			low, _, _ := strings.Cut(value, "-")
			port, _ = strconv.Atoi(low)
		}
	}
	return group, port, group.IsMulticast() && group.Zone() == "" && port > 0 && port <= 65534
}

// interfaceOf returns the network card with an address, nil where there is none.
func interfaceOf(local netip.Addr) *net.Interface {
	all, _ := net.Interfaces()
	for i := range all {
		addrs, _ := all[i].Addrs()
		for _, a := range addrs {
			if p, err := netip.ParsePrefix(a.String()); err == nil && (p.Addr().Unmap() == local || p.Addr().IsLoopback() && p.Contains(local)) {
				return &all[i]
			}
		}
	}
	return nil
}

// listen takes packets off a socket until it is closed.
func (d *datagrams) listen(channel byte, socket *net.UDPConn) {
	socket.SetReadBuffer(1 << 20)
	if d.from.Is4() {
		udpfrom.Only(socket, d.from) // who else sends here is passed over below too, where the system cannot
	}
	d.sockets = append(d.sockets, socket)
	d.wg.Go(func() {
		buffer := make([]byte, 64<<10)
		for {
			n, from, err := socket.ReadFromUDPAddrPort(buffer)
			if err != nil {
				return
			}
			if from.Addr().Unmap() != d.from {
				continue
			}
			d.mu.Lock()
			if len(d.packets) < maxWaiting && d.bytes+n <= maxWaitingBytes {
				d.bytes += n
				d.packets = append(d.packets, datagram{channel, append([]byte(nil), buffer[:n]...), time.Now()})
			}
			d.mu.Unlock()
			select {
			case d.wake <- struct{}{}:
			default:
			}
		}
	})
}

// deliver hands on what has come in, and reports whether anything had.
func (d *datagrams) deliver(to func(channel byte, payload []byte, at time.Time)) bool {
	d.mu.Lock()
	list := d.packets
	d.packets, d.bytes = nil, 0
	d.mu.Unlock()
	for _, p := range list {
		if to != nil {
			to(p.channel, p.payload, p.at)
		}
	}
	return len(list) > 0
}

// any reports whether packets wait to be delivered.
func (d *datagrams) any() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.packets) > 0
}

// wait reports whether a packet came within a time.
func (d *datagrams) wait(patience time.Duration) bool {
	select {
	case <-d.wake:
		return true
	case <-time.After(patience):
		return false
	}
}

func (d *datagrams) close() {
	for _, s := range d.sockets {
		s.Close()
	}
	d.wg.Wait()
}
