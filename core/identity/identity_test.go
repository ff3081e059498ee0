package identity

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/discovery"
)

func TestMerge(t *testing.T) {
	a, b := netip.MustParseAddr("192.0.2.11"), netip.MustParseAddr("192.0.2.12")
	port := func(n uint16, speaks string) []discovery.Port { return []discovery.Port{{Number: n, Speaks: speaks}} }
	got := Merge([]discovery.Sighting{
		{Method: discovery.PortSweep, Addr: a, Kind: discovery.Camera, Ports: port(554, "rtsp")},
		{Method: discovery.WSDiscovery, Addr: a, Endpoint: "urn:1", Kind: discovery.Recorder, Name: "Strongroom", XAddr: "http://192.0.2.11:8080/x"},
		{Method: discovery.PortSweep, Addr: a, Kind: discovery.Camera, Ports: port(80, "device service"), XAddr: "http://192.0.2.11/y"},
		{Method: discovery.PortSweep, Addr: b, Kind: discovery.Other, Ports: port(80, "http")},
	})
	require.Len(t, got, 2)
	assert.Equal(t, Device{Endpoint: "urn:1", Addr: a, Kind: discovery.Recorder, Name: "Strongroom", XAddr: "http://192.0.2.11:8080/x",
		Ports: []discovery.Port{{Number: 80, Speaks: "device service"}, {Number: 554, Speaks: "rtsp"}}, Methods: []string{"port sweep", "ws-discovery"}}, got[0])
	assert.Equal(t, discovery.Other, got[1].Kind)
}

func TestOneDeviceAcrossAnAddressChange(t *testing.T) {
	a, b := netip.MustParseAddr("192.0.2.11"), netip.MustParseAddr("192.0.2.99")
	got := Merge([]discovery.Sighting{
		{Method: discovery.WSDiscovery, Addr: a, Endpoint: "urn:1", Kind: discovery.Camera},
		{Method: discovery.PortSweep, Addr: a, Ports: []discovery.Port{{Number: 554}}},
		{Method: discovery.WSDiscovery, Addr: b, Endpoint: "urn:1", Kind: discovery.Camera},
	})
	require.Len(t, got, 1)
	assert.Equal(t, b, got[0].Addr)
	assert.Empty(t, got[0].Ports, "ports of the old address say nothing about the new one")
}

func TestTwoReferencesAtOneAddressStayTwo(t *testing.T) {
	a := netip.MustParseAddr("192.0.2.11")
	assert.Len(t, Merge([]discovery.Sighting{
		{Method: discovery.WSDiscovery, Addr: a, Endpoint: "urn:1"},
		{Method: discovery.WSDiscovery, Addr: a, Endpoint: "urn:2"},
	}), 2)
}

func TestIdentityInOrderOfTrust(t *testing.T) {
	a, b := netip.MustParseAddr("192.0.2.11"), netip.MustParseAddr("192.0.2.12")
	known := []Device{{Addr: a, Endpoint: "urn:1", Serial: "S1", MAC: "02:00:00:00:00:01"}, {Addr: b, Serial: "S2"}}
	for _, c := range []struct {
		name string
		s    discovery.Sighting
		want int
	}{
		{"the endpoint reference before all else", discovery.Sighting{Addr: b, Endpoint: "urn:1", Serial: "S2"}, 0},
		{"the serial number over the address", discovery.Sighting{Addr: b, Serial: "S1"}, 0},
		{"the hardware address over the address", discovery.Sighting{Addr: b, MAC: "02:00:00:00:00:01"}, 0},
		{"the address where there is nothing else", discovery.Sighting{Addr: b}, 1},
		{"another hardware address at the same address is another device", discovery.Sighting{Addr: a, MAC: "02:00:00:00:00:99"}, -1},
		{"another serial number at the same address too", discovery.Sighting{Addr: b, Serial: "S9"}, -1},
		{"one more mark for what is known by another", discovery.Sighting{Addr: b, MAC: "02:00:00:00:00:77"}, 1},
	} {
		assert.Equal(t, c.want, Find(known, c.s), c.name)
	}
}
