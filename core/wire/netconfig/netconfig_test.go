package netconfig_test

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/camera"
	"unlatch/core/wire/discovery"
	"unlatch/core/wire/netconfig"
	"unlatch/core/wire/onvif"
	"unlatch/sim/simtest"
)

const yard = `
name: yard
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.46.1.11, scene: platform-clock, streams: [&s {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5, profile: baseline}]}
  - {name: Turntable, maker: lumenhythe, model: L2, address: 127.46.1.12, scene: turntable, streams: [*s], lease: 127.46.1.77}
  - {name: Locked, maker: corvane, model: V4, address: 127.46.1.13, scene: turntable, streams: [*s], defects: {refuses_address: true}}
  - {name: Stubborn, maker: lumenhythe, model: L2, address: 127.46.1.14, scene: turntable, streams: [*s], defects: {loses_address: true}}
  - {name: Sleepy, maker: corvane, model: V4, address: 127.46.1.15, scene: turntable, streams: [*s], defects: {restart_seconds: 30}}
`

func at(last string) netip.Addr { return netip.MustParseAddr("127.46.1." + last) }

func TestSetAddress(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, yard)
	ranges := address.MustParse("127.46.1.0/24")
	do := func(device string, to camera.Network) (netconfig.Outcome, error) {
		l := w.Device(device)
		return netconfig.Do(context.Background(), netconfig.Request{Dial: &address.Guard{Allowed: ranges}, Service: l.Service(),
			Endpoint: l.Endpoint(), To: to, Wait: 4 * time.Second,
			SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")},
			Locate: func(ctx context.Context) (netip.Addr, error) { return discovery.Locate(ctx, ranges, l.Endpoint()) }})
	}
	static := func(last string) camera.Network {
		return camera.Network{Addr: at(last), Bits: 24, Gateway: at("1")}
	}

	got, err := do("Clock", static("101"))
	require.NoError(t, err)
	assert.Equal(t, camera.Network{Addr: at("11"), Bits: 24}, got.Before)
	assert.Equal(t, static("101"), got.After, "what the device says after it came back")
	assert.Equal(t, "http://127.46.1.101:80/onvif/device_service", got.Service)
	var names []string
	for _, s := range got.Steps {
		names = append(names, s.Name)
	}
	assert.Equal(t, []string{"read the old setting", "look whether the new address is free", "send the gateway", "send the address",
		"found again"}, names)
	require.Equal(t, "127.46.1.101:80", w.Device("Clock").Web())
	back, err := do("Clock", got.Before)
	require.NoError(t, err, "undo is the same in reverse")
	assert.Equal(t, at("11"), back.After.Addr)

	got, err = do("Turntable", static("102"))
	require.NoError(t, err)
	assert.True(t, got.Before.DHCP)
	assert.Equal(t, "restart", got.Steps[len(got.Steps)-2].Name)
	got, err = do("Turntable", camera.Network{DHCP: true})
	require.NoError(t, err)
	assert.Equal(t, at("77"), got.After.Addr, "found by identity where DHCP has put it")
	assert.True(t, got.After.DHCP)

	_, err = do("Clock", static("13"))
	var occupied *netconfig.OccupiedError
	require.ErrorAs(t, err, &occupied)
	assert.Equal(t, "127.46.1.11:80", w.Device("Clock").Web(), "nothing was sent")

	_, err = do("Locked", static("103"))
	var fault *onvif.Fault
	require.ErrorAs(t, err, &fault)

	got, err = do("Stubborn", static("104"))
	var stayed *netconfig.StayedError
	require.ErrorAs(t, err, &stayed)
	assert.Equal(t, at("14"), stayed.Old)
	assert.Equal(t, at("14"), got.Before.Addr, "what undo needs is known all the same")

	_, err = do("Sleepy", static("105"))
	assert.ErrorAs(t, err, new(*netconfig.LostError))

	_, err = do("Clock", camera.Network{Addr: netip.MustParseAddr("127.99.0.1"), Bits: 24})
	assert.ErrorAs(t, err, new(*address.OutOfScopeError), "nor is a device sent out of the ranges")
}

func TestAnotherDeviceAtTheNewAddressIsNotTakenForIt(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, strings.ReplaceAll(yard, "127.46.1.", "127.46.2."))
	l := w.Device("Clock")
	_, err := netconfig.Do(context.Background(), netconfig.Request{Dial: &address.Guard{Allowed: address.MustParse("127.46.2.0/24")},
		Service: l.Service(), Endpoint: "urn:uuid:somebody-else", Wait: time.Second,
		SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")},
		To:     camera.Network{Addr: netip.MustParseAddr("127.46.2.101"), Bits: 24}})
	assert.ErrorAs(t, err, new(*netconfig.ImpostorError))
}

// Name servers, time server, name, zone and clock go in the same action, are read back, and undo sends what was there before.
func TestNameServersNameAndClockGoAlong(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, strings.Replace(strings.ReplaceAll(yard, "127.46.1.", "127.46.3."), "address: 127.46.3.11,",
		"address: 127.46.3.11, defects: {clock_offset: 1200},", 1))
	do := func(device string, to camera.Network) (netconfig.Outcome, error) {
		l := w.Device(device)
		return netconfig.Do(context.Background(), netconfig.Request{Dial: &address.Guard{Allowed: address.MustParse("127.46.3.0/24")},
			Service: l.Service(), Endpoint: l.Endpoint(), To: to, Wait: 8 * time.Second,
			SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	}
	dns := []netip.Addr{netip.MustParseAddr("192.0.2.53"), netip.MustParseAddr("198.51.100.53")}
	to := camera.Network{Addr: netip.MustParseAddr("127.46.3.101"), Bits: 24,
		HostSettings: camera.HostSettings{DNS: dns, NTP: "time.tarnside.example", Host: "platform-clock",
			TimeZone: "GMT0BST,M3.5.0/1,M10.5.0", Clock: true}}
	got, err := do("Clock", to)
	require.NoError(t, err)
	assert.InDelta(t, 1200_000, got.Before.SkewMS, 5000, "twenty minutes wrong before")
	assert.InDelta(t, 0, got.After.SkewMS, 5000)
	assert.Equal(t, []any{dns, "time.tarnside.example", "platform-clock", "GMT0BST,M3.5.0/1,M10.5.0"},
		[]any{got.After.DNS, got.After.NTP, got.After.Host, got.After.TimeZone})
	assert.Equal(t, "127.46.3.101:80", w.Device("Clock").Web())

	// The same again changes the rest only: the address is right already, and the device is not restarted.
	to.Host, to.NTP = "clock", "192.0.2.123"
	got, err = do("Clock", to)
	require.NoError(t, err)
	assert.Equal(t, []string{"platform-clock", "time.tarnside.example"}, []string{got.Before.Host, got.Before.NTP}, "what undo sends")
	assert.Equal(t, []string{"clock", "192.0.2.123"}, []string{got.After.Host, got.After.NTP})
	for _, s := range got.Steps {
		assert.NotContains(t, []string{"send the address", "restart", "found again"}, s.Name)
	}

	// Undo of the first name server and time server that were set by hand gives them back to DHCP.
	got, err = do("Clock", camera.Network{Addr: to.Addr, Bits: 24, HostSettings: camera.HostSettings{NoDNS: true, NoNTP: true}})
	require.NoError(t, err)
	assert.Equal(t, dns, got.Before.DNS)
	assert.Empty(t, got.After.DNS)
	assert.Empty(t, got.After.NTP)

	_, err = do("Turntable", camera.Network{Addr: netip.MustParseAddr("127.46.3.102"), Bits: 24,
		HostSettings: camera.HostSettings{Host: "not a host name"}})
	var fault *onvif.Fault
	require.ErrorAs(t, err, &fault, "what the device refuses is said")
	assert.Equal(t, "127.46.3.12:8080", w.Device("Turntable").Web(), "and the address was not sent after it")
}

func TestHostName(t *testing.T) {
	t.Parallel()
	for title, want := range map[string]string{
		"Platform clock": "platform-clock", "Crossing north (2)": "crossing-north-2", "Gleis 3 Süd, Straße": "gleis-3-sud-strasse",
		"  --  ": "", "橋": "",
		strings.Repeat("long name ", 10): "long-name-long-name-long-name-long-name-long-name-long-name-lon", "-a-": "a",
	} {
		assert.Equal(t, want, netconfig.HostName(title), title)
	}
}

// A device that comes back with another hardware address is the same by its reference, and the setting is confirmed all the same.
func TestComesBackWithAnotherMAC(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, strings.Replace(strings.ReplaceAll(yard, "127.46.1.", "127.46.4."), "address: 127.46.4.11,",
		"address: 127.46.4.11, defects: {other_mac: \"02:00:5e:00:53:99\"},", 1))
	l := w.Device("Clock")
	got, err := netconfig.Do(context.Background(), netconfig.Request{Dial: &address.Guard{Allowed: address.MustParse("127.46.4.0/24")},
		Service: l.Service(), Endpoint: l.Endpoint(), Wait: 5 * time.Second,
		SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")},
		To:     camera.Network{Addr: netip.MustParseAddr("127.46.4.101"), Bits: 24}})
	require.NoError(t, err)
	assert.Equal(t, "127.46.4.101", got.After.Addr.String())
	c := onvif.New(got.Service, onvif.Options{Dial: &address.Guard{Allowed: address.MustParse("127.46.4.0/24")},
		SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	defer c.Close()
	ifaces, err := c.Interfaces(context.Background())
	require.NoError(t, err)
	assert.Equal(t, "02:00:5e:00:53:99", ifaces[0].MAC)
}

// cut is a network that is lost at a moment: from then on nothing connects.
type cut struct {
	address.Dialer
	after func(hostport string) bool
}

func (c cut) DialContext(ctx context.Context, network, hostport string) (net.Conn, error) {
	if c.after(hostport) {
		return nil, &net.OpError{Op: "dial", Net: network, Err: syscall.ENETUNREACH}
	}
	return c.Dialer.DialContext(ctx, network, hostport)
}

// The network is lost once the device has been sent away: it is said where it was sent, what it had before is known, and doing the same
// again when the network is back finds it there.
func TestNetworkLostHalfWay(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, strings.ReplaceAll(yard, "127.46.1.", "127.46.5."))
	l := w.Device("Clock")
	guard := &address.Guard{Allowed: address.MustParse("127.46.5.0/24")}
	lost := false
	r := netconfig.Request{Dial: cut{guard, func(string) bool { return lost }}, Service: l.Service(), Endpoint: l.Endpoint(),
		Wait:   time.Second,
		SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")},
		To:     camera.Network{Addr: netip.MustParseAddr("127.46.5.101"), Bits: 24},
		Doing:  func(what string) { lost = lost || strings.HasPrefix(what, "waiting") }}
	got, err := netconfig.Do(context.Background(), r)
	var gone *netconfig.LostError
	require.ErrorAs(t, err, &gone)
	assert.Equal(t, "127.46.5.101", gone.New.String())
	assert.Equal(t, "127.46.5.11", got.Before.Addr.String(), "what undo needs")
	lost, r.Doing = false, nil
	r.Service = strings.Replace(l.Service(), "127.46.5.11:", "127.46.5.101:", 1)
	require.Eventually(t, func() bool { got, err = netconfig.Do(context.Background(), r); return err == nil }, 5*time.Second,
		100*time.Millisecond)
	assert.Equal(t, "127.46.5.101", got.After.Addr.String())
}

// A device that was sent away by an attempt that was cut off may go at any moment while the next attempt asks it: it is found where it was
// sent to, and what was set before the first attempt is what undo sends.
func TestADeviceThatGoesWhileItIsAsked(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, strings.ReplaceAll(yard, "127.46.1.", "127.46.24."))
	l := w.Device("Clock")
	here, there := netip.MustParseAddr("127.46.24.11"), netip.MustParseAddr("127.46.24.101")
	request := func() netconfig.Request {
		return netconfig.Request{Dial: &address.Guard{Allowed: address.MustParse("127.46.24.0/24")},
			Service: "http://" + here.String() + ":80/onvif/device_service", Endpoint: l.Endpoint(),
			To: camera.Network{Addr: there, Bits: 24}, Wait: 8 * time.Second,
			SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}}
	}
	points := 0
	for n := 1; n < 60; n++ {
		r, left := request(), n
		r.Begun = &camera.Network{Addr: here, Bits: 24, HostSettings: camera.HostSettings{Host: "before"}}
		r.Log = exchange.NewLog(nil)
		r.Log.Watch(func() {
			if left--; left == 0 {
				netconfig.Do(context.Background(), request()) // an error where it has gone by now anyway
			}
		})
		got, err := netconfig.Do(context.Background(), r)
		require.NoError(t, err, "it goes at point %d", n)
		assert.Equal(t, there, got.After.Addr, "point %d", n)
		assert.Equal(t, "before", got.Before.Host, "point %d", n)
		here, there = there, here
		if left > 0 {
			break
		}
		points++
	}
	assert.Greater(t, points, 8)
}
