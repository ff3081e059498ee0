package sim_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/demo"
	"unlatch/sim"
)

func TestScenarioExpandsRangesOfCameras(t *testing.T) {
	s, err := sim.ParseScenario([]byte(`
name: many
devices:
  - {name: East, maker: corvane, model: V4, serial: X, address: 127.45.0.250, count: 300, scene: viaduct, streams: [{width: 320,
       height: 180, fps: 5, kbps: 100}]}
`))
	require.NoError(t, err)
	require.Len(t, s.Devices, 300)
	assert.Equal(t, "East 300", s.Devices[299].Name)
	assert.Equal(t, "127.45.2.37", s.Devices[299].Address.String())
	serials := map[string]bool{}
	for _, d := range s.Devices {
		serials[d.Serial] = true
	}
	assert.Len(t, serials, 300)
}

func TestScenarioErrorsNameTheDevice(t *testing.T) {
	device := func(fields string) string {
		return "devices:\n  - {name: Clock, maker: corvane, address: 127.45.1.1, scene: viaduct, streams: [{width: 320, height: 180, fps: " +
			"5, kbps: 100}]" + fields + "}\n"
	}
	for says, in := range map[string]string{
		"no maker":             "devices:\n  - {name: Clock, maker: nobody, address: 127.45.1.1}\n",
		"not an IPv4 loopback": "devices:\n  - {name: Clock, maker: corvane, address: 192.0.2.1}\n",
		"needs streams":        "devices:\n  - {name: Clock, maker: corvane, address: 127.45.1.1}\n",
		"even width and height": "devices:\n  - {name: Clock, maker: corvane, address: 127.45.1.1, streams: [{width: 321, height: 180, fps: " +
			"5, kbps: 1}]}\n",
		"share the address": device("") + device("")[len("devices:\n"):],
		"too many":          device(", count: 5000"),
		"colour":            device(", colour: red"),
	} {
		_, err := sim.ParseScenario([]byte(in))
		assert.ErrorContains(t, err, says)
	}
}

func TestDemoScenarioIsWhole(t *testing.T) {
	s, err := demo.Scenario("")
	require.NoError(t, err)
	assert.Equal(t, "Tarnside Railway", s.Name)
	assert.NotContains(t, fmt.Sprintf("%+v", s), "Brass-Lamp", "secrets of a scenario do not print either")
}

// Two railways on two networks share neither an address nor a serial, so that both can run on one machine.
func TestDemoOnAnotherNetwork(t *testing.T) {
	known := map[string]string{} // an address or serial, and the network that it was first seen on
	for _, network := range []string{"127.40", "127.50"} {
		s, err := demo.Scenario(network)
		require.NoError(t, err)
		for _, d := range s.Devices {
			if !d.Address.IsValid() {
				continue
			}
			assert.True(t, strings.HasPrefix(d.Address.String(), network+"."), "%s is at %s", d.Name, d.Address)
			for _, mark := range []string{d.Address.String(), d.Serial} {
				if other := known[mark]; other != "" && mark != "" {
					assert.Equal(t, network, other, mark)
				}
				known[mark] = network
			}
		}
	}
	for _, bad := range []string{"10.0", "127.300", "127", "127.50.1", "127.5x"} {
		_, err := demo.Scenario(bad)
		assert.ErrorContains(t, err, "is no loopback network", bad)
	}
}
