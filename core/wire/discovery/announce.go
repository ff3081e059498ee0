package discovery

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"golang.org/x/net/ipv4"

	"unlatch/core/wire/onvif"
)

// An Announced is a device that this program is to others on the wire.
type Announced struct {
	Endpoint string     // its endpoint reference (WS-Discovery §2.6)
	Scopes   []string   // ONVIF Core Specification §7.3.3
	Address  string     // of its device service
	From     netip.Addr // an address of this machine, from which it answers
}

// announcedType is what all of them are (ONVIF Core Specification §7.3.2).
const announcedType = "NetworkVideoTransmitter"

// An Announcer answers probes for devices that this program is, and says when they come and go (WS-Discovery §4 and §5), over IPv4. Its
// zero value is ready.
type Announcer struct {
	mu   sync.Mutex
	list []Announced
	up   bool
}

// Set says which devices there are from now on.
func (a *Announcer) Set(list []Announced) {
	a.mu.Lock()
	defer a.mu.Unlock()
	old := a.list
	a.list = slices.Clone(list)
	if !a.up {
		return
	}
	for _, x := range a.list {
		if !slices.ContainsFunc(old, x.same) {
			x.say("Hello")
		}
	}
	for _, x := range old {
		if !slices.ContainsFunc(list, func(y Announced) bool { return y.Endpoint == x.Endpoint }) {
			x.say("Bye")
		}
	}
}

// same reports whether y says what x does.
func (x Announced) same(y Announced) bool {
	return x.Endpoint == y.Endpoint && x.Address == y.Address && slices.Equal(x.Scopes, y.Scopes)
}

// Run answers until ctx ends, and then says goodbye for all. The error is of a port that cannot be heard on.
func (a *Announcer) Run(ctx context.Context) error {
	s := Sweep{EveryInterface: true}
	ifaces, err := s.interfaces()
	if err != nil {
		return err
	}
	conn, err := join(Group4, ifaces)
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	a.rise(true)
	defer a.rise(false)
	buf := make([]byte, 64<<10)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return err
		}
		if m, err := ParseMessage(buf[:n]); err == nil && m.Action == "Probe" {
			a.answer(m, from)
		}
	}
}

// rise says that all have come, or that they go.
func (a *Announcer) rise(up bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.up = up
	action := map[bool]string{true: "Hello", false: "Bye"}[up]
	for _, x := range a.list {
		x.say(action)
	}
}

// answer answers a probe for each device that it asks for.
func (a *Announcer) answer(m *Message, to netip.AddrPort) {
	if len(m.Types) > 0 && !slices.Contains(m.Types, "Device") && !slices.Contains(m.Types, announcedType) {
		return
	}
	a.mu.Lock()
	list := a.list
	a.mu.Unlock()
	for _, x := range list {
		x.send(x.message("ProbeMatches", `<a:RelatesTo>`+onvif.Escape(m.ID)+`</a:RelatesTo>`+
			`<a:To>http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous</a:To>`,
			`<d:ProbeMatches><d:ProbeMatch>`+x.match()+`</d:ProbeMatch></d:ProbeMatches>`), to)
	}
}

// say multicasts that the device has come or goes (WS-Discovery §4.1, §4.2).
func (x Announced) say(action string) {
	body := x.match()
	if action == "Bye" {
		body = x.reference()
	}
	x.send(x.message(action, `<a:To>urn:schemas-xmlsoap-org:ws:2005:04:discovery</a:To>`, `<d:`+action+`>`+body+`</d:`+action+`>`), Group4)
}

func (x Announced) reference() string {
	return `<a:EndpointReference><a:Address>` + onvif.Escape(x.Endpoint) + `</a:Address></a:EndpointReference>`
}

// match describes the device as ProbeMatch and Hello do.
func (x Announced) match() string {
	return x.reference() + `<d:Types>dn:` + announcedType + `</d:Types><d:Scopes>` + onvif.Escape(strings.Join(x.Scopes, " ")) +
		`</d:Scopes><d:XAddrs>` + onvif.Escape(x.Address) + `</d:XAddrs><d:MetadataVersion>1</d:MetadataVersion>`
}

func (x Announced) message(action, header, body string) []byte {
	id := make([]byte, 16)
	rand.Read(id)
	h := hex.EncodeToString(id)
	return []byte(`<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="` + onvif.NSSoap +
		`" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery"` +
		` xmlns:dn="http://www.onvif.org/ver10/network/wsdl"><s:Header><a:MessageID>urn:uuid:` + h[:8] + "-" + h[8:12] + "-" + h[12:16] +
		"-" + h[16:20] + "-" + h[20:] + `</a:MessageID>` + header + `<a:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/` + action +
		`</a:Action></s:Header><s:Body>` + body + `</s:Body></s:Envelope>`)
}

// send sends a message from the device's own address. One that is lost is like one on a wire.
func (x Announced) send(message []byte, to netip.AddrPort) {
	c, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(x.From, 0)))
	if err != nil {
		return
	}
	defer c.Close()
	if to.Addr().IsMulticast() {
		if i := interfaceOf(x.From); i != nil {
			ipv4.NewPacketConn(c).SetMulticastInterface(i)
		}
	}
	c.WriteToUDPAddrPort(message, netip.AddrPortFrom(to.Addr().Unmap(), to.Port()))
}

// interfaceOf returns the interface in whose network an address lies; nil for none.
func interfaceOf(a netip.Addr) *net.Interface {
	all, _ := net.Interfaces()
	for _, i := range all {
		own, _ := i.Addrs()
		for _, x := range own {
			if p, err := netip.ParsePrefix(x.String()); err == nil && p.Contains(a) {
				return &i
			}
		}
	}
	return nil
}
