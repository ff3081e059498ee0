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
	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtsp"
	"unlatch/sim/simtest"
)

// A stream is served on by a click; a recorder takes it with the sign-in that was made for it while somebody looks, although the camera
// allows one session; it is removed, and the recorder is let go.
func TestAStreamIsServedOn(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: served
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.70.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 300, gop: 10}], defects: {sessions: 1}}
`)
	b := start(t, "--relay", "127.0.0.1:0")
	b.bring("Line", "127.43.70.0/27", 1)
	b.count(`[data-at="placed"]`, 1)
	b.page.MustElement(`[data-run="finished"]`)
	b.page.MustElementR(`[role=row]`, `127\.43\.70\.11`).MustClick()
	b.page.MustElement("#bench")
	b.press("^Serve it on$")
	b.typeIn("for", "Parcel vault")
	b.typeIn("path", "Not a path")
	b.page.MustElementR("[role=dialog] button", "^Serve it on$").MustClick()
	b.page.MustElementR("[role=dialog]", "is no path for a stream")
	b.typeIn("path", "clock/main")
	b.clean("serving on")
	b.page.MustElementR("[role=dialog] button", "^Serve it on$").MustClick()
	row := b.page.MustElement(`[data-relay="clock/main"]`)
	url := regexp.MustCompile(`rtsp://127\.0\.0\.1:\d+/clock/main`).FindString(row.MustText())
	require.NotEmpty(t, url, row.MustText())
	b.clean("a stream that is served on")
	row.MustElementR("button", "^Show the password$").MustClick()
	text := b.page.MustElementR(`[data-relay="clock/main"]`, `password \S+`).MustText()
	found := regexp.MustCompile(`User (\S+), password (\S+)`).FindStringSubmatch(text)
	require.Len(t, found, 3, text)

	b.press("^Play live$")
	b.moves(`#bench`, "the picture on the bench")
	at, err := streamurl.Parse(url)
	require.NoError(t, err)
	session, err := player.Open(t.Context(), player.Request{URL: at, Transport: rtsp.TCP,
		Dial:   &address.Guard{Allowed: address.MustParse("127.0.0.0/8")},
		SignIn: signin.SignIn{User: found[1], Secret: signin.NewSecret(strings.TrimSuffix(found[2], ","))}})
	require.NoError(t, err)
	defer session.Close()
	pictures, begun := 0, time.Now()
	each := func(p player.Packet) {
		if !p.RTCP && len(p.Payload) > 1 && p.Payload[1]&0x80 != 0 {
			pictures++
		}
	}
	require.NoError(t, session.Run(t.Context(), each, func() bool { return pictures > 20 || time.Since(begun) > patience }))
	assert.Greater(t, pictures, 20)
	ended := make(chan error, 1)
	go func() { ended <- session.Run(t.Context(), each, func() bool { return false }) }()
	b.page.MustElementR(`[data-relay="clock/main"]`, "one takes it")

	b.page.MustElement(`[data-relay="clock/main"]`).MustElementR("button", "^Remove$").MustClick()
	b.press("^Serve it no more$")
	b.count(`[data-relay="clock/main"]`, 0)
	select {
	case err := <-ended:
		assert.Error(t, err)
	case <-time.After(patience):
		t.Fatal("it is served on still")
	}
}
