package discovery_test

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/identity"
	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/sim/simtest"
)

const yard = `
name: yard
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.41.10.11, scene: platform-clock, streams: [&s {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5, profile: baseline}]}
  - {name: Turntable, maker: lumenhythe, model: L2, address: 127.41.10.12, scene: turntable, streams: [*s],
       defects: {names_address: 10.1.2.3}}
  - {name: Quiet, maker: lumenhythe, model: L2, address: 127.41.10.13, scene: turntable, streams: [*s], announces: []}
  - {name: Factory, maker: corvane, model: V4, address: 127.41.11.64, scene: turntable, streams: [*s]}
  - {name: By mDNS, maker: lumenhythe, model: L3, serial: M1, mac: "02:00:5e:00:53:01", address: 127.41.10.14, scene: turntable,
       streams: [*s], announces: [mdns]}
  - {name: By SSDP, maker: corvane, model: V5, serial: S1, address: 127.41.10.15, scene: turntable, streams: [*s], announces: [ssdp]}
  - {name: Behind a switch, maker: corvane, model: V6, address: 127.41.10.17, scene: turntable, streams: [*s], announces: [ws-unicast]}
  - {name: Printer, kind: other, maker: plain, model: Office Printer, address: 127.41.10.16, announces: [mdns, ssdp, ws-discovery]}
  - {name: Strongroom, kind: recorder, maker: holloway, model: H8, address: 127.41.10.20}
`

func TestSweepHearsEveryDeviceByEveryMethod(t *testing.T) {
	w := simtest.Start(t, yard)
	other, err := net.Listen("tcp4", "127.41.10.30:443") // something that takes connections and says nothing
	if err == nil {
		defer other.Close()
	}
	var all []sighting.Sighting
	var last discovery.Progress
	s := discovery.Sweep{Ranges: address.MustParse("127.41.10.0/26"), Progress: func(p discovery.Progress) { last = p }}
	require.NoError(t, s.Run(context.Background(), func(x sighting.Sighting) { all = append(all, x) }))
	assert.Equal(t, 64*5, last.Total)
	got := map[string]identity.Device{}
	for _, d := range identity.Merge(all) {
		if strings.HasPrefix(d.Addr.String(), "127.41.1") {
			got[d.Addr.String()] = d
		}
	}
	clock := got["127.41.10.11"]
	assert.Equal(t, w.Device("Clock").Endpoint(), clock.Endpoint)
	assert.Equal(t, sighting.Camera, clock.Kind)
	assert.Equal(t, "V4", clock.Hardware)
	assert.Equal(t, "http://127.41.10.11:80/onvif/device_service", clock.XAddr)
	assert.ElementsMatch(t, []string{"ws-discovery", "port sweep"}, clock.Methods)
	assert.Equal(t, "Corvane-Media/2.4", clock.Ports[1].Server)
	assert.Equal(t, []string{"80 (device service)", "554 (rtsp)"}, []string{clock.Ports[0].String(), clock.Ports[1].String()})
	assert.Equal(t, "http://127.41.10.12:8080/onvif/device_service", got["127.41.10.12"].XAddr,
		"the address in the answer is wrong; the one that answered is used")
	assert.Equal(t, []string{"port sweep"}, got["127.41.10.13"].Methods)
	assert.Equal(t, sighting.Camera, got["127.41.10.13"].Kind)
	assert.Equal(t, sighting.Recorder, got["127.41.10.20"].Kind)
	byName := got["127.41.10.14"]
	assert.Equal(t, []any{sighting.Camera, "L3", "M1", "02:00:5e:00:53:01"}, []any{byName.Kind, byName.Hardware, byName.Serial, byName.MAC})
	assert.ElementsMatch(t, []string{"mdns", "port sweep"}, byName.Methods)
	assert.Contains(t, byName.Ports, sighting.Port{Number: 8554, Speaks: "rtsp", Server: "lhd 7", Named: true},
		"the port that the device named was asked")
	behind := got["127.41.10.17"]
	assert.Equal(t, []string{"V6", w.Device("Behind a switch").Endpoint()}, []string{behind.Hardware, behind.Endpoint},
		"heard though multicast does not reach it")
	bySearch := got["127.41.10.15"]
	assert.Equal(t, []any{sighting.Camera, "V5", "S1", "Corvane"}, []any{bySearch.Kind, bySearch.Hardware, bySearch.Serial, bySearch.Maker})
	assert.Contains(t, bySearch.Methods, "ssdp")
	assert.Equal(t, sighting.Other, got["127.41.10.16"].Kind, "a printer is set aside, not lost")
	assert.NotEmpty(t, got["127.41.10.16"].Is)
	assert.True(t, got["127.41.11.64"].Stray, "a factory address outside the ranges is heard and marked")
	assert.Empty(t, got["127.41.11.64"].Ports, "and not talked to")
	if err == nil {
		assert.Equal(t, sighting.Other, got["127.41.10.30"].Kind)
		assert.Equal(t, "unknown", got["127.41.10.30"].Ports[0].Speaks)
	}
}

// Devices answer oddly: five times, only the second time, with dead and foreign addresses first, or as what they are: lamps and computers.
func TestOddAnswersMakeOneDeviceEach(t *testing.T) {
	w := simtest.Start(t, `
name: yard
devices:
  - {name: Loud, maker: corvane, model: V4, address: 127.41.16.11, scene: platform-clock, streams: [&s {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5, profile: baseline}], defects: {answers: 5}}
  - {name: Late, maker: corvane, model: V5, address: 127.41.16.12, scene: turntable, streams: [*s], defects: {late_probe: true}}
  - {name: Boastful, maker: lumenhythe, model: L2, address: 127.41.16.13, scene: turntable, streams: [*s],
       defects: {xaddrs: "http://[fe80::1]/onvif/device_service http://10.9.9.9/onvif/device_service http://198.51.100.7:8080/x"}}
  - {name: Lamp, kind: other, maker: plain, model: Light Switch, address: 127.41.16.14}
  - {name: Office, kind: other, maker: plain, model: Computer, address: 127.41.16.15}
`)
	var all []sighting.Sighting
	s := discovery.Sweep{Ranges: address.MustParse("127.41.16.0/28"), Ports: []uint16{9}}
	require.NoError(t, s.Run(context.Background(), func(x sighting.Sighting) {
		if !x.Stray {
			all = append(all, x)
		}
	}))
	loud := 0
	for _, x := range all {
		if x.Endpoint == w.Device("Loud").Endpoint() && x.Method == sighting.WSDiscovery {
			loud++
		}
	}
	assert.Equal(t, 1, loud, "told once, not as often as it answers")
	got := identity.Merge(all)
	require.Len(t, got, 5)
	byName := map[string]identity.Device{}
	for _, d := range got {
		byName[d.Endpoint] = d
	}
	assert.Equal(t, "V5", byName[w.Device("Late").Endpoint()].Hardware)
	assert.Equal(t, "http://127.41.16.13:8080/onvif/device_service", byName[w.Device("Boastful").Endpoint()].XAddr,
		"the address that answered is taken, wherever it stands in the list")
	for name, is := range map[string]string{"Lamp": "LightSwitch", "Office": "Computer"} {
		d := byName[w.Device(name).Endpoint()]
		assert.Equal(t, []any{sighting.Other, is}, []any{d.Kind, d.Is}, "set aside, not lost")
	}
}

// TLS ports are told apart by what they speak inside, and the certificate is noted.
func TestPortsOverTLS(t *testing.T) {
	simtest.Start(t, `
name: yard
devices:
  - {name: Sealed, maker: corvane, model: V4, address: 127.41.17.11, scene: platform-clock, streams: [&s {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5, profile: baseline}], tls: own}
  - {name: One of many, maker: lumenhythe, model: L2, address: 127.41.17.12, scene: turntable, streams: [*s], tls: factory}
  - {name: Another, maker: lumenhythe, model: L2, address: 127.41.17.13, scene: turntable, streams: [*s], tls: factory}
`)
	var all []sighting.Sighting
	s := discovery.Sweep{Ranges: address.MustParse("127.41.17.0/28"), Interfaces: []string{}}
	require.NoError(t, s.Run(context.Background(), func(x sighting.Sighting) { all = append(all, x) }))
	got := identity.Merge(all)
	require.Len(t, got, 3, "a certificate that a maker puts on many devices makes no two of them one")
	byAddr := map[string]identity.Device{}
	for _, d := range got {
		byAddr[d.Addr.String()] = d
	}
	sealed := byAddr["127.41.17.11"]
	speaks := map[uint16]string{}
	for _, p := range sealed.Ports {
		speaks[p.Number] = p.Speaks
	}
	assert.Equal(t, "https", speaks[8443])
	assert.Equal(t, "rtsps", speaks[322])
	assert.Len(t, sealed.Certificate, 64)
	assert.NotEqual(t, sealed.Certificate, byAddr["127.41.17.12"].Certificate)
	assert.Equal(t, byAddr["127.41.17.13"].Certificate, byAddr["127.41.17.12"].Certificate)
}

// What comes from a hostile wire is bounded before it is believed.
func TestHostileDiscoveryAnswers(t *testing.T) {
	answer := func(body string) []byte {
		return []byte(strings.Replace(match, "<XAddrs>http://[fe80::1]/x http://192.0.2.9:8080/onvif/device_service</XAddrs>", body, 1))
	}
	million := "<XAddrs>" + strings.Repeat("http://192.0.2.9/x ", 1_000_000) + "</XAddrs>"
	_, err := discovery.ParseMessage(answer(million))
	assert.Error(t, err, "no datagram is that large")
	m, err := discovery.ParseMessage(answer("<XAddrs>" + strings.Repeat("http://192.0.2.9/x ", 3000) + "</XAddrs>"))
	require.NoError(t, err)
	assert.Len(t, m.Matches[0].XAddrs, 16, "as many as one datagram holds are cut")
	m, err = discovery.ParseMessage(answer("<Scopes>" + strings.Repeat("onvif://www.onvif.org/name/x ", 2000) + "</Scopes>"))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(m.Matches[0].Scopes), 128)
	_, err = discovery.ParseMessage([]byte(strings.Repeat("<Envelope>", 6000)))
	assert.Error(t, err, "recursive to the end of the datagram")
	_, err = discovery.ParseMessage([]byte(`<!DOCTYPE e [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>` +
		`<Envelope><Body>&b;</Body></Envelope>`))
	assert.Error(t, err, "entities are not expanded")
	m, err = discovery.ParseMessage([]byte(`<Envelope xmlns="urn:something-else"><Header><Action>urn:other/ProbeMatches</Action>` +
		`</Header><Body><List><Item/></List></Body></Envelope>`))
	require.NoError(t, err)
	assert.Empty(t, m.Matches, "another vocabulary holds no devices")
	many := strings.Replace(match, "</ProbeMatches>",
		strings.Repeat("<ProbeMatch><EndpointReference><Address>a</Address></EndpointReference></ProbeMatch>", 500)+"</ProbeMatches>", 1)
	m, err = discovery.ParseMessage([]byte(many))
	require.NoError(t, err)
	assert.Len(t, m.Matches, 64)
	long, err := discovery.ParseMessage([]byte(strings.Replace(match, "Signal%20box", strings.Repeat("%C3%A4", 4000), 1)))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(long.Matches[0].Scope("name")[0]), 203)
	odd, err := discovery.ParseMessage([]byte(strings.Replace(match, "Signal%20box", "Signal%00%1B%5B2Jbox%E2%80%AEgnp", 1)))
	require.NoError(t, err)
	assert.Equal(t, "Signal··[2Jbox·gnp", odd.Matches[0].Scope("name")[0], "control characters are taken out where text comes in")
}

func TestSweepStops(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	s := discovery.Sweep{Ranges: address.MustParse("127.0.0.0/8"), Interfaces: []string{}, Progress: func(discovery.Progress) { cancel() }}
	assert.ErrorIs(t, s.Run(ctx, func(sighting.Sighting) {}), context.Canceled)
}

func TestParsePorts(t *testing.T) {
	got, err := discovery.ParsePorts("80, 443,8000-8002")
	require.NoError(t, err)
	assert.Equal(t, []uint16{80, 443, 8000, 8001, 8002}, got)
	for _, bad := range []string{"0", "x", "90-80", "65536", "1-2000", "80-"} {
		_, err := discovery.ParsePorts(bad)
		assert.Error(t, err, bad)
	}
}

const match = `<?xml version="1.0"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope"><e:Header>` +
	`<RelatesTo>uuid:1</RelatesTo><Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/ProbeMatches</Action></e:Header><e:Body>` +
	`<ProbeMatches><ProbeMatch><EndpointReference><Address>urn:uuid:7</Address></EndpointReference>` +
	`<Types>dn:NetworkVideoTransmitter tds:Device</Types>` +
	`<Scopes>onvif://www.onvif.org/name/Signal%20box onvif://www.onvif.org/location/Tarn%2FFerry</Scopes>` +
	`<XAddrs>http://[fe80::1]/x http://192.0.2.9:8080/onvif/device_service</XAddrs></ProbeMatch></ProbeMatches></e:Body></e:Envelope>`

func TestParseMessage(t *testing.T) {
	m, err := discovery.ParseMessage([]byte(match))
	require.NoError(t, err)
	assert.Equal(t, "ProbeMatches", m.Action)
	assert.Equal(t, []string{"NetworkVideoTransmitter", "Device"}, m.Matches[0].Types)
	assert.Equal(t, []string{"Signal box"}, m.Matches[0].Scope("name"))
	assert.Equal(t, []string{"Tarn/Ferry"}, m.Matches[0].Scope("location"))
	assert.Len(t, m.Matches[0].XAddrs, 2)
	for _, bad := range []string{"", "hello", "<a/>", "<Envelope>", strings.Repeat("<a>", 70000)} {
		_, err := discovery.ParseMessage([]byte(bad))
		assert.Error(t, err)
	}
	probe, id := discovery.NewProbe("tds:Device")
	back, err := discovery.ParseMessage(probe)
	require.NoError(t, err)
	assert.Equal(t, []string{"Device"}, back.Types)
	assert.Equal(t, id, back.ID)
}

func FuzzMulticastAnswers(f *testing.F) {
	f.Add([]byte("HTTP/1.1 200 OK\r\nLOCATION: http://192.0.2.7:80/d.xml\r\nST: x\r\n\r\n"))
	f.Add([]byte{0, 0, 0x84, 0, 0, 0, 0, 1, 0, 0, 0, 0, 5, '_', 'r', 't', 's', 'p', 4, '_', 't', 'c', 'p', 5, 'l', 'o', 'c', 'a', 'l', 0,
		0, 12, 0, 1, 0, 0, 0, 10, 0, 4, 1, 'a', 0xc0, 12})
	f.Add([]byte("<root><device><deviceType>a:b:c</deviceType></device></root>"))
	f.Add([]byte("192.0.2.7 0x1 0x2 00:11:22:33:44:55 * eth0\n"))
	f.Fuzz(func(t *testing.T, b []byte) { discovery.ReadAnswers(b) })
}

func FuzzParseMessage(f *testing.F) {
	f.Add([]byte(match))
	p, _ := discovery.NewProbe("dn:NetworkVideoTransmitter")
	f.Add(p)
	f.Add([]byte("<Envelope><Body><Hello><Scopes>onvif://www.onvif.org/name/%zz</Scopes></Hello></Body></Envelope>"))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := discovery.ParseMessage(b)
		if err != nil {
			return
		}
		for _, x := range m.Matches {
			x.Scope("name")
			if len(x.XAddrs) > 16 {
				t.Fatal("unbounded")
			}
		}
	})
}

func TestNeighbourTable(t *testing.T) {
	got := discovery.ReadNeighbours(`IP address       HW type     Flags       HW address            Mask     Device
192.0.2.7        0x1         0x2         00:00:5E:00:53:07     *        eth0
192.0.2.8        0x1         0x0         00:00:00:00:00:00     *        eth0
198.51.100.1     0x1         0x2         00:00:5e:00:53:08     *        eth0
nonsense
`, address.MustParse("192.0.2.0/24"))
	require.Len(t, got, 1, "what did not answer and what lies outside the ranges is left out")
	assert.Equal(t, "00:00:5e:00:53:07", got[0].MAC)
}

// What Unlatch itself serves in the ranges is no camera, and is not asked.
func TestASweepPassesOverOnesOwnRelays(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp4", "127.41.20.5:8554")
	require.NoError(t, err)
	defer l.Close()
	var asked atomic.Int32
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			asked.Add(1)
			c.Close()
		}
	}()
	at := netip.MustParseAddrPort("127.41.20.5:8554")
	for _, own := range [][]netip.AddrPort{{at}, nil} {
		last := discovery.Progress{}
		s := discovery.Sweep{Ranges: address.MustParse("127.41.20.0/29"), Ports: []uint16{8554}, Interfaces: []string{}, Own: own,
			Progress: func(p discovery.Progress) { last = p }}
		found := 0
		require.NoError(t, s.Run(t.Context(), func(sighting.Sighting) { found++ }))
		assert.Equal(t, last.Total, last.Asked)
		assert.Equal(t, own == nil, found > 0)
		assert.Equal(t, own == nil, asked.Load() > 0)
	}
}
