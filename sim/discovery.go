package sim

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/net/dns/dnsmessage"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"unlatch/core/wire/discovery"
	"unlatch/core/wire/onvif"
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
	if len(d.Announces) == 0 {
		return nil
	}
	c, err := reusable.ListenPacket(context.Background(), "udp4", net.JoinHostPort(d.Address.String(), strconv.Itoa(discovery.Port3702)))
	if err != nil {
		return fmt.Errorf("WS-Discovery on %s: %w", d.Address, err)
	}
	d.discover = c.(*net.UDPConn)
	lo, err := loopback()
	if err == nil {
		err = ipv4.NewPacketConn(d.discover).SetMulticastInterface(lo)
	}
	if err != nil {
		return err
	}
	d.announce("Hello")
	group.Go(func() error {
		buf := make([]byte, 64<<10)
		for {
			n, from, err := d.discover.ReadFromUDP(buf)
			if err != nil {
				return ignoreClosed(err)
			}
			d.replyAs("ws-unicast", buf[:n], from)
			d.reply(buf[:n], from)
		}
	})
	return nil
}

// reply answers a probe that asks for this kind of device.
func (d *device) reply(b []byte, to *net.UDPAddr) { d.replyAs("ws-discovery", b, to) }

// replyAs answers as one of the ways in which the device announces itself; ws-unicast is for those that multicast does not reach.
func (d *device) replyAs(way string, b []byte, to *net.UDPAddr) {
	m, err := discovery.ParseMessage(b)
	if err != nil || m.Action != "Probe" || !slices.Contains(d.Announces, way) {
		return
	}
	if d.Defects.LateProbe && d.probed.Add(1)%2 == 1 {
		return
	}
	own := d.discoveryType()
	if len(m.Types) > 0 && !slices.Contains(m.Types, "Device") && !slices.Contains(m.Types, own) {
		return
	}
	answer := d.discoveryMessage("ProbeMatches",
		`<T:RelatesTo>`+onvif.Escape(m.ID)+`</T:RelatesTo><T:To>http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous</T:To>`,
		`<X:ProbeMatches><X:ProbeMatch>`+d.match(own)+`</X:ProbeMatch></X:ProbeMatches>`)
	for range max(d.Defects.Answers, 1) {
		d.answerTo(to).WriteToUDP(answer, to)
	}
}

// answerTo returns the socket to answer from: the device's own, or over IPv6 the one that all share.
func (d *device) answerTo(to *net.UDPAddr) *net.UDPConn {
	if to.IP.To4() == nil {
		return d.world.multi.six
	}
	return d.discover
}

// discoveryMessage returns a WS-Discovery message in the maker's own spelling.
func (d *device) discoveryMessage(action, header, body string) []byte {
	return []byte(d.maker.dialect(`<?xml version="1.0" encoding="UTF-8"?><S:Envelope xmlns:S="` + onvif.NSSoap +
		`" xmlns:D="` + onvif.NSDevice +
		`" xmlns:X="http://schemas.xmlsoap.org/ws/2005/04/discovery" xmlns:T="http://schemas.xmlsoap.org/ws/2004/08/addressing"` +
		` xmlns:dn="http://www.onvif.org/ver10/network/wsdl">` +
		`<S:Header>` +
		`<T:MessageID>uuid:` + randomHex() + `</T:MessageID>` + header + `<T:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/` +
		action + `</T:Action></S:Header><S:Body>` + body + `</S:Body></S:Envelope>`))
}

// match describes the device as ProbeMatch and Hello do.
func (d *device) match(own string) string {
	return `<T:EndpointReference><T:Address>` + d.endpoint + `</T:Address></T:EndpointReference><X:Types>dn:` + own +
		`</X:Types><X:Scopes>` + d.scopes() +
		`</X:Scopes><X:XAddrs>` + strings.TrimSpace(d.Defects.XAddrs+" "+d.xaddr()) + `</X:XAddrs><X:MetadataVersion>1</X:MetadataVersion>`
}

// announce tells the wire that the device has come, or that it goes (WS-Discovery §4.1, §4.2).
func (d *device) announce(action string) {
	if !slices.Contains(d.Announces, "ws-discovery") || d.discover == nil {
		return
	}
	body := d.match(d.discoveryType())
	if action == "Bye" {
		body = `<T:EndpointReference><T:Address>` + d.endpoint + `</T:Address></T:EndpointReference>`
	}
	message := d.discoveryMessage(action, `<T:To>urn:schemas-xmlsoap-org:ws:2005:04:discovery</T:To>`, `<X:`+action+`>`+body+`</X:`+action+`>`)
	d.discover.WriteToUDPAddrPort(message, discovery.Group4) // one that is lost is like one on a wire
}

// discoveryType returns what the device calls itself in WS-Discovery.
func (d *device) discoveryType() string {
	switch d.Kind {
	case "recorder":
		return "NetworkVideoStorage"
	case "other":
		return strings.ReplaceAll(d.Model, " ", "")
	}
	return "NetworkVideoTransmitter"
}

// replyMDNS answers a DNS-SD query (RFC 6763) with the device's service, port and model.
func (d *device) replyMDNS(b []byte, to *net.UDPAddr) {
	var p dnsmessage.Parser
	if head, err := p.Start(b); err != nil || head.Response || !slices.Contains(d.Announces, "mdns") {
		return
	}
	service, port := "_rtsp._tcp.local.", d.rtspPort
	if d.Kind == "other" {
		service, port = "_ipp._tcp.local.", d.webPort
	}
	questions, err := p.AllQuestions()
	if err != nil || !slices.ContainsFunc(questions, func(q dnsmessage.Question) bool { return q.Name.String() == service }) {
		return
	}
	name, err := dnsmessage.NewName(strings.ReplaceAll(d.maker.name+" "+d.Model, " ", "-") + "." + service)
	if err != nil {
		return
	}
	r := dnsmessage.NewBuilder(nil, dnsmessage.Header{Response: true, Authoritative: true})
	h := func(n dnsmessage.Name) dnsmessage.ResourceHeader {
		return dnsmessage.ResourceHeader{Name: n, Class: dnsmessage.ClassINET, TTL: 10}
	}
	r.StartAnswers()
	r.PTRResource(h(dnsmessage.MustNewName(service)), dnsmessage.PTRResource{PTR: name})
	r.SRVResource(h(name), dnsmessage.SRVResource{Port: uint16(port), Target: name})
	r.TXTResource(h(name), dnsmessage.TXTResource{TXT: []string{"model=" + d.Model, "vendor=" + d.maker.name, "serial=" + d.Serial,
		"mac=" + d.MAC}})
	if raw, err := r.Finish(); err == nil {
		d.discover.WriteToUDP(raw, to)
	}
}

// replySSDP answers a search with the place of the device's description.
func (d *device) replySSDP(b []byte, to *net.UDPAddr) {
	if !bytes.HasPrefix(b, []byte("M-SEARCH")) || !slices.Contains(d.Announces, "ssdp") {
		return
	}
	fmt.Fprintf(writerTo{d.discover, to}, "HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age=60\r\nEXT:\r\nLOCATION: "+
		"http://%s/description.xml\r\nSERVER: %s\r\nST: upnp:rootdevice\r\nUSN: %s::upnp:rootdevice\r\n\r\n",
		d.named(d.webPort), d.maker.server, d.endpoint)
}

type writerTo struct {
	c  *net.UDPConn
	to *net.UDPAddr
}

func (w writerTo) Write(b []byte) (int, error) { return w.c.WriteToUDP(b, w.to) }

// upnpType returns the device's type in its UPnP description.
func (d *device) upnpType() string {
	if d.Kind == "other" {
		return "urn:schemas-upnp-org:device:" + strings.ReplaceAll(d.Model, " ", "") + ":1"
	}
	return "urn:schemas-upnp-org:device:DigitalSecurityCamera:1"
}

// multicast hears the discovery groups on the loopback interface for all devices of a world.
type multicast struct {
	conns []*net.UDPConn
	six   *net.UDPConn // hears ff02::c and answers over IPv6; nil where this machine has no network that carries it
	wg    sync.WaitGroup
}

func listenMulticast(devices func() []*device) (*multicast, error) {
	lo, err := loopback()
	if err != nil {
		return nil, err
	}
	m := &multicast{}
	for _, g := range []struct {
		group netip.AddrPort
		reply func(*device, []byte, *net.UDPAddr)
	}{{discovery.Group4, (*device).reply}, {discovery.GroupMDNS, (*device).replyMDNS}, {discovery.GroupSSDP, (*device).replySSDP}} {
		c, err := reusable.ListenPacket(context.Background(), "udp4", g.group.String())
		if err != nil {
			m.stop()
			return nil, fmt.Errorf("discovery group %s: %w", g.group, err)
		}
		conn := c.(*net.UDPConn)
		m.conns = append(m.conns, conn)
		if err := ipv4.NewPacketConn(conn).JoinGroup(lo, &net.UDPAddr{IP: g.group.Addr().AsSlice()}); err != nil {
			m.stop()
			return nil, fmt.Errorf("joining %s on loopback: %w", g.group, err)
		}
		m.wg.Go(func() { m.hear(conn, devices, g.reply) })
	}
	m.hear6(devices)
	return m, nil
}

// hear6 answers probes over IPv6 on every interface that can carry them. The loopback interface has no link-local address, so that tests
// bring a network of their own.
func (m *multicast) hear6(devices func() []*device) {
	c, err := reusable.ListenPacket(context.Background(), "udp6", discovery.Group6.String())
	all, ierr := net.Interfaces()
	if err != nil || ierr != nil {
		return
	}
	m.six = c.(*net.UDPConn)
	m.conns = append(m.conns, m.six)
	for _, i := range all {
		ipv6.NewPacketConn(m.six).JoinGroup(&i, &net.UDPAddr{IP: discovery.Group6.Addr().AsSlice()})
	}
	m.wg.Go(func() {
		m.hear(m.six, devices, func(d *device, b []byte, to *net.UDPAddr) { d.replyAs("ws-discovery6", b, to) })
	})
}

func (m *multicast) hear(conn *net.UDPConn, devices func() []*device, reply func(*device, []byte, *net.UDPAddr)) {
	buf := make([]byte, 64<<10)
	for {
		n, from, err := conn.ReadFromUDP(buf)
		if err != nil {
			return
		}
		msg := slices.Clone(buf[:n])
		m.wg.Go(func() {
			for i, d := range devices() {
				if d.discover != nil {
					reply(d, msg, from)
				}
				if i%16 == 15 { // the standard spreads answers over half a second; this is a part of it
					time.Sleep(time.Duration(rand.IntN(3000)) * time.Microsecond)
				}
			}
		})
	}
}

func (m *multicast) stop() {
	for _, c := range m.conns {
		c.Close()
	}
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
