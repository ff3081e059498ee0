package address

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestGuide(t *testing.T) {
	own := Machine{Name: "bench-3", System: "linux", Interfaces: []Interface{
		{Name: "lo", Loopback: true, Prefixes: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/8")}},
		{Name: "eth0", Prefixes: []netip.Prefix{netip.MustParsePrefix("192.0.2.2/24")}},
	}}
	on := func(system string) Machine {
		return Machine{Name: "bench-3", System: system, Interfaces: own.Interfaces}
	}
	to := netip.MustParseAddr("198.51.100.64")
	assert.True(t, Guide(netip.MustParseAddr("192.0.2.9"), own, nil).Reachable)
	assert.Equal(t, Guidance{Machine: "bench-3", Add: "198.51.100.250", Interface: "eth0",
		Command: "sudo ip addr add 198.51.100.250/24 dev eth0",
		Undo:    "sudo ip addr del 198.51.100.250/24 dev eth0"}, Guide(to, own, nil))
	assert.Equal(t, "198.51.100.249", Guide(to, own, []netip.Addr{netip.MustParseAddr("198.51.100.250")}).Add,
		"an address that something has is not taken")
	assert.Equal(t, "198.51.100.249", Guide(netip.MustParseAddr("198.51.100.250"), own, nil).Add, "nor the device's own")
	assert.Contains(t, Guide(to, on("windows"), nil).Command, `netsh interface ipv4 add address "eth0" 198.51.100.250 255.255.255.0`)
	assert.Contains(t, Guide(to, on("darwin"), nil).Undo, "-alias 198.51.100.250")
	bare := Machine{Name: "bench-3", Interfaces: own.Interfaces[:1]}
	assert.Equal(t, Guidance{Machine: "bench-3"}, Guide(to, bare, nil), "without a network card there is nothing to advise")
}

func TestGuardOpensForOneAddressOnly(t *testing.T) {
	g := &Guard{Allowed: MustParse("192.0.2.0/24"), Consented: []netip.Addr{netip.MustParseAddr("198.51.100.64")}}
	assert.NoError(t, g.Check(netip.MustParseAddr("198.51.100.64")))
	assert.ErrorAs(t, g.Check(netip.MustParseAddr("198.51.100.65")), new(*OutOfScopeError))
}
