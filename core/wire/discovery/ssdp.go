package discovery

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
)

// GroupSSDP is UPnP Device Architecture 1.1 §1.3.
var GroupSSDP = netip.MustParseAddrPort("239.255.255.250:1900")

const maxDescription = 256 << 10

// ssdp searches for everything: cameras answer to types of their own making.
func ssdp(ranges address.Ranges) caller {
	search := "M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nMAN: \"ssdp:discover\"\r\nMX: 1\r\nST: ssdp:all\r\n\r\n"
	return caller{
		name: "SSDP", group: GroupSSDP, ttl: 2, wait: 1300 * time.Millisecond,
		calls: func() [][]byte { return [][]byte{[]byte(search)} },
		read: func(b []byte, from netip.Addr) []sighting.Sighting {
			s, ok := ssdpAnswer(b, from)
			if !ok {
				return nil
			}
			s.At, s.Stray = time.Now().UTC(), !ranges.Contains(from)
			return []sighting.Sighting{s}
		},
	}
}

// ssdpAnswer reads one search response (UPnP Device Architecture 1.1 §1.3.3). A description that lies on another host than the one
// which answered is not followed.
func ssdpAnswer(b []byte, from netip.Addr) (sighting.Sighting, bool) {
	res, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(b)), nil)
	if err != nil || res.StatusCode != http.StatusOK {
		return sighting.Sighting{}, false
	}
	res.Body.Close()
	s := sighting.Sighting{Method: sighting.SSDP, Addr: from, Kind: ssdpKind(res.Header.Get("ST"))}
	if u, err := url.Parse(res.Header.Get("Location")); err == nil && u.Scheme == "http" && u.Hostname() == from.String() {
		s.Description = u.String()
	}
	return s, true
}

func ssdpKind(types string) sighting.Kind {
	if strings.Contains(types, "DigitalSecurityCamera") || strings.Contains(types, "NetworkVideoTransmitter") {
		return sighting.Camera
	}
	return sighting.Other
}

// followUp asks a device for more where its answer told where: its description, and the ports that it named.
func followUp(ctx context.Context, dial address.Dialer, x sighting.Sighting, found func(sighting.Sighting)) {
	if x.Description != "" {
		if s, ok := describe(ctx, dial, x); ok {
			found(s)
		}
	}
	for _, p := range x.Ports {
		askPort(ctx, dial, netip.AddrPortFrom(x.Addr, p.Number), func(s sighting.Sighting) {
			for i := range s.Ports {
				s.Ports[i].Named = true
			}
			found(s)
		})
	}
}

// describe reads a UPnP device description (UPnP Device Architecture 1.1 §2.3).
func describe(ctx context.Context, dial address.Dialer, x sighting.Sighting) (sighting.Sighting, bool) {
	client := http.Client{Timeout: 2 * questionTimeout,
		Transport:     &http.Transport{DialContext: dial.DialContext, DisableKeepAlives: true, MaxResponseHeaderBytes: 32 << 10},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, x.Description, nil)
	if err != nil {
		return x, false
	}
	res, err := client.Do(req)
	if err != nil {
		return x, false
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, maxDescription))
	if err != nil || res.StatusCode != http.StatusOK {
		return x, false
	}
	out, err := parseDescription(raw)
	if err != nil {
		return x, false
	}
	out.Method, out.At, out.Addr, out.Stray = sighting.SSDP, time.Now().UTC(), x.Addr, x.Stray
	return out, true
}

func parseDescription(raw []byte) (sighting.Sighting, error) {
	var root struct {
		XMLName xml.Name
		Device  struct {
			Type   string `xml:"deviceType"`
			Name   string `xml:"friendlyName"`
			Maker  string `xml:"manufacturer"`
			Model  string `xml:"modelName"`
			Serial string `xml:"serialNumber"`
		} `xml:"device"`
	}
	if err := xml.Unmarshal(raw, &root); err != nil || root.XMLName.Local != "root" {
		return sighting.Sighting{}, fmt.Errorf("no device description")
	}
	d := root.Device
	s := sighting.Sighting{Kind: ssdpKind(d.Type), Name: clip(d.Name), Maker: clip(d.Maker), Hardware: clip(d.Model), Serial: clip(d.Serial)}
	if s.Kind == sighting.Other {
		parts := strings.Split(d.Type, ":")
		if len(parts) >= 2 {
			s.Is = clip(parts[len(parts)-2])
		}
	}
	return s, nil
}
