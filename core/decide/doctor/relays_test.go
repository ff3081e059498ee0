package doctor_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"unlatch/core/decide/doctor"
	"unlatch/core/ground/machine"
)

func TestWhereAWorkerServes(t *testing.T) {
	t.Parallel()
	card := func(loopback bool, prefixes ...string) (c machine.Card) {
		c.Loopback = loopback
		for _, p := range prefixes {
			c.Prefixes = append(c.Prefixes, netip.MustParsePrefix(p))
		}
		return c
	}
	cards := machine.Facts{Cards: []machine.Card{card(true, "127.0.0.1/8"), card(false, "198.51.100.4/24", "192.0.2.5/24")}}
	p := doctor.Process{Sites: []string{"Works"}, Relay: "0.0.0.0:8554", Machine: cards}
	site := []netip.Prefix{netip.MustParsePrefix("192.0.2.0/25")}
	assert.Equal(t, "192.0.2.5:8554", p.ServedAt("Works", site, p.Relay), "the address that it has in the site")
	assert.Equal(t, "198.51.100.4:8554", p.ServedAt("Works", []netip.Prefix{netip.MustParsePrefix("203.0.113.0/24")}, p.Relay))
	assert.Empty(t, p.ServedAt("Elsewhere", site, p.Relay))
	assert.Len(t, p.Serves(), 3)
	assert.Contains(t, p.Serves(), netip.MustParseAddrPort("192.0.2.5:8554"))
	p.Relay, p.RelayTLS = "", "192.0.2.5:8322"
	assert.Equal(t, []netip.AddrPort{netip.MustParseAddrPort("192.0.2.5:8322")}, p.Serves())
	p.RelayTLS = ""
	assert.Empty(t, p.Serves())
}
