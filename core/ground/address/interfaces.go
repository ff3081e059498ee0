package address

import (
	"bufio"
	"encoding/hex"
	"net"
	"net/netip"
	"os"
	"strings"
)

// A Machine is one that reaches the network of a site: the one whose worker does the work there.
type Machine struct {
	Name       string      `json:"name"`   // its host name
	System     string      `json:"system"` // as runtime.GOOS has it
	Interfaces []Interface `json:"interfaces"`
}

// An Interface is one of this machine's network interfaces, as a starting point for a site's ranges.
type Interface struct {
	Name     string         `json:"name"`
	MAC      string         `json:"mac,omitempty"`
	Loopback bool           `json:"loopback"`
	Prefixes []netip.Prefix `json:"prefixes"` // own address with its prefix length
	Gateway  netip.Addr     `json:"gateway"`  // zero when the interface has no default route
}

// Ranges returns the networks that the interface sits in. Loopback and link-local ones are left out: a whole /8 is no site.
func (i Interface) Ranges() []string {
	out := []string{}
	for _, p := range i.Prefixes {
		if !i.Loopback && p.Addr().Is4() && !p.Addr().IsLinkLocalUnicast() {
			out = append(out, p.Masked().String())
		}
	}
	return out
}

// Interfaces lists the interfaces of this machine that are up and have an address.
func Interfaces() ([]Interface, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	gateways := gateways()
	var out []Interface
	for _, n := range all {
		if n.Flags&net.FlagUp == 0 {
			continue
		}
		i := Interface{Name: n.Name, MAC: n.HardwareAddr.String(), Loopback: n.Flags&net.FlagLoopback != 0, Gateway: gateways[n.Name]}
		addrs, err := n.Addrs()
		if err != nil {
			continue
		}
		for _, a := range addrs {
			if p, err := netip.ParsePrefix(a.String()); err == nil {
				i.Prefixes = append(i.Prefixes, p)
			}
		}
		if len(i.Prefixes) > 0 {
			out = append(out, i)
		}
	}
	return out, nil
}

// gateways reads the kernel's IPv4 routing table (proc(5), /proc/net/route). On a system without it there is
// no gateway to offer, and nothing else is lost.
func gateways() map[string]netip.Addr {
	out := map[string]netip.Addr{}
	f, err := os.Open("/proc/net/route")
	if err != nil {
		return out
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) < 3 || fields[1] != "00000000" {
			continue
		}
		// The address is printed as one number of the machine's (little-endian) byte order.
		raw, err := hex.DecodeString(fields[2])
		if err != nil || len(raw) != 4 {
			continue
		}
		out[fields[0]] = netip.AddrFrom4([4]byte{raw[3], raw[2], raw[1], raw[0]})
	}
	return out
}
