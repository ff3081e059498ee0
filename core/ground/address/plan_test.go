package address

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func addrs(last ...int) (out []netip.Addr) {
	for _, l := range last {
		out = append(out, netip.AddrFrom4([4]byte{192, 0, 2, byte(l)}))
	}
	return out
}

func wishes(last ...int) (out []Wish) {
	for i, a := range addrs(last...) {
		out = append(out, Wish{ID: fmt.Sprint("d", i), Current: a})
	}
	return out
}

var (
	site   = MustParse("192.0.2.0/24")
	layout = Network{Pool: MustParse("192.0.2.100-110"), DHCP: MustParse("192.0.2.200-250"), Gateway: addrs(1)[0], Bits: 24}
)

func TestPlanKeepsOrderAndWhatLiesInThePool(t *testing.T) {
	got, err := layout.Plan(site, wishes(64, 102, 7, 9), addrs(100, 20))
	require.NoError(t, err)
	var text []string
	for _, a := range got {
		text = append(text, fmt.Sprint(a.Old, ">", a.New, a.Keep))
	}
	assert.Equal(t, []string{"192.0.2.64>192.0.2.101 false", "192.0.2.102>192.0.2.102 true", "192.0.2.7>192.0.2.103 false",
		"192.0.2.9>192.0.2.104 false"}, text)
}

func TestPlanOfTwoAtOneAddressMovesOne(t *testing.T) {
	got, err := layout.Plan(site, wishes(105, 105), nil)
	require.NoError(t, err)
	assert.True(t, got[0].Keep)
	assert.Equal(t, addrs(100)[0], got[1].New)
}

func TestPlanSaysWhatCannotBe(t *testing.T) {
	change := func(f func(*Network)) Network { n := layout; f(&n); return n }
	for _, c := range []struct {
		name, field string
		n           Network
	}{
		{"no pool", "pool", change(func(n *Network) { n.Pool = Ranges{} })},
		{"no mask", "bits", change(func(n *Network) { n.Bits = 0 })},
		{"a mask too narrow for the pool", "bits", change(func(n *Network) { n.Bits = 29 })},
		{"a pool across networks", "bits", change(func(n *Network) { n.Pool = MustParse("192.0.2.100", "192.0.3.1") })},
		{"a pool outside the site", "pool", change(func(n *Network) { n.Pool = MustParse("198.51.100.0/28"); n.Gateway = netip.Addr{} })},
		{"a pool in the DHCP pool", "pool", change(func(n *Network) { n.DHCP = MustParse("192.0.2.108-120") })},
		{"a gateway elsewhere", "gateway", change(func(n *Network) { n.Gateway = netip.MustParseAddr("198.51.100.1") })},
		{"a gateway that is the broadcast address", "gateway", change(func(n *Network) { n.Gateway = addrs(255)[0] })},
		{"a pool too small", "pool", change(func(n *Network) { n.Pool = MustParse("192.0.2.100-101") })},
	} {
		_, err := c.n.Plan(site, wishes(7, 8, 9), nil)
		var p *PlanError
		require.ErrorAs(t, err, &p, c.name)
		assert.Equal(t, c.field, p.Field, c.name)
		assert.NotEmpty(t, p.Fix)
	}
	_, err := change(func(n *Network) { n.Pool = MustParse("192.0.2.100-101") }).Plan(site, wishes(7, 8, 9), nil)
	assert.ErrorContains(t, err, "2 free addresses, and 3 devices need one")
}

// Whatever is asked, a plan that is made gives each device one address, no two the same, and none that must not be given.
func TestPlanProperties(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	pick := func(n int) []int {
		out := make([]int, n)
		for i := range out {
			out[i] = random.IntN(256)
		}
		return out
	}
	made := 0
	for range 3000 {
		low := random.IntN(240)
		n := Network{Bits: 24, Gateway: addrs(random.IntN(256))[0],
			Pool: MustParse(fmt.Sprintf("192.0.2.%d-%d", low, low+random.IntN(256-low)))}
		if from := random.IntN(256); random.IntN(2) == 0 {
			n.DHCP = MustParse(fmt.Sprintf("192.0.2.%d-%d", from, min(255, from+random.IntN(20))))
		}
		want, taken := wishes(pick(random.IntN(12))...), addrs(pick(random.IntN(20))...)
		got, err := n.Plan(site, want, taken)
		if err != nil {
			continue
		}
		made++
		seen := map[netip.Addr]bool{}
		for i, a := range got {
			assert.Equal(t, want[i].ID, a.ID)
			assert.False(t, seen[a.New], "given twice")
			seen[a.New] = true
			assert.True(t, n.Pool.Contains(a.New) && site.Contains(a.New))
			assert.False(t, n.DHCP.Contains(a.New) || a.New == n.Gateway || a.New == addrs(0)[0] || a.New == addrs(255)[0])
			assert.NotContains(t, taken, a.New)
			assert.Equal(t, a.Keep, a.Old == a.New)
			for j, other := range want {
				assert.False(t, i != j && other.Current == a.New && !a.Keep, "an address that another still holds")
			}
		}
		again, err := n.Plan(site, want, taken)
		require.NoError(t, err)
		assert.Equal(t, got, again)
	}
	assert.Greater(t, made, 500)
}

func TestNetworkSurvivesJSON(t *testing.T) {
	raw, err := json.Marshal(layout)
	require.NoError(t, err)
	var back Network
	require.NoError(t, json.Unmarshal(raw, &back))
	assert.Equal(t, layout, back)
	require.NoError(t, json.Unmarshal([]byte("{}"), &back))
	assert.True(t, back.Pool.Empty())
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"gateway":"east"}`), &back), "not an address")
	assert.Error(t, json.Unmarshal([]byte(`{"pool":["192.0.2.9-1"]}`), &back))
}

func TestTimeZonesAsDevicesTakeThem(t *testing.T) {
	site := MustParse("192.0.2.0/24")
	for zone, good := range map[string]bool{"": true, "GMT0BST,M3.5.0/1,M10.5.0": true, "CET-1CEST": true, "<+03>-3": true, "UTC0": true,
		"Europe/London": false, "GMT": false, "GMT0 BST": false, "GMT0<scr/ipt>": false} {
		_, err := Network{Pool: MustParse("192.0.2.100-110"), Bits: 24, TimeZone: zone}.Plan(site, nil, nil)
		if good {
			assert.NoError(t, err, zone)
			continue
		}
		var plan *PlanError
		require.ErrorAs(t, err, &plan, zone)
		assert.Equal(t, "time_zone", plan.Field)
	}
	_, err := Network{Pool: MustParse("192.0.2.100-110"), Bits: 24, NTP: "two words"}.Plan(site, nil, nil)
	assert.ErrorContains(t, err, "time server")
}
