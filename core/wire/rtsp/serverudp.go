package rtsp

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"

	"golang.org/x/net/ipv4"
)

// openSocket opens the socket of a track and returns the Transport line of the answer (RFC 2326 §12.39).
func (v *Viewer) openSocket(track int, transport string) (string, error) {
	own, remote, err := v.addresses()
	if err != nil {
		return "", err
	}
	var to *net.UDPAddr
	ttl := 1
	group := strings.Contains(transport, "multicast")
	if group {
		if v.server.Group == nil {
			return "", errors.New("this server sends to no group")
		}
		to, ttl = v.server.Group(v.stream, track)
	} else {
		_, ports, _ := strings.Cut(transport, "client_port=")
		low, _, _ := strings.Cut(ports, "-")
		port, err := strconv.ParseUint(low, 10, 16)
		if err != nil {
			return "", err
		}
		to = &net.UDPAddr{IP: remote.AsSlice(), Port: int(port)}
	}
	var socket, control *net.UDPConn
	if group {
		socket, err = net.DialUDP("udp4", &net.UDPAddr{IP: own.AsSlice()}, to)
	} else {
		socket, control, err = pair(own.AsSlice(), to)
	}
	if err != nil {
		return "", err
	}
	for _, n := range []int{track, -track} {
		if old := v.sink.sockets[n]; old != nil {
			old.Close()
			delete(v.sink.sockets, n)
		}
	}
	v.sink.sockets[track] = socket
	if !group {
		v.sink.sockets[-track] = control
		from := socket.LocalAddr().(*net.UDPAddr).Port
		return fmt.Sprintf("%s;server_port=%d-%d%s", transport, from, from+1, source(v.stream, track)), nil
	}
	v.sink.group = true
	p := ipv4.NewPacketConn(socket)
	if err := p.SetMulticastTTL(ttl); err != nil {
		return "", err
	}
	if card := interfaceOf(own); card != nil {
		if err := p.SetMulticastInterface(card); err != nil {
			return "", err
		}
		p.SetMulticastLoopback(true)
	}
	return fmt.Sprintf("RTP/AVP;multicast;destination=%s;port=%d-%d;ttl=%d", to.IP, to.Port, to.Port+1, ttl), nil
}

// addresses are both ends of the connection.
func (v *Viewer) addresses() (own, remote netip.Addr, err error) {
	a, err := netip.ParseAddrPort(v.conn.LocalAddr().String())
	if err != nil {
		return own, remote, err
	}
	b, err := netip.ParseAddrPort(v.conn.RemoteAddr().String())
	return a.Addr().Unmap(), b.Addr().Unmap(), err
}

// pair opens two sockets with neighbouring ports, the first of which is even (RFC 3550 §11), from an own address to two neighbouring
// ports of the viewer. Others take ports meanwhile, so it may take some tries.
func pair(own net.IP, to *net.UDPAddr) (media, control *net.UDPConn, err error) {
	above := &net.UDPAddr{IP: to.IP, Port: to.Port + 1}
	for range 50 {
		if media, err = net.DialUDP("udp4", &net.UDPAddr{IP: own}, to); err != nil {
			return nil, nil, err
		}
		port := media.LocalAddr().(*net.UDPAddr).Port
		if port%2 == 0 {
			if control, err = net.DialUDP("udp4", &net.UDPAddr{IP: own, Port: port + 1}, above); err == nil {
				return media, control, nil
			}
		}
		media.Close()
	}
	return nil, nil, errors.New("no two neighbouring ports are free")
}
