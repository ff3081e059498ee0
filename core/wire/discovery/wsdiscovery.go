package discovery

import (
	"bytes"
	"encoding/xml"
	"errors"
	"net/netip"
	"net/url"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/ground/wiretext"
)

// WS-Discovery 2005/04 with WS-Addressing 2004/08, as the ONVIF Core Specification §7 uses them.
const (
	nsDiscovery  = "http://schemas.xmlsoap.org/ws/2005/04/discovery"
	nsAddressing = "http://schemas.xmlsoap.org/ws/2004/08/addressing"
	nsNetwork    = "http://www.onvif.org/ver10/network/wsdl"
	nsDevice     = "http://www.onvif.org/ver10/device/wsdl"
	scopePrefix  = "onvif://www.onvif.org/"
)

// Limits on one datagram's content.
const (
	maxMatches = 64
	maxScopes  = 128
	maxXAddrs  = 16
)

// probeTypes are asked one after the other: some devices answer only one of them.
var probeTypes = []string{"dn:NetworkVideoTransmitter", "tds:Device", ""}

// NewProbe builds a Probe for a type ("" for none) and returns it with its message ID.
func NewProbe(types string) (message []byte, id string) {
	id = "uuid:" + uuid.NewString()
	body := "<d:Probe/>"
	if types != "" {
		body = "<d:Probe><d:Types>" + types + "</d:Types></d:Probe>"
	}
	return []byte(`<?xml version="1.0" encoding="UTF-8"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:w="` +
		nsAddressing +
		`" xmlns:d="` + nsDiscovery + `" xmlns:dn="` + nsNetwork + `" xmlns:tds="` + nsDevice + `"><e:Header><w:MessageID>` + id +
		`</w:MessageID><w:To>urn:schemas-xmlsoap-org:ws:2005:04:discovery</w:To><w:Action>` + nsDiscovery +
		`/Probe</w:Action></e:Header><e:Body>` +
		body + `</e:Body></e:Envelope>`), id
}

// A Match is one device in a ProbeMatches or Hello message.
type Match struct {
	Endpoint string   // EndpointReference/Address: the stable identity
	Types    []string // local names
	Scopes   []string // as sent, percent-encoded
	XAddrs   []string
}

// Scope returns the decoded values of the ONVIF scopes of a category: "name", "hardware", "location", "type", "Profile".
func (m Match) Scope(category string) (out []string) {
	for _, s := range m.Scopes {
		if v, ok := strings.CutPrefix(s, scopePrefix+category+"/"); ok {
			if plain, err := url.PathUnescape(v); err == nil {
				v = plain
			}
			out = append(out, clip(v))
		}
	}
	return out
}

var errNotDiscovery = errors.New("no WS-Discovery message")

// A Message is a parsed WS-Discovery datagram.
type Message struct {
	Action    string // "Probe", "ProbeMatches", "Hello", "Bye", ...
	ID        string
	RelatesTo string
	Types     []string // of a Probe
	Matches   []Match  // of ProbeMatches, ResolveMatches, Hello and Bye
}

// ParseMessage reads a datagram. Elements are matched by local name; what is not needed is passed over.
func ParseMessage(b []byte) (*Message, error) {
	if len(b) > 64<<10 {
		return nil, errNotDiscovery
	}
	type match struct {
		Endpoint string `xml:"EndpointReference>Address"`
		Types    string `xml:"Types"`
		Scopes   string `xml:"Scopes"`
		XAddrs   string `xml:"XAddrs"`
	}
	var env struct {
		XMLName   xml.Name
		Action    string `xml:"Header>Action"`
		ID        string `xml:"Header>MessageID"`
		RelatesTo string `xml:"Header>RelatesTo"`
		Body      struct {
			Probe    *match  `xml:"Probe"`
			Matches  []match `xml:"ProbeMatches>ProbeMatch"`
			Resolves []match `xml:"ResolveMatches>ResolveMatch"`
			Hello    []match `xml:"Hello"`
			Bye      []match `xml:"Bye"`
		} `xml:"Body"`
	}
	d := xml.NewDecoder(bytes.NewReader(b))
	if err := d.Decode(&env); err != nil || env.XMLName.Local != "Envelope" {
		return nil, errNotDiscovery
	}
	action := strings.TrimSpace(env.Action)
	m := &Message{Action: action[strings.LastIndex(action, "/")+1:], ID: strings.TrimSpace(env.ID),
		RelatesTo: strings.TrimSpace(env.RelatesTo)}
	if env.Body.Probe != nil {
		m.Types = locals(env.Body.Probe.Types)
	}
	for _, list := range [][]match{env.Body.Matches, env.Body.Resolves, env.Body.Hello, env.Body.Bye} {
		for _, x := range list {
			if len(m.Matches) == maxMatches {
				return m, nil
			}
			m.Matches = append(m.Matches, Match{
				Endpoint: clip(strings.TrimSpace(x.Endpoint)), Types: locals(x.Types),
				Scopes: first(strings.Fields(x.Scopes), maxScopes), XAddrs: first(strings.Fields(x.XAddrs), maxXAddrs),
			})
		}
	}
	return m, nil
}

func locals(types string) (out []string) {
	for _, t := range first(strings.Fields(types), 16) {
		out = append(out, t[strings.LastIndex(t, ":")+1:])
	}
	return out
}

func first(list []string, n int) []string { return list[:min(len(list), n)] }

// clip makes one harmless line of what a device says.
func clip(s string) string { return wiretext.Line(s, 200) }

// Port3702 and Group4 are where WS-Discovery listens (WS-Discovery §2.4).
const Port3702 = 3702

// Group4 is the IPv4 multicast group, Group6 the link-local IPv6 one.
var (
	Group4 = netip.MustParseAddrPort("239.255.255.250:3702")
	Group6 = netip.MustParseAddrPort("[ff02::c]:3702")
)
