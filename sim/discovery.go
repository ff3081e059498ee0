package sim

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"unlatch/core/discovery"
	"unlatch/core/onvif"
)

// reusable lets several stand-in processes hear the same group.
var reusable = net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
	var serr error
	err := c.Control(func(fd uintptr) { serr = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1) })
	return errors.Join(err, serr)
}}

// startDiscovery answers unicast probes on the device's own address. Answers to multicast ones leave from the same
// socket, so that their source is the device's address.
func (d *device) startDiscovery(group *errgroup.Group) error {
	if d.Defects.Undiscoverable {
		return nil
	}
	c, err := reusable.ListenPacket(context.Background(), "udp4", net.JoinHostPort(d.Address.String(), strconv.Itoa(discovery.Port3702)))
	if err != nil {
		return fmt.Errorf("WS-Discovery on %s: %w", d.Address, err)
	}
	d.discover = c.(*net.UDPConn)
	group.Go(func() error {
		buf := make([]byte, 64<<10)
		for {
			n, from, err := d.discover.ReadFromUDP(buf)
			if err != nil {
				return ignoreClosed(err)
			}
			d.reply(buf[:n], from)
		}
	})
	return nil
}

// reply answers a probe that asks for this kind of device.
func (d *device) reply(b []byte, to *net.UDPAddr) {
	m, err := discovery.ParseMessage(b)
	if err != nil || m.Action != "Probe" || d.discover == nil {
		return
	}
	own := "NetworkVideoTransmitter"
	if d.Kind == "recorder" {
		own = "NetworkVideoStorage"
	}
	if len(m.Types) > 0 && !slices.Contains(m.Types, "Device") && !slices.Contains(m.Types, own) {
		return
	}
	d.discover.WriteToUDP([]byte(d.maker.dialect(`<?xml version="1.0" encoding="UTF-8"?><S:Envelope xmlns:S="`+onvif.NSSoap+
		`" xmlns:D="`+onvif.NSDevice+`" xmlns:X="http://schemas.xmlsoap.org/ws/2005/04/discovery" xmlns:T="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:dn="http://www.onvif.org/ver10/network/wsdl"><S:Header>`+
		`<T:MessageID>uuid:`+randomHex()+`</T:MessageID><T:RelatesTo>`+onvif.Escape(m.ID)+`</T:RelatesTo><T:To>http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous</T:To>`+
		`<T:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/ProbeMatches</T:Action></S:Header><S:Body><X:ProbeMatches><X:ProbeMatch>`+
		`<T:EndpointReference><T:Address>`+d.endpoint+`</T:Address></T:EndpointReference><X:Types>dn:`+own+` D:Device</X:Types><X:Scopes>`+d.scopes()+
		`</X:Scopes><X:XAddrs>`+d.xaddr()+`</X:XAddrs><X:MetadataVersion>1</X:MetadataVersion></X:ProbeMatch></X:ProbeMatches></S:Body></S:Envelope>`)), to)
}

// multicast hears the group on the loopback interface for all devices of a world.
type multicast struct {
	conn *net.UDPConn
	wg   sync.WaitGroup
}

func listenMulticast(devices []*device) (*multicast, error) {
	lo, err := loopback()
	if err != nil {
		return nil, err
	}
	c, err := reusable.ListenPacket(context.Background(), "udp4", discovery.Group4.String())
	if err != nil {
		return nil, fmt.Errorf("WS-Discovery group: %w", err)
	}
	m := &multicast{conn: c.(*net.UDPConn)}
	if err := ipv4.NewPacketConn(m.conn).JoinGroup(lo, &net.UDPAddr{IP: discovery.Group4.Addr().AsSlice()}); err != nil {
		m.conn.Close()
		return nil, fmt.Errorf("joining the WS-Discovery group on loopback: %w", err)
	}
	m.wg.Go(func() {
		buf := make([]byte, 64<<10)
		for {
			n, from, err := m.conn.ReadFromUDP(buf)
			if err != nil {
				return
			}
			msg := slices.Clone(buf[:n])
			m.wg.Go(func() {
				for i, d := range devices {
					d.reply(msg, from)
					if i%16 == 15 { // the standard spreads answers over half a second; this is a part of it
						time.Sleep(time.Duration(rand.IntN(3000)) * time.Microsecond)
					}
				}
			})
		}
	})
	return m, nil
}

func (m *multicast) stop() {
	m.conn.Close()
	m.wg.Wait()
}

func loopback() (*net.Interface, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	for _, i := range all {
		if i.Flags&net.FlagLoopback != 0 && i.Flags&net.FlagUp != 0 {
			return &i, nil
		}
	}
	return nil, errors.New("this machine has no loopback interface that is up")
}
