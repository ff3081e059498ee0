package hostile

import (
	"errors"
	"fmt"
	"net"
	"net/netip"

	"golang.org/x/net/dns/dnsmessage"
	"golang.org/x/net/ipv4"

	"unlatch/core/wire/discovery"
)

// A Wire is a host that announces whatever it likes from an address of its own, on the loopback interface.
type Wire struct{ conn *net.UDPConn }

// Join opens a wire at an address.
func Join(from netip.Addr) (*Wire, error) {
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(from, 0)))
	if err != nil {
		return nil, err
	}
	all, err := net.Interfaces()
	for _, i := range all {
		if i.Flags&net.FlagLoopback != 0 {
			return &Wire{conn}, errors.Join(err, ipv4.NewPacketConn(conn).SetMulticastInterface(&i))
		}
	}
	return nil, errors.Join(err, conn.Close(), errors.New("there is no loopback interface"))
}

// Close leaves.
func (w *Wire) Close() error { return w.conn.Close() }

// Hello says that the device of an endpoint reference has come up at the wire's address, with a device service at an address (WS-Discovery
// §4.1).
func (w *Wire) Hello(endpoint, service string) error {
	text := `<?xml version="1.0"?>` +
		`<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing"` +
		` xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery">` +
		`<e:Header><a:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/Hello</a:Action></e:Header><e:Body><d:Hello>` +
		`<a:EndpointReference><a:Address>` + endpoint + `</a:Address></a:EndpointReference>` +
		`<d:Types>dn:NetworkVideoTransmitter</d:Types><d:XAddrs>` + service + `</d:XAddrs></d:Hello></e:Body></e:Envelope>`
	_, err := w.conn.WriteToUDPAddrPort([]byte(text), discovery.Group4)
	return err
}

// Storm says so for n devices that it invents.
func (w *Wire) Storm(n int) error {
	for i := range n {
		if err := w.Hello(fmt.Sprintf("urn:invented:%s:%d", w.conn.LocalAddr(), i), ""); err != nil {
			return err
		}
	}
	return nil
}

// NULs announces a camera by mDNS whose name and text hold NUL bytes, an escape and letters that turn the writing round.
func (w *Wire) NULs() error {
	b := dnsmessage.NewBuilder(nil, dnsmessage.Header{Response: true, Authoritative: true})
	b.EnableCompression()
	name := dnsmessage.MustNewName("_rtsp._tcp.local.")
	err := errors.Join(b.StartAnswers(),
		b.PTRResource(dnsmessage.ResourceHeader{Name: name, Class: dnsmessage.ClassINET, TTL: 10},
			dnsmessage.PTRResource{PTR: dnsmessage.MustNewName("Nul\x00 \x1b[2J\u202e._rtsp._tcp.local.")}),
		b.TXTResource(dnsmessage.ResourceHeader{Name: name, Class: dnsmessage.ClassINET, TTL: 10},
			dnsmessage.TXTResource{TXT: []string{"model=V\x004\x1b", "manufacturer=\x00", "serial=S\x001"}}))
	raw, ferr := b.Finish()
	if err = errors.Join(err, ferr); err != nil {
		return err
	}
	_, err = w.conn.WriteToUDPAddrPort(raw, discovery.GroupMDNS)
	return err
}
