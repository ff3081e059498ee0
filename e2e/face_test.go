package e2e

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/onvif"
	"unlatch/sim/simtest"
)

// A camera is given a face by a tick; a recorder that takes ONVIF devices alone finds it by its own search, signs in with what was made for
// it, and records its stream. The site itself does not take it for a camera.
func TestARecorderFindsAndAddsAFace(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, `
name: faced
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.72.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 300, gop: 10}]}
  - {name: Vault, maker: holloway, model: H8, address: 127.43.76.20, kind: recorder, slots: 4}
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

	// A recorder that takes ONVIF devices alone searches, signs in and records; what it asks for on the way is the standard's own.
	vault, ranges := world.Device("Vault"), address.MustParse("127.43.72.0/29")
	eventually(t, func() bool {
		added, err := vault.FindAndAdd(t.Context(), ranges, in)
		return assert.NoError(t, err) && len(added) == 1 && assert.Equal(t, "http://127.43.72.5:8580/onvif/device_service", added[0])
	}, time.Minute, time.Second)
	eventually(t, func() bool { return vault.Slots()[0].Frames > 20 }, patience, 50*time.Millisecond)
	b.page.MustElementR(`[data-relay="clock/main"]`, "one takes it")

	c := onvif.New("http://127.43.72.5:8580/onvif/device_service", onvif.Options{Dial: &address.Guard{Allowed: ranges}, SignIn: in})
	defer c.Close()
	_, err := c.Clock(t.Context())
	require.NoError(t, err)
	streams, err := c.Profiles(t.Context())
	require.NoError(t, err)
	require.Len(t, streams, 1)
	assert.Equal(t, 320, streams[0].Claimed.Width)

	// The site is swept again, and heard all the while: the face is no camera of it.
	b.page.MustElementR(`[role=row]`, `127\.43\.72\.11`)
	rows := b.page.MustElementsByJS(`() => document.querySelectorAll("[role=row]")`)
	for _, r := range rows {
		assert.NotContains(t, r.MustText(), "127.43.72.5")
	}
}
