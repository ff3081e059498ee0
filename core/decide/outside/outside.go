// Package outside plans how a site's cameras are seen from elsewhere: which port of the site's outside address leads to which stream, what
// must never be led inside, and how a URL reads from there. Nothing on a router is changed: a person who runs it gets a sheet.
package outside

import (
	"cmp"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/ground/address"
	"unlatch/core/ground/streamurl"
)

// A Form is how a site is seen from outside. The zero value is a site that is not.
type Form struct {
	Addresses []string `json:"addresses" doc:"fixed addresses, or names that lead to one; the first is written into URLs"`
	Pool      string   `json:"pool" doc:"outside ports to take, like 20000-20099"`
	Maps      []Map    `json:"maps"`
}

// A Map leads an outside port to a place inside.
type Map struct {
	Port   int       `json:"port" doc:"outside"`
	Inside string    `json:"inside" maxLength:"60" doc:"address and port, like 192.0.2.7:554"`
	Device uuid.UUID `json:"device"`
}

// A Stream is one stream of a device, as far as leading it out is concerned.
type Stream struct {
	Device uuid.UUID
	Name   string // of the device
	Role   string
	URL    string
	Proven bool
	Scheme string // in which the stream takes its sign-in: "none", "basic", "digest MD5"
	TLS    bool
}

// A Refused is a stream for which no port is planned, and why.
type Refused struct {
	Device uuid.UUID `json:"device"`
	Name   string    `json:"name"`
	Role   string    `json:"role"`
	Why    string    `json:"why"`
	Fix    string    `json:"fix"`
}

// A Mistake is something that is wrong with a form.
type Mistake struct {
	Port    int    `json:"port,omitempty" doc:"the outside port that it is about"`
	Problem string `json:"problem"`
	Fix     string `json:"fix"`
}

func (p *Mistake) Error() string { return p.Problem }

// Bounds of a form.
const (
	mostAddresses = 8
	mostMaps      = 1000
	lowestPort    = 1024 // ports below are services that attackers ask first, and many providers block them
)

var hostName = regexp.MustCompile(`^(?i)[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?(\.[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?)+$`)

// Check lists what is wrong with a form for a site; none where nothing is. never are the places that must not be led out, with what they
// are.
func (f Form) Check(site address.Ranges, never map[string]string) (out []Mistake) {
	if len(f.Addresses) > mostAddresses || len(f.Maps) > mostMaps {
		return []Mistake{{Problem: fmt.Sprintf("A site has at most %d outside addresses and %d ports.", mostAddresses, mostMaps),
			Fix: "Leave some out."}}
	}
	for _, a := range f.Addresses {
		addr, err := netip.ParseAddr(a)
		switch {
		case err != nil && !hostName.MatchString(a):
			out = append(out, Mistake{Problem: fmt.Sprintf("%q is neither an address nor a name.", a),
				Fix: "Type it like 203.0.113.7 or cameras.example.org."})
		case err == nil && site.Contains(addr):
			out = append(out, Mistake{Problem: a + " is inside: it is one of the site's own ranges.",
				Fix: "Type the address that the provider gives to the router."})
		}
	}
	low, high, err := ParsePool(f.Pool)
	if err != nil {
		out = append(out, Mistake{Problem: sentence(err.Error()), Fix: "Type it like 20000-20099."})
	}
	ports, places := map[int]bool{}, map[string]int{}
	for _, m := range f.Maps {
		inside, err := netip.ParseAddrPort(m.Inside)
		if err != nil {
			out = append(out, Mistake{Port: m.Port, Problem: fmt.Sprintf("%q is no address with a port.", m.Inside),
				Fix: "Type it like 192.0.2.7:554."})
			continue
		}
		if ports[m.Port] {
			out = append(out, Mistake{Port: m.Port, Problem: fmt.Sprintf("Port %d is used twice.", m.Port),
				Fix: "Give one of the two another port."})
		}
		if other, twice := places[m.Inside]; twice {
			out = append(out, Mistake{Port: m.Port, Problem: fmt.Sprintf("Ports %d and %d both lead to %s.", other, m.Port, m.Inside),
				Fix: "Take one of them out."})
		}
		ports[m.Port], places[m.Inside] = true, m.Port
		if what := never[m.Inside]; what != "" {
			out = append(out, Mistake{Port: m.Port, Problem: fmt.Sprintf("%s is %s, which is never led outside.", m.Inside, what),
				Fix: "Take the port out: whoever gets in there changes the device, and not only looks."})
		}
		if m.Port < low || m.Port > high {
			out = append(out, Mistake{Port: m.Port, Problem: fmt.Sprintf("Port %d is not of the pool %s.", m.Port, f.Pool),
				Fix: "Choose one of the pool, or widen the pool."})
		}
		if !site.Contains(inside.Addr()) {
			out = append(out, Mistake{Port: m.Port, Problem: fmt.Sprintf("%s is outside the site's ranges.", m.Inside),
				Fix: "Lead a port only to what stands in the site."})
		}
	}
	return out
}

// ParsePool reads a range of ports. An empty one is no port at all.
func ParsePool(text string) (low, high int, err error) {
	if strings.TrimSpace(text) == "" {
		return 0, -1, nil
	}
	a, b, two := strings.Cut(text, "-")
	if !two {
		b = a
	}
	low, err = strconv.Atoi(strings.TrimSpace(a))
	if err == nil {
		high, err = strconv.Atoi(strings.TrimSpace(b))
	}
	switch {
	case err != nil:
		return 0, 0, fmt.Errorf("%q is no range of ports", text)
	case low < lowestPort || high > 65535 || low > high:
		return 0, 0, fmt.Errorf("a pool goes from %d to 65535, the smaller number first", lowestPort)
	}
	return low, high, nil
}

// Plan gives each place of the streams a port of the pool. Places that have one keep it. Streams that must not be led out, or that could
// not be reached from outside at all, are refused.
func (f Form) Plan(streams []Stream) (maps []Map, refused []Refused) {
	low, high, _ := ParsePool(f.Pool)
	taken := map[int]bool{}
	had := map[string]int{}
	for _, m := range f.Maps {
		had[m.Inside] = m.Port
	}
	done := map[string]bool{}
	type wanted struct {
		at     string
		stream Stream
	}
	var list []wanted
	for _, s := range streams {
		at, why, fix := leadable(s)
		if why != "" {
			refused = append(refused, Refused{s.Device, s.Name, s.Role, why, fix})
			continue
		}
		if !done[at] {
			done[at] = true
			list = append(list, wanted{at, s})
		}
	}
	for _, w := range list {
		if p := had[w.at]; p != 0 && !taken[p] {
			taken[p] = true
		}
	}
	next := low
	for _, w := range list {
		p := had[w.at]
		if p == 0 {
			for next <= high && taken[next] {
				next++
			}
			if next > high {
				refused = append(refused, Refused{w.stream.Device, w.stream.Name, w.stream.Role, "The pool has no port left.", "Widen the pool."})
				continue
			}
			p = next
			taken[p] = true
		}
		maps = append(maps, Map{Port: p, Inside: w.at, Device: w.stream.Device})
	}
	slices.SortFunc(maps, func(a, b Map) int { return cmp.Compare(a.Port, b.Port) })
	return maps, refused
}

// PlaceOf returns where a URL is asked for, address and port; ok is false where it names no address.
func PlaceOf(url string) (at string, ok bool) {
	u, err := streamurl.Parse(url)
	if err != nil {
		return "", false
	}
	addr, err := netip.ParseAddr(u.Host)
	return netip.AddrPortFrom(addr, uint16(u.DialPort())).String(), err == nil
}

// leadable returns where a stream is asked for inside; why says why it is not led out.
func leadable(s Stream) (at, why, fix string) {
	u, err := streamurl.Parse(s.URL)
	if err != nil {
		return at, "Its URL cannot be read.", "Open its latches again."
	}
	at, named := PlaceOf(s.URL)
	switch {
	case u.Datagrams():
		return at, "It is sent to a group, which no router leads outside.", "Give the camera elsewhere a stream that is asked for."
	case u.HTTP():
		return at, "It comes from the device's web side, which is never led outside: its pages change the device.",
			"Use a stream by RTSP instead."
	case !named:
		return at, "Its URL names no address.", "Open its latches again."
	case !s.Proven:
		return at, "It is not proven yet.", "Open its latches first."
	case !s.TLS && !strings.HasPrefix(s.Scheme, "digest"):
		opens := "basic"
		if s.Scheme == "none" || s.Scheme == "" {
			opens = "no sign-in"
		}
		return at, fmt.Sprintf("Its streams open with %s and without TLS: anybody on the way could look, or read the password.", opens),
			"Switch the camera to digest sign-in, or to RTSP over TLS."
	}
	return at, "", ""
}

// URL returns how a stream's URL reads from outside; ok is false where no port leads to it, or the site has no outside address.
func (f Form) URL(text string) (out string, ok bool) {
	at, named := PlaceOf(text)
	i := slices.IndexFunc(f.Maps, func(m Map) bool { return m.Inside == at })
	if !named || i < 0 || len(f.Addresses) == 0 {
		return "", false
	}
	u, err := streamurl.Parse(text)
	if err != nil {
		return "", false
	}
	u.Host, u.Port = f.Addresses[0], f.Maps[i].Port
	return u.String(), true
}

func sentence(s string) string { return strings.ToUpper(s[:1]) + s[1:] + "." }
