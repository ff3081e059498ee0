package e2e

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unlatch/sim/simtest"
)

// A panel takes MJPEG alone, and the camera can be set to none: the cord says so and offers to serve the stream on, with what that costs;
// the panel gets the picture through the relay, which the cord shows. Taken off again, the relay is gone.
func TestAPanelFedByARelay(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: fed
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.71.11, scene: platform-clock, streams: [&s {width: 640, height: 360,
       fps: 10, kbps: 300, gop: 10}, *s]}
targets:
  - {name: Porch, kind: panel, maker: Sillwater, address: 127.43.71.24, port: 8081, user: desk, secret: oak-door-52, slots: 4,
       codec: MJPEG}
`)
	b := start(t, "--relay", "127.0.0.1:0")
	b.bring("Line", "127.43.71.0/27", 1)
	b.count(`[data-at="placed"]`, 1)
	b.page.MustElement(`[data-run="finished"]`)
	b.page.MustElementR("nav a", "Patch").MustClick()
	b.addTarget("Bridge", "http://127.43.71.24:8081", "Porch")
	eventually(t, func() bool {
		return b.page.MustEval(`async () => {
			const site = "/api/sites/" + location.pathname.split("/")[2];
			const target = (await (await fetch(site + "/targets")).json())[0].id;
			const device = (await (await fetch(site + "/devices")).json()).find((d) => d.address === "127.43.71.11").id;
			return (await (await fetch(site + "/targets/" + target + "/relay-offers/" + device)).json()).offer?.known ?? false;
		}`).Bool()
	}, time.Minute, 500*time.Millisecond, "the worker has measured what converting costs")
	b.drag("Corvane V4", "Porch", "entry 1")
	row := `[data-on="Porch"][data-holds="Corvane V4"]`
	b.page.MustElement(row + `[data-state="broken"]`)
	b.page.MustElement(row + ` button`).MustClick()
	b.press("^Serve it on: MJPEG")
	b.see("Serve Corvane V4 on for Porch")
	b.see("codec is H.264, it wants MJPEG")
	b.page.MustElementR("[role=dialog]", "of a processor core")
	b.clean("a relay that is offered")
	b.press("^Serve it on and place it$")
	b.page.MustElement(row + `[data-state="confirmed"]`)
	b.see("Through a relay: MJPEG")
	b.see("its picture: right camera")
	b.clean("a cord through a relay")

	list := b.page.MustEval(`async () => {
		const site = location.pathname.split("/")[2];
		return (await (await fetch("/api/sites/" + site + "/relays")).json()).relays;
	}`)
	assert.Equal(t, "Porch", list.Get("0.for").Str())
	assert.Contains(t, list.Get("0.as").Str(), "MJPEG")
	b.press("^Take it off$")
	eventually(t, func() bool {
		return b.page.MustEval(`async () => {
			const site = location.pathname.split("/")[2];
			return (await (await fetch("/api/sites/" + site + "/relays")).json()).relays.length;
		}`).Int() == 0
	}, time.Minute, 200*time.Millisecond, "the relay goes with the placement")
}
