package discovery_test

import (
	"context"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/ipv4"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/sim/simtest"
)

// A watcher remembers what a Watch tells it.
type watcher struct {
	mu    sync.Mutex
	found []sighting.Sighting
	left  []string
}

func watch(t *testing.T, ranges string) *watcher {
	w := &watcher{}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() {
		ended <- (&discovery.Watch{Ranges: address.MustParse(ranges),
			Found: func(s sighting.Sighting) { w.mu.Lock(); w.found = append(w.found, s); w.mu.Unlock() },
			Left:  func(e string) { w.mu.Lock(); w.left = append(w.left, e); w.mu.Unlock() }}).Run(ctx)
	}()
	t.Cleanup(func() { stop(); assert.ErrorIs(t, <-ended, context.Canceled) })
	return w
}

// has counts what fits.
func (w *watcher) has(fits func(sighting.Sighting) bool) (n int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, s := range w.found {
		if fits(s) {
			n++
		}
	}
	return n
}

// say sends one datagram to a group on loopback, from an address.
func say(t *testing.T, from string, to *net.UDPAddr, text string) {
	c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.ParseIP(from)})
	require.NoError(t, err)
	defer c.Close()
	lo, err := net.InterfaceByName("lo")
	require.NoError(t, err)
	require.NoError(t, ipv4.NewPacketConn(c).SetMulticastInterface(lo))
	_, err = c.WriteTo([]byte(text), to)
	require.NoError(t, err)
}

func TestWatchHearsWhoComesAndGoes(t *testing.T) {
	w := watch(t, "127.41.12.0/24")
	endpoint := ""
	// The watch may not have joined yet when the first is said: it is said until it is heard.
	require.Eventually(t, func() bool {
		say(t, "127.41.12.99", net.UDPAddrFromAddrPort(discovery.Group4), strings.NewReplacer("ProbeMatches", "Hello", "<ProbeMatch>", "",
			"</ProbeMatch>", "").Replace(match))
		return w.has(func(s sighting.Sighting) bool {
			return s.Endpoint == "urn:uuid:7" && s.Addr.String() == "127.41.12.99"
		}) > 0
	}, 10*time.Second, 50*time.Millisecond)
	assert.Equal(t, 1, w.has(func(s sighting.Sighting) bool { return s.Endpoint == "urn:uuid:7" }), "what is repeated at once is told once")

	world := simtest.Start(t, `
name: yard
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.41.12.11, scene: platform-clock, streams: [&s {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5, profile: baseline}]}
  - {name: Late, maker: corvane, model: V5, address: 127.41.12.12, scene: turntable, streams: [*s], plugged_in: 1}
  - {name: Wanderer, maker: corvane, model: V6, address: 127.41.12.13, scene: turntable, streams: [*s], lease: 127.41.12.13,
       next_lease: 127.41.12.73, lease_seconds: 1}
  - {name: Factory, maker: corvane, model: V7, address: 127.41.13.64, scene: turntable, streams: [*s]}
`)
	endpoint = world.Device("Wanderer").Endpoint()
	at := func(hardware, addr string) func(sighting.Sighting) bool {
		return func(s sighting.Sighting) bool { return s.Hardware == hardware && s.Addr.String() == addr }
	}
	for hardware, addr := range map[string]string{"V4": "127.41.12.11", "V5": "127.41.12.12", "V6": "127.41.12.73", "V7": "127.41.13.64"} {
		require.Eventually(t, func() bool { return w.has(at(hardware, addr)) > 0 }, 20*time.Second, 20*time.Millisecond, "%s at %s",
			hardware, addr)
	}
	assert.Equal(t, 1, w.has(func(s sighting.Sighting) bool { return s.Hardware == "V7" && s.Stray && s.Kind == sighting.Camera }))
	w.mu.Lock()
	defer w.mu.Unlock()
	assert.Contains(t, w.left, endpoint, "it said goodbye before it went")
}

func TestWatchHearsOtherProtocolsAndNoNonsense(t *testing.T) {
	w := watch(t, "127.41.14.0/24")
	ssdp := net.UDPAddrFromAddrPort(discovery.GroupSSDP)
	notify := "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nNT: urn:schemas-upnp-org:device:DigitalSecurityCamera:1\r\nNTS: " +
		"ssdp:alive\r\nLOCATION: http://127.41.14.7:80/d.xml\r\n\r\n"
	require.Eventually(t, func() bool {
		say(t, "127.41.14.7", ssdp, notify)
		return w.has(func(s sighting.Sighting) bool { return s.Method == sighting.SSDP && s.Kind == sighting.Camera }) == 1
	}, 10*time.Second, 50*time.Millisecond)
	for _, text := range []string{
		strings.Replace(notify, "127.41.14.7:80", "127.41.14.8:80", 1), // a description on another host
		strings.Replace(notify, "alive", "byebye", 1),
		"NOTIFY", "<Envelope><Header><Action>x/Hello</Action></Header></Envelope>", match, // an answer nobody asked for
	} {
		say(t, "127.41.14.9", ssdp, text)
		say(t, "127.41.14.9", net.UDPAddrFromAddrPort(discovery.Group4), text)
		say(t, "127.41.14.9", net.UDPAddrFromAddrPort(discovery.GroupMDNS), text)
	}
	// What comes after them has been read after them.
	require.Eventually(t, func() bool {
		say(t, "127.41.14.10", ssdp, strings.Replace(notify, "127.41.14.7", "127.41.14.10", 1))
		return w.has(func(s sighting.Sighting) bool { return s.Addr.String() == "127.41.14.10" }) > 0
	}, 10*time.Second, 50*time.Millisecond)
	assert.Zero(t, w.has(func(s sighting.Sighting) bool { return s.Addr.String() == "127.41.14.9" }))
}
