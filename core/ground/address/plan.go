package address

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
)

// A Network is how a site's addresses are laid out. The zero value knows nothing; a plan asks for what it needs.
type Network struct {
	Pool    Ranges     `json:"pool"`    // for cameras, in the order in which it is given out
	DHCP    Ranges     `json:"dhcp"`    // what the DHCP server gives out; never planned
	Gateway netip.Addr `json:"gateway"` // zero for none
	Bits    int        `json:"bits"`    // prefix length, as 24

	DNS      []netip.Addr `json:"dns,omitempty"`       // name servers for its devices; none leaves theirs as they are
	NTP      string       `json:"ntp,omitempty"`       // time server, an address or a name
	TimeZone string       `json:"time_zone,omitempty"` // POSIX 1003.1 §8.3
}

// UnmarshalJSON accepts missing fields.
func (n *Network) UnmarshalJSON(b []byte) error {
	var raw struct {
		Pool, DHCP Ranges
		Gateway    string
		Bits       int
		DNS        []netip.Addr
		NTP        string
		TimeZone   string `json:"time_zone"`
	}
	if err := json.Unmarshal(b, &raw); err != nil {
		return err
	}
	*n = Network{Pool: raw.Pool, DHCP: raw.DHCP, Bits: raw.Bits, DNS: raw.DNS, NTP: raw.NTP, TimeZone: raw.TimeZone}
	if raw.Gateway == "" {
		return nil
	}
	var err error
	if n.Gateway, err = netip.ParseAddr(raw.Gateway); err != nil {
		return &PlanError{Field: "gateway", Problem: fmt.Sprintf("the gateway %q is not an address", raw.Gateway),
			Fix: "type it like 192.0.2.1, or leave it out"}
	}
	return nil
}

// A PlanError says why no plan can be made, and which field to mend.
type PlanError struct {
	Field   string // "pool", "dhcp", "gateway", "bits"
	Problem string
	Fix     string
}

func (e *PlanError) Error() string { return e.Problem + "; " + e.Fix }

// A Wish is one device that shall have an address.
type Wish struct {
	ID      string
	Current netip.Addr
}

// An Assignment is one line of a plan.
type Assignment struct {
	ID   string
	Old  netip.Addr
	New  netip.Addr
	Keep bool // it lies in the pool already and stays
}

// Plan gives each device the next free address of the pool, in the order of the wishes. A device that lies in the pool already
// keeps its address, unless another has it too. taken are the addresses of all other devices known. Nothing is given that is
// the network's or broadcast address, the gateway, in the DHCP pool, or outside the site's ranges.
func (n Network) Plan(site Ranges, wishes []Wish, taken []netip.Addr) ([]Assignment, error) {
	subnet, err := n.check(site)
	if err != nil {
		return nil, err
	}
	used := map[netip.Addr]bool{}
	for _, a := range taken {
		used[a] = true
	}
	out := make([]Assignment, len(wishes))
	for i, w := range wishes {
		out[i] = Assignment{ID: w.ID, Old: w.Current}
		if n.usable(site, subnet, w.Current) && n.Pool.Contains(w.Current) && !used[w.Current] {
			out[i].New, out[i].Keep = w.Current, true
			used[w.Current] = true
		}
	}
	// An address that a moving device still holds is not free until it has gone: it is given to nobody in this plan.
	for _, w := range wishes {
		used[w.Current] = true
	}
	free := 0
	next := 0
	for a := range n.Pool.each() {
		if used[a] || !n.usable(site, subnet, a) {
			continue
		}
		free++
		for next < len(out) && out[next].New.IsValid() {
			next++
		}
		if next < len(out) {
			out[next].New = a
		}
	}
	for next < len(out) && out[next].New.IsValid() {
		next++
	}
	if next < len(out) {
		missing := 0
		for _, a := range out {
			if !a.New.IsValid() {
				missing++
			}
		}
		return nil, &PlanError{Field: "pool", Problem: fmt.Sprintf("the pool has %d free addresses, and %d devices need one", free,
			free+missing), Fix: "widen the pool, or select fewer devices"}
	}
	return out, nil
}

// each returns every address of the ranges, ends included: what may be given is decided by the subnet.
func (r Ranges) each() func(yield func(netip.Addr) bool) {
	return func(yield func(netip.Addr) bool) {
		for _, s := range r.spans {
			for a := s.first; a.IsValid() && s.contains(a); a = a.Next() {
				if !yield(a) {
					return
				}
			}
		}
	}
}

func (n Network) usable(site Ranges, subnet netip.Prefix, a netip.Addr) bool {
	return a.IsValid() && subnet.Contains(a) && site.Contains(a) && a != subnet.Addr() && a != lastOf(subnet) && a != n.Gateway &&
		!n.DHCP.Contains(a)
}

// check finds what in the layout cannot be, and returns the subnet.
func (n Network) check(site Ranges) (netip.Prefix, error) {
	if n.Pool.Empty() {
		return netip.Prefix{}, &PlanError{"pool", "there is no camera pool",
			"type one, such as 192.0.2.100-150, well away from the DHCP pool"}
	}
	first := n.Pool.spans[0].first
	if !first.Is4() || n.Bits < 8 || n.Bits > 30 {
		return netip.Prefix{}, &PlanError{"bits", fmt.Sprintf("a mask of /%d does not fit a site's network", n.Bits),
			"type a prefix length from 8 to 30; 24 is usual"}
	}
	subnet := netip.PrefixFrom(first, n.Bits).Masked()
	for _, p := range n.Pool.spans {
		if !subnet.Contains(p.first) || !subnet.Contains(p.last) {
			return subnet, &PlanError{"bits", fmt.Sprintf("the pool %s does not lie in one network with the mask /%d", n.Pool, n.Bits),
				"widen the mask, or narrow the pool"}
		}
		if !site.Contains(p.first) || !site.Contains(p.last) {
			return subnet, &PlanError{"pool", fmt.Sprintf("the pool %s reaches outside the site's ranges (%s)", n.Pool, site),
				"narrow the pool, or widen the site's ranges"}
		}
		for _, d := range n.DHCP.spans {
			if p.contains(d.first) || d.contains(p.first) {
				return subnet, &PlanError{"pool", fmt.Sprintf("the pool %s overlaps the DHCP pool %s", n.Pool, n.DHCP),
					"keep the two apart: the DHCP server would give a camera's address away"}
			}
		}
	}
	if n.Gateway.IsValid() && (!subnet.Contains(n.Gateway) || n.Gateway == subnet.Addr() || n.Gateway == lastOf(subnet)) {
		return subnet, &PlanError{"gateway", fmt.Sprintf("the gateway %s does not lie in %s", n.Gateway, subnet),
			"type the gateway of this network, or leave it out"}
	}
	for _, field := range []struct{ name, text, what, fix string }{
		{"ntp", n.NTP, "time server", "type an address or a name, or leave it out"},
		{"time_zone", n.TimeZone, "time zone", "type it in the POSIX form, as GMT0BST,M3.5.0/1,M10.5.0, or leave it out"},
	} {
		if strings.ContainsFunc(field.text, func(r rune) bool { return r <= ' ' || r > '~' }) || len(field.text) > 120 {
			return subnet, &PlanError{field.name, fmt.Sprintf("the %s %q cannot be right", field.what, field.text), field.fix}
		}
	}
	if n.TimeZone != "" && !posixZone.MatchString(n.TimeZone) {
		return subnet, &PlanError{"time_zone", fmt.Sprintf("%q is no time zone as devices take it", n.TimeZone),
			"type it in the POSIX form, as GMT0BST,M3.5.0/1,M10.5.0, or leave it out"}
	}
	return subnet, nil
}

// posixZone is a zone of POSIX 1003.1 §8.3: a name and an offset, and perhaps the summer's name and its rules.
var posixZone = regexp.MustCompile(`^(<[A-Za-z0-9+-]{3,}>|[A-Za-z]{3,})[+-]?[0-9]{1,2}(:[0-9]{2}){0,2}((<[A-Za-z0-9+-]{3,}>|` +
	`[A-Za-z]{3,})([+-]?[0-9]{1,2}(:[0-9]{2}){0,2})?(,[MJ0-9./:+-]+){0,2})?$`)
