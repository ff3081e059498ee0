package e2e

import (
	"net/netip"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtsp"
	"unlatch/sim/simtest"
)

// A camera without a device service of its own is given a face by a tick; who searches as a recorder does finds it, signs in with what was
// made for it, and plays its stream. The site itself does not take it for a camera.
func TestAFaceIsFoundAndPlayed(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: faced
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.72.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 300, gop: 10}]}
`)
	b := start(t, "--relay", "127.43.72.5:8554", "--relay-faces", "127.43.72.5:8580-8581")
	b.bring("Line", "127.43.72.0/27", 1)
	b.count(`[data-at="placed"]`, 1)
	b.page.MustElement(`[data-run="finished"]`)
	b.page.MustElementR(`[role=row]`, `127\.43\.72\.11`).MustClick()
	b.page.MustElement("#bench")
	b.press("^Serve it on$")
	b.typeIn("for", "Parcel vault")
	b.typeIn("path", "clock/main")
	b.page.MustElement(`[aria-label="With an ONVIF face"]`).MustClick()
	b.clean("a relay with a face")
	b.page.MustElementR("[role=dialog] button", "^Serve it on$").MustClick()
	row := b.page.MustElementR(`[data-relay="clock/main"]`, `http://127\.43\.72\.5:8580/onvif/device_service`)
	row.MustElementR("button", "^Show the password$").MustClick()
	text := b.page.MustElementR(`[data-relay="clock/main"]`, `password \S+`).MustText()
	given := regexp.MustCompile(`User (\S+), password (\S+)`).FindStringSubmatch(text)
	require.Len(t, given, 3, text)
	in := signin.SignIn{User: given[1], Secret: signin.NewSecret(strings.TrimSuffix(given[2], ","))}

	ranges := address.MustParse("127.43.72.0/29")
	var found sighting.Sighting
	require.Eventually(t, func() bool {
		sweep := discovery.Sweep{Ranges: ranges, Ports: []uint16{9}}
		err := sweep.Run(t.Context(), func(s sighting.Sighting) {
			if s.Method == sighting.WSDiscovery && s.Addr == netip.MustParseAddr("127.43.72.5") {
				found = s
			}
		})
		return err == nil && found.XAddr != ""
	}, time.Minute, time.Second)
	assert.Equal(t, "http://127.43.72.5:8580/onvif/device_service", found.XAddr)
	c := onvif.New(found.XAddr, onvif.Options{Dial: &address.Guard{Allowed: ranges}, SignIn: in})
	defer c.Close()
	_, err := c.Clock(t.Context())
	require.NoError(t, err)
	streams, err := c.Profiles(t.Context())
	require.NoError(t, err)
	require.Len(t, streams, 1)
	require.NoError(t, c.StreamURL(t.Context(), &streams[0]))
	assert.Equal(t, "rtsp://127.43.72.5:8554/clock/main", streams[0].URL)
	assert.Equal(t, 320, streams[0].Claimed.Width)
	at, err := streamurl.Parse(streams[0].URL)
	require.NoError(t, err)
	session, err := player.Open(t.Context(), player.Request{URL: at, Transport: rtsp.TCP, Dial: &address.Guard{Allowed: ranges}, SignIn: in})
	require.NoError(t, err)
	defer session.Close()
	packets, begun := 0, time.Now()
	require.NoError(t, session.Run(t.Context(), func(player.Packet) { packets++ }, func() bool {
		return packets > 50 || time.Since(begun) > patience
	}))
	assert.Greater(t, packets, 50)

	// The site is swept again, and heard all the while: the face is no camera of it.
	b.page.MustElementR(`[role=row]`, `127\.43\.72\.11`)
	rows := b.page.MustElementsByJS(`() => document.querySelectorAll("[role=row]")`)
	for _, r := range rows {
		assert.NotContains(t, r.MustText(), "127.43.72.5")
	}
}
