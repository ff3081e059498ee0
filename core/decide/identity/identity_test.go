package identity

import (
	"net/netip"
	"testing"
	"time"
	"unlatch/core/stream/sighting"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMerge(t *testing.T) {
	a, b := netip.MustParseAddr("192.0.2.11"), netip.MustParseAddr("192.0.2.12")
	port := func(n uint16, speaks string) []sighting.Port { return []sighting.Port{{Number: n, Speaks: speaks}} }
	got := Merge([]sighting.Sighting{
		{Method: sighting.PortSweep, Addr: a, Kind: sighting.Camera, Ports: port(554, "rtsp")},
		{Method: sighting.WSDiscovery, Addr: a, Endpoint: "urn:1", Kind: sighting.Recorder, Name: "Strongroom",
			XAddr: "http://192.0.2.11:8080/x"},
		{Method: sighting.PortSweep, Addr: a, Kind: sighting.Camera, Ports: port(80, "device service"), XAddr: "http://192.0.2.11/y"},
		{Method: sighting.PortSweep, Addr: b, Kind: sighting.Other, Ports: port(80, "http")},
	})
	require.Len(t, got, 2)
	assert.Equal(t, Device{Endpoint: "urn:1", Addr: a, Kind: sighting.Recorder, Name: "Strongroom", XAddr: "http://192.0.2.11:8080/x",
		Ports: []sighting.Port{{Number: 80, Speaks: "device service"}, {Number: 554, Speaks: "rtsp"}}, Methods: []string{"port sweep",
			"ws-discovery"}}, got[0])
	assert.Equal(t, sighting.Other, got[1].Kind)
}

func TestOneDeviceAcrossAnAddressChange(t *testing.T) {
	a, b := netip.MustParseAddr("192.0.2.11"), netip.MustParseAddr("192.0.2.99")
	got := Merge([]sighting.Sighting{
		{Method: sighting.WSDiscovery, Addr: a, Endpoint: "urn:1", Kind: sighting.Camera},
		{Method: sighting.PortSweep, Addr: a, Ports: []sighting.Port{{Number: 554}}},
		{Method: sighting.WSDiscovery, Addr: b, Endpoint: "urn:1", Kind: sighting.Camera},
	})
	require.Len(t, got, 1)
	assert.Equal(t, b, got[0].Addr)
	assert.Empty(t, got[0].Ports, "ports of the old address say nothing about the new one")
}

func TestTwoReferencesAtOneAddressStayTwo(t *testing.T) {
	a := netip.MustParseAddr("192.0.2.11")
	assert.Len(t, Merge([]sighting.Sighting{
		{Method: sighting.WSDiscovery, Addr: a, Endpoint: "urn:1"},
		{Method: sighting.WSDiscovery, Addr: a, Endpoint: "urn:2"},
	}), 2)
}

func TestIdentityInOrderOfTrust(t *testing.T) {
	a, b := netip.MustParseAddr("192.0.2.11"), netip.MustParseAddr("192.0.2.12")
	known := []Device{{Addr: a, Endpoint: "urn:1", Serial: "S1", MAC: "02:00:00:00:00:01"}, {Addr: b, Serial: "S2"}}
	for _, c := range []struct {
		name string
		s    sighting.Sighting
		want int
	}{
		{"the endpoint reference before all else", sighting.Sighting{Addr: b, Endpoint: "urn:1", Serial: "S2"}, 0},
		{"the serial number over the address", sighting.Sighting{Addr: b, Serial: "S1"}, 0},
		{"the hardware address over the address", sighting.Sighting{Addr: b, MAC: "02:00:00:00:00:01"}, 0},
		{"the address where there is nothing else", sighting.Sighting{Addr: b}, 1},
		{"another hardware address at the same address is another device", sighting.Sighting{Addr: a, MAC: "02:00:00:00:00:99"}, -1},
		{"another serial number at the same address too", sighting.Sighting{Addr: b, Serial: "S9"}, -1},
		{"one more mark for what is known by another", sighting.Sighting{Addr: b, MAC: "02:00:00:00:00:77"}, 1},
	} {
		assert.Equal(t, c.want, Find(known, c.s), c.name)
	}
}

func TestCertificateTellsADeviceThatHasMoved(t *testing.T) {
	a, b, c := netip.MustParseAddr("192.0.2.11"), netip.MustParseAddr("192.0.2.12"), netip.MustParseAddr("192.0.2.13")
	now := time.Now()
	long := now.Add(-time.Hour)
	shows := sighting.Sighting{Addr: c, At: now, Certificate: "c1"}
	for _, x := range []struct {
		name  string
		known []Device
		s     sighting.Sighting
		want  int
	}{
		{"not heard where it was for a while", []Device{{Addr: a, Certificate: "c1", HeardAt: long}}, shows, 0},
		{"just heard where it was: another device with the maker's certificate", []Device{{Addr: a, Certificate: "c1", HeardAt: now}}, shows, -1},
		{"two have it: it tells nobody apart", []Device{{Addr: a, Certificate: "c1", HeardAt: long},
			{Addr: b, Certificate: "c1", HeardAt: long}}, shows, -1},
		{"another serial number is another device", []Device{{Addr: a, Certificate: "c1", Serial: "S1", HeardAt: long}},
			sighting.Sighting{Addr: c, At: now, Certificate: "c1", Serial: "S2"}, -1},
		{"what is known at the address goes before it", []Device{{Addr: a, Certificate: "c1", HeardAt: long}, {Addr: c}}, shows, 1},
		{"no certificate, no mark", []Device{{Addr: a, HeardAt: long}}, sighting.Sighting{Addr: c, At: now}, -1},
	} {
		assert.Equal(t, x.want, Find(x.known, x.s), x.name)
	}
}

func TestAChannelIsKnownByItsRecorderAndNumber(t *testing.T) {
	a := netip.MustParseAddr("192.0.2.20")
	rec, other := uuid.New(), uuid.New()
	known := []Device{{Addr: a, Endpoint: "urn:recorder"}, {Addr: a, Via: &rec, Channel: 1}, {Addr: a, Via: &rec, Channel: 2}}
	assert.Equal(t, 2, Find(known, sighting.Sighting{Addr: a, Via: &rec, Channel: 2}))
	assert.Equal(t, -1, Find(known, sighting.Sighting{Addr: a, Via: &rec, Channel: 3}))
	assert.Equal(t, -1, Find(known, sighting.Sighting{Addr: a, Via: &other, Channel: 1}))
	assert.Equal(t, 0, Find(known, sighting.Sighting{Addr: a}), "what answers at the address is the recorder")
	assert.Equal(t, -1, Find(known[1:], sighting.Sighting{Addr: a}), "and never one of its channels")
}
