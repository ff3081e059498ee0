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
