package doctor

import (
	"net"
	"net/netip"
	"net/url"
	"slices"
	"time"
)

// A Relay is a stream that is served on, as its worker told of it last.
type Relay struct {
	Path    string
	Site    string
	For     string    // who takes it
	Problem string    // why the camera did not play; "" where it did, or was not asked to
	Told    time.Time // when a worker told of it last; when it was made where none has
}

// untoldAfter is after how long a relay of which no worker tells counts as served by none: a worker tells every few seconds.
const untoldAfter = time.Minute

func (j *judge) relays(list []Relay) {
	well := 0
	for _, r := range list {
		switch {
		case j.at.Sub(r.Told) > untoldAfter:
			j.ill("relay_unserved", "Start a worker that reaches the site with --relay, or remove the relay on the camera's bench.",
				"No worker serves %s at %s: %s gets no picture by it.", r.Path, r.Site, r.For)
		case r.Problem != "":
			j.ill("relay_down", "See the camera in the line-up: its next step says what to do.",
				"The camera behind %s at %s does not play (%s): %s gets no picture by it.", r.Path, r.Site, r.Problem, r.For)
		default:
			well++
		}
	}
	if well > 0 {
		j.well("relays", "%s.", count(well, "stream is served on", "streams are served on"))
	}
}

// ServedAt returns where a worker serves streams of a site, given where it listens; "" where it does not reach the site. One that listens
// on every address is named by the one that it has in the site's ranges, else by its first.
func (p *Process) ServedAt(site string, ranges []netip.Prefix, listens string) string {
	host, port, err := net.SplitHostPort(listens)
	if err != nil || !slices.Contains(p.Sites, site) {
		return ""
	}
	if a, err := netip.ParseAddr(host); err == nil && a.IsUnspecified() {
		host = p.ownAddress(ranges)
	}
	return net.JoinHostPort(host, port)
}

// Serves returns the addresses and ports at which a worker serves streams on, whichever site they are of: those of its whole machine where
// it listens on every address.
func (p *Process) Serves() (out []netip.AddrPort) {
	pages, _ := url.Parse(p.Pages)
	for _, listens := range []string{p.Relay, p.RelayTLS, pages.Host} {
		at, err := netip.ParseAddrPort(listens)
		if err != nil {
			continue
		}
		if !at.Addr().IsUnspecified() {
			out = append(out, at)
			continue
		}
		for _, c := range p.Machine.Cards {
			for _, own := range c.Prefixes {
				out = append(out, netip.AddrPortFrom(own.Addr(), at.Port()))
			}
		}
	}
	return out
}

// ownAddress returns the address of the machine in one of some networks, else its first.
func (p *Process) ownAddress(ranges []netip.Prefix) string {
	first := "127.0.0.1"
	for _, c := range p.Machine.Cards {
		for _, own := range c.Prefixes {
			if !own.Addr().Is4() {
				continue
			}
			if slices.ContainsFunc(ranges, func(r netip.Prefix) bool { return r.Overlaps(own) }) {
				return own.Addr().String()
			}
			if !c.Loopback && first == "127.0.0.1" {
				first = own.Addr().String()
			}
		}
	}
	return first
}
