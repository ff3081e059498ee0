package discovery

import (
	"net/netip"
	"strings"
	"time"

	"golang.org/x/net/dns/dnsmessage"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
)

// GroupMDNS is RFC 6762 §3.
var GroupMDNS = netip.MustParseAddrPort("224.0.0.251:5353")

// services are the DNS-SD service types that cameras announce, and what else answers to the last two.
var services = []string{"_rtsp._tcp.local.", "_onvif._tcp.local.", "_http._tcp.local.", "_ipp._tcp.local."}

// mdns asks for DNS-SD services with one-shot queries (RFC 6762 §5.1), whose answers come back to the asking port.
func mdns(ranges address.Ranges) caller {
	return caller{
		name: "mDNS", group: GroupMDNS, ttl: 255, wait: time.Second,
		calls: func() [][]byte { return [][]byte{mdnsQuery()} },
		read: func(b []byte, from netip.Addr) []sighting.Sighting {
			s, ok := mdnsAnswer(b)
			if !ok {
				return nil
			}
			s.Method, s.At, s.Addr, s.Stray = sighting.MDNS, time.Now().UTC(), from, !ranges.Contains(from)
			return []sighting.Sighting{s}
		},
	}
}

// mdnsQuery asks for all services in one message.
func mdnsQuery() []byte {
	b := dnsmessage.NewBuilder(nil, dnsmessage.Header{})
	b.StartQuestions()
	for _, s := range services {
		// The top bit of the class asks for a unicast answer (RFC 6762 §5.4).
		b.Question(dnsmessage.Question{Name: dnsmessage.MustNewName(s), Type: dnsmessage.TypePTR, Class: dnsmessage.ClassINET | 1<<15})
	}
	raw, err := b.Finish()
	if err != nil {
		panic(err) // constant input
	}
	return raw
}

// mdnsAnswer reads the services of one device out of an answer: PTR names the instance, SRV the port, TXT what it says of
// itself. At most 256 records are read.
func mdnsAnswer(b []byte) (sighting.Sighting, bool) {
	var p dnsmessage.Parser
	head, err := p.Start(b)
	if err != nil || !head.Response {
		return sighting.Sighting{}, false
	}
	if p.SkipAllQuestions() != nil {
		return sighting.Sighting{}, false
	}
	s := sighting.Sighting{Kind: sighting.Other}
	found := false
	for _, next := range []func() (dnsmessage.Resource, error){p.Answer, p.Authority, p.Additional} {
		for range 256 {
			r, err := next()
			if err != nil {
				break
			}
			found = readMDNSRecord(&s, r) || found
		}
	}
	return s, found
}

func readMDNSRecord(s *sighting.Sighting, r dnsmessage.Resource) bool {
	name := strings.ToLower(r.Header.Name.String())
	switch body := r.Body.(type) {
	case *dnsmessage.PTRResource:
		if !offered(name) {
			return false
		}
		readMDNSService(s, name)
		instance, _, _ := strings.Cut(body.PTR.String(), "._")
		s.Name = clip(unescapeDNS(instance))
		return true
	case *dnsmessage.SRVResource:
		_, service, ok := strings.Cut(name, "._")
		if !ok || !offered("_"+service) {
			return false
		}
		readMDNSService(s, "_"+service)
		if len(s.Ports) < 8 {
			s.Ports = append(s.Ports, sighting.Port{Number: body.Port, Speaks: "unknown", Named: true})
		}
		return true
	case *dnsmessage.TXTResource:
		for _, t := range first(body.TXT, 32) {
			readMDNSText(s, t)
		}
	}
	return false
}

func offered(service string) bool {
	for _, s := range services {
		if s == service {
			return true
		}
	}
	return false
}

func readMDNSService(s *sighting.Sighting, service string) {
	switch {
	case strings.HasPrefix(service, "_rtsp.") || strings.HasPrefix(service, "_onvif."):
		s.Kind, s.Is = sighting.Camera, ""
	case strings.HasPrefix(service, "_ipp.") && s.Kind == sighting.Other:
		s.Is = "printer"
	}
}

func readMDNSText(s *sighting.Sighting, t string) {
	key, value, _ := strings.Cut(t, "=")
	switch strings.ToLower(key) {
	case "model", "md":
		s.Hardware = clip(value)
	case "manufacturer", "vendor", "mf":
		s.Maker = clip(value)
	case "serial", "sn":
		s.Serial = clip(value)
	case "mac", "macaddress":
		s.MAC = CleanMAC(value)
	}
}

// unescapeDNS undoes the backslashes of a presentation name.
func unescapeDNS(s string) string { return strings.ReplaceAll(s, `\`, "") }

// CleanMAC writes a hardware address in the one form used here, or "" for none.
func CleanMAC(s string) string {
	hex := strings.Map(func(r rune) rune {
		switch {
		case r >= '0' && r <= '9', r >= 'a' && r <= 'f':
			return r
		case r >= 'A' && r <= 'F':
			return r + 'a' - 'A'
		case r == ':' || r == '-' || r == '.' || r == ' ':
			return -1
		}
		return 'x'
	}, s)
	if len(hex) != 12 || strings.Contains(hex, "x") || hex == "000000000000" || hex == "ffffffffffff" {
		return ""
	}
	var parts []string
	for i := 0; i < 12; i += 2 {
		parts = append(parts, hex[i:i+2])
	}
	return strings.Join(parts, ":")
}
