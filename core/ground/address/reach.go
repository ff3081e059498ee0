package address

import (
	"fmt"
	"net/netip"
	"slices"
)

// Guidance is what a person must do so that a machine can reach an address: nothing, or give it an address in that subnet. The
// program does not change the machine's network by itself.
type Guidance struct {
	Machine   string `json:"machine" doc:"the machine whose worker reaches the site, by its host name"`
	Reachable bool   `json:"reachable" doc:"that machine has an address in the device's subnet"`
	Add       string `json:"add,omitempty" doc:"the address to add"`
	Interface string `json:"interface,omitempty"`
	Command   string `json:"command,omitempty" doc:"the exact command for that machine's system"`
	Undo      string `json:"undo,omitempty" doc:"the command that takes it back"`
}

// Guide says how to reach a factory address. The subnet of a factory address is not known; a /24 around it is what such devices
// come with. The address to add is the highest free one, away from where devices begin.
func Guide(to netip.Addr, own Machine, taken []netip.Addr) Guidance {
	var outward string
	for _, i := range own.Interfaces {
		for _, p := range i.Prefixes {
			if p.Contains(to) {
				return Guidance{Machine: own.Name, Reachable: true, Interface: i.Name}
			}
		}
		if outward == "" && !i.Loopback {
			outward = i.Name
		}
	}
	if !to.Is4() || outward == "" {
		return Guidance{Machine: own.Name}
	}
	raw := to.As4()
	for raw[3] = 250; raw[3] > 1; raw[3]-- {
		if a := netip.AddrFrom4(raw); a != to && !slices.Contains(taken, a) {
			break
		}
	}
	g := Guidance{Machine: own.Name, Add: netip.AddrFrom4(raw).String(), Interface: outward}
	switch own.System {
	case "windows":
		g.Command = fmt.Sprintf(`netsh interface ipv4 add address "%s" %s 255.255.255.0`, outward, g.Add)
		g.Undo = fmt.Sprintf(`netsh interface ipv4 delete address "%s" %s`, outward, g.Add)
	case "darwin":
		g.Command = fmt.Sprintf("sudo ifconfig %s alias %s 255.255.255.0", outward, g.Add)
		g.Undo = fmt.Sprintf("sudo ifconfig %s -alias %s", outward, g.Add)
	default:
		g.Command = fmt.Sprintf("sudo ip addr add %s/24 dev %s", g.Add, outward)
		g.Undo = fmt.Sprintf("sudo ip addr del %s/24 dev %s", g.Add, outward)
	}
	return g
}
