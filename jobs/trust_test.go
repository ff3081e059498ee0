package jobs_test

import (
	"encoding/base64"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/jobs"
	"unlatch/sim/hostile"
	"unlatch/store/storetest"
)

const lone = `
name: lone
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, serial: L1, address: NET.11, scene: platform-clock, streams: [&s {width: 160,
       height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
`

// trap starts a hostile device at an address of a site and has it heard.
func (b *bench) trap(d hostile.Device, addr string) *hostile.Running {
	b.t.Helper()
	r, err := d.Start(addr)
	require.NoError(b.t, err)
	b.t.Cleanup(r.Stop)
	return r
}

// hears files a sighting as a sweep would have, and returns the device.
func (b *bench) hears(r *hostile.Running, endpoint string) uuid.UUID {
	b.t.Helper()
	at := netip.MustParseAddrPort(r.Addr)
	id, err := b.s.Devices.Sight(ctx, b.site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now().UTC(),
		Addr:     at.Addr(),
		Endpoint: endpoint, Kind: sighting.Camera, Hardware: "T1", XAddr: "http://" + r.Addr + "/onvif/device_service",
		Ports: []sighting.Port{{Number: at.Port(), Speaks: "device service"}}})
	require.NoError(b.t, err)
	return id
}

// gotNone fails when a device was sent a password in any spelling.
func gotNone(t *testing.T, r *hostile.Running, secrets ...string) {
	t.Helper()
	for i, s := range secrets {
		for _, form := range []string{s, url.QueryEscape(s), base64.StdEncoding.EncodeToString([]byte(s)),
			base64.StdEncoding.EncodeToString([]byte("fitter:" + s))} {
			assert.NotContains(t, r.Got(), form, "secret %d", i)
		}
	}
}

// A web server inside the ranges that offers basic and nothing else gets no password: not from work that a person begins, and not from what
// goes on by itself. Once a person has agreed it gets no more tries than the guard allows.
func TestAStrangerCollectsNoKeyring(t *testing.T) {
	t.Parallel()
	b := keyed(t, lone, "127.42.20", [3]string{"One", "fitter", "wrong-lamp-1"}, [3]string{"Two", "fitter", "wrong-lamp-2"},
		[3]string{"Three", "fitter", "wrong-lamp-3"}, [3]string{"Four", "fitter", "wrong-lamp-4"})
	r := b.trap(hostile.BasicTrap(), "127.42.20.66")
	id := b.hears(r, "urn:stranger")
	b.wait(b.open([]uuid.UUID{id}))
	d, err := b.s.Devices.Get(ctx, id)
	require.NoError(t, err)
	stuck := d.Status.Latch(latch.SignedIn).Diagnosis
	require.NotNil(t, stuck)
	assert.Equal(t, trouble.Readable, stuck.Cause)
	assert.Contains(t, r.Got(), "GetDeviceInformation", "it was asked")
	assert.NotContains(t, r.Got(), "Authorization")
	gotNone(t, r, "wrong-lamp-1", "wrong-lamp-2", "wrong-lamp-3", "wrong-lamp-4")

	require.NoError(t, b.s.Consents.Agree(ctx, act.Person{}, b.site.ID, act.Readable{Clear: d.Status.AgreesTo() == signin.InClear}))
	b.wait(b.open([]uuid.UUID{id}))
	d, err = b.s.Devices.Get(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, trouble.HeldBack, d.Status.Latch(latch.SignedIn).Diagnosis.Cause)
	assert.Equal(t, signin.Budget, strings.Count(r.Got(), "Authorization: Basic"), "each sending passes the one counter")
	gotNone(t, r, "wrong-lamp-4")
	asked := r.Got()
	b.wait(b.open([]uuid.UUID{id}))
	assert.NotContains(t, strings.TrimPrefix(r.Got(), asked), "Authorization")
}

// One Hello with a known camera's endpoint reference moves nothing while the camera still answers: it is a finding, and what sent it
// gets nothing. When the camera is gone the claim is believed as far as that it has moved: only what opened it before is tried, and
// nothing readable or weaker.
func TestAnImpostorGetsNothing(t *testing.T) {
	t.Parallel()
	b := keyed(t, lone, "127.42.21", [3]string{"Other", "other", "wrong-lamp-9"}, [3]string{"Fitter", "fitter", "brass-lamp-41"})
	b.wait(b.open(b.ids("11")))
	require.Equal(t, latch.Placed, b.device("11").Status.At())
	assert.Equal(t, map[string]string{"device": "WS-UsernameToken", "stream": "digest MD5", "web": "digest MD5"},
		b.device("11").Status.Schemes, "what it has taken is remembered")

	r := b.trap(hostile.BasicTrap(), "127.42.21.77")
	wire, err := hostile.Join(netip.MustParseAddr("127.42.21.77"))
	require.NoError(t, err)
	defer wire.Close()
	endpoint := b.device("11").Endpoint.String
	require.Eventually(t, func() bool {
		require.NoError(t, wire.Hello(endpoint, "http://"+r.Addr+"/onvif/device_service"))
		return len(b.device("11").Status.Claims) > 0
	}, 30*time.Second, 200*time.Millisecond, "the claim is a finding")
	d := b.device("11")
	assert.Equal(t, "127.42.21.11", d.Addr, "and moves nothing")
	assert.Equal(t, "127.42.21.77", d.Status.Claims[0].Addr.String())
	b.wait(b.openAgain(b.ids("11")))
	assert.Equal(t, latch.Placed, b.device("11").Status.At(), "the camera goes on as before")
	assert.NotContains(t, r.Got(), "Authorization")

	// The camera is unplugged, and the stranger says again that it is the camera.
	require.NoError(t, b.world.Stop())
	require.Eventually(t, func() bool {
		require.NoError(t, wire.Hello(endpoint, "http://"+r.Addr+"/onvif/device_service"))
		return b.device("11").Addr == "127.42.21.77"
	}, 60*time.Second, 500*time.Millisecond)
	require.NoError(t, b.s.Consents.Agree(ctx, act.Person{}, b.site.ID,
		act.Readable{Clear: b.device("11").Status.AgreesTo() == signin.InClear}))
	b.wait(b.open(b.ids("11")))
	d = b.device("11")
	assert.Equal(t, "127.42.21.11", d.Status.Before.String(), "it is not known again")
	require.NotNil(t, d.Status.Latch(latch.SignedIn).Diagnosis)
	assert.Equal(t, trouble.SchemeWeaker, d.Status.Latch(latch.SignedIn).Diagnosis.Cause,
		"though somebody has agreed to basic on the site")
	gotNone(t, r, "brass-lamp-41", "wrong-lamp-9")
	assert.NotContains(t, r.Got(), "Authorization")
}

// A stranger that collects digests gets one, of the sign-in that opened the camera before, and no others.
func TestAMovedDeviceThatRefusesIsAStranger(t *testing.T) {
	t.Parallel()
	b := keyed(t, lone, "127.42.22", [3]string{"Fitter", "fitter", "brass-lamp-41"}, [3]string{"Other", "other", "wrong-lamp-9"})
	b.wait(b.open(b.ids("11")))
	require.Equal(t, latch.Placed, b.device("11").Status.At())
	require.NoError(t, b.world.Stop())
	r := b.trap(hostile.HashTrap(), "127.42.22.77")
	b.hears(r, b.device("11").Endpoint.String)
	b.wait(b.open(b.ids("11")))
	stuck := b.device("11").Status.Latch(latch.SignedIn).Diagnosis
	require.NotNil(t, stuck)
	assert.Equal(t, trouble.Stranger, stuck.Cause, stuck.Summary)
	assert.Equal(t, 1, strings.Count(r.Got(), "Authorization: Digest"))
	assert.NotContains(t, r.Got(), `username="other"`)
}

// A camera that has really moved, by its lease, is known again by a digest, and goes on by itself.
func TestAMovedCameraIsKnownAgain(t *testing.T) {
	t.Parallel()
	b := setYard(t, strings.ReplaceAll(lone, "address: NET.11,",
		"address: NET.11, lease: NET.11, next_lease: NET.76, lease_seconds: 3600,"), storetest.URL(t), "127.42.23", 0)
	_, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	b.work()
	b.sweep()
	b.wait(b.open(b.ids("11")))
	require.Equal(t, latch.Placed, b.device("11").Status.At())
	b.world.Release("Clock")
	require.Eventually(t, func() bool { return b.device("11").Addr == "127.42.23.76" }, 60*time.Second, 100*time.Millisecond)
	b.wait(b.open(b.ids("11")))
	d := b.device("11")
	assert.Equal(t, latch.Placed, d.Status.At(), "%+v", d.Status.Latches)
	assert.False(t, d.Status.Before.IsValid())
	assert.Empty(t, d.Status.Claims)
}

// A storm of invented devices and a name with NUL bytes, from a wire that is only listened to: a handful of devices, one finding, no
// failed run.
func TestJunkOnTheWire(t *testing.T) {
	t.Parallel()
	b := keyed(t, lone, "127.42.24")
	storm, err := hostile.Join(netip.MustParseAddr("127.42.24.66"))
	require.NoError(t, err)
	defer storm.Close()
	require.NoError(t, storm.Storm(600))
	nul, err := hostile.Join(netip.MustParseAddr("127.42.24.67"))
	require.NoError(t, err)
	defer nul.Close()
	named := func() string {
		for _, d := range b.devices() {
			if d.Addr == "127.42.24.67" {
				return d.Status.Device.Name
			}
		}
		return ""
	}
	require.Eventually(t, func() bool { require.NoError(t, nul.NULs()); return named() != "" }, 30*time.Second, 200*time.Millisecond)
	assert.Equal(t, "Nul· ·[2J·", named())
	invented := func() (n int) {
		for _, d := range b.devices() {
			if d.Addr == "127.42.24.66" {
				n++
			}
		}
		return n
	}
	require.Eventually(t, func() bool {
		s, err := b.s.Sites.Get(ctx, b.site.ID)
		return err == nil && len(s.Storms) == 1 && s.Storms[0].Dropped > 10
	}, 30*time.Second, 100*time.Millisecond)
	assert.Equal(t, discovery.MostAtAddress, invented())
	go nul.NULs()
	b.sweep() // fails on nothing
	assert.Equal(t, latch.Reachable, b.device("11").Status.At())
}

// A device that answers slowly is told so with what was got until then, and the next try goes on from there.
func TestASlowDeviceIsGoneOnWith(t *testing.T) {
	t.Parallel()
	slow := jobs.Hooks{Budgets: map[latch.Name]time.Duration{latch.Located: 1500 * time.Millisecond}}
	b := hooked(t, slow, lone, "127.42.25", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	r := b.trap(hostile.Slow(20, 150*time.Millisecond), "127.42.25.66")
	id := b.hears(r, "urn:slow")
	at := func() *latch.Status {
		d, err := b.s.Devices.Get(ctx, id)
		require.NoError(t, err)
		return &d.Status
	}
	b.wait(b.open([]uuid.UUID{id}))
	first := at()
	require.NotNil(t, first.Latch(latch.Located).Diagnosis, "%+v", first.Latches)
	assert.Equal(t, trouble.TooSlow, first.Latch(latch.Located).Diagnosis.Cause)
	assert.Contains(t, first.Latch(latch.Located).Diagnosis.Summary, "stream URLs")
	require.NotEmpty(t, first.Streams)
	require.Less(t, len(first.Streams), 20)
	for range 12 {
		b.wait(b.open([]uuid.UUID{id}))
		if at().Latch(latch.Located).State == latch.Open {
			break
		}
	}
	assert.Len(t, at().Streams, 20)
	assert.LessOrEqual(t, strings.Count(r.Got(), "action=\"http://www.onvif.org/ver10/media/wsdl/GetStreamUri"), 20+5,
		"none is asked for twice, but for the one that was cut off")
}

// What a device repeats of the password in its own words stands nowhere in the record.
func TestADeviceThatRepeatsThePasswordPublishesNothing(t *testing.T) {
	t.Parallel()
	b := keyed(t, strings.ReplaceAll(lone, "name: Clock,", "name: Clock, firmware: brass-lamp-41,"), "127.42.26",
		[3]string{"Fitter", "fitter", "brass-lamp-41"})
	b.wait(b.open(b.ids("11")))
	d := b.device("11")
	require.NotNil(t, d.Status.SignedIn)
	assert.Equal(t, "•••", d.Status.SignedIn.Info.Firmware)
	assert.NotContains(t, b.everything(), "brass-lamp-41")
}
