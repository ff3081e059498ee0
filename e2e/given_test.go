package e2e

import (
	"context"
	"net/netip"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/scene"
	"unlatch/sim/simtest"
	"unlatch/sim/transport"
)

// pasteURL gives a URL to the sheet.
func (b *bench) pasteURL(url string) {
	b.t.Helper()
	b.press("^Paste a URL$")
	b.page.MustElement(`textarea[name=paste]`).MustInput(url)
	b.press("^Prove it$")
}

// A transport stream to a group and motion JPEG are pasted, proven, watched, fitted and placed; a camera that offers two ways shows which
// target takes which, and what both cost.
func TestStreamsThatAreNotRTSP(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, `
name: given
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.62.11, scene: platform-clock, streams: [&m {width: 640, height: 360,
       fps: 10, kbps: 400, gop: 10}]}
  - {name: Crane, maker: ostrel, model: O1, address: 127.43.62.12, scene: turntable, users: [], announces: [], streams: [{width: 320,
       height: 180, fps: 5, kbps: 100, gop: 5}], defects: {stream_closed: true}}
targets:
  - {name: Desk, kind: software, maker: Overlea, address: 127.43.62.23, port: 8081, user: desk, secret: oak-door-52, slots: 6}
  - {name: Wall, kind: panel, maker: Sillwater, address: 127.43.62.24, port: 8081, user: desk, secret: oak-door-52, slots: 6}
`)
	library := &scene.Library{Dir: simtest.MediaDir(t)}
	clip, err := library.Clip(t.Context(), scene.Format{Scene: "viaduct", Width: 320, Height: 180, FPS: 10, Kbps: 200, GOP: 10,
		Profile: "main"})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	send := func(from string, to string) {
		go func() {
			defer func() { done <- struct{}{} }()
			transport.Send(ctx, transport.Options{Clip: clip, From: netip.MustParseAddr(from), To: netip.MustParseAddrPort(to)})
		}()
	}
	send("127.43.62.20", "239.43.62.20:20000") // an encoder that nothing can be asked of
	send("127.43.62.11", "239.43.62.11:20000") // the camera's other way
	t.Cleanup(func() { stop(); <-done; <-done })

	b := start(t)
	b.bring("Yard", "127.43.62.0/27", 1)
	b.count(`[data-at="placed"]`, 1)

	// Whoever sends to the group becomes a camera of the site; nothing was asked of it.
	b.press("^Paste a URL$")
	b.page.MustElement(`textarea[name=paste]`).MustInput("watch udp://@239.43.62.20:20000 in a player")
	b.see("A transport stream that somebody sends")
	b.clean("paste a transport stream")
	b.press("^Prove it$")
	b.page.MustElementR(`[role=row]`, `127\.43\.62\.20`)
	b.count(`[data-at="placed"]`, 2)

	// Motion JPEG: the camera opens without a sign-in.
	b.pasteURL("http://" + world.Device("Crane").Web() + "/orrery/plate/1/0.mjpg")
	b.page.MustElementR(`[role=row]`, `127\.43\.62\.12`)
	b.count(`[data-at="placed"]`, 3)
	b.page.MustElementR(`[role=row]`, `127\.43\.62\.12`).MustClick()
	b.page.MustElementR("#bench", `MJPEG · 320×180`)
	b.page.MustElementR("#bench", `Over HTTP, as motion JPEG`)

	// The camera that has a stream by RTSP gets the group as another.
	b.page.MustElement(`[aria-label="Close the bench"]`).MustClick()
	b.pasteURL("udp://@239.43.62.11:20000")
	b.page.MustElementR(`[role=row]`, `127\.43\.62\.11`).MustClick()
	b.page.MustElementR(`#bench [aria-label="Ways out of this camera"]`, `sub MPEG-TS by UDP`)
	b.page.MustElementR(`#bench [aria-label="Ways out of this camera"]`, `nobody; it is sent all the same`)
	b.clean("a camera with two ways")

	// Watched.
	require.NoError(t, b.page.Keyboard.Type(input.KeyW))
	b.page.MustElement(`[data-stream="sub"] [data-live="playing"]`)
	b.moves(`[data-stream="sub"]`, "the transport stream")
	b.page.MustElementR(`[data-stream="sub"]`, `H\.264 320×180`)
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.page.MustElementR(`[role=row]`, `127\.43\.62\.12`).MustClick()
	b.page.MustElementR("#bench h2", ".")
	require.NoError(t, b.page.Keyboard.Type(input.KeyW))
	b.page.MustElement(`[data-stream="main"] [data-live="playing"]`)
	b.moves(`[data-stream="main"]`, "motion JPEG")

	// Fitted and placed: the software takes the group, the panel takes the pictures by HTTP as sub stream and no group.
	b.press("^Patch$")
	b.addTarget("Bridge", "http://127.43.62.23:8081", "Desk")
	b.addTarget("Bridge", "http://127.43.62.24:8081", "Wall")
	b.page.MustEval(`async () => {
		const site = location.pathname.split("/")[2];
		const list = await (await fetch("/api/sites/" + site + "/devices")).json();
		const put = (url, method, body) => fetch(url, { method, headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
		for (const [address, name] of [["127.43.62.20", "Encoder"], ["127.43.62.12", "Crane"], ["127.43.62.11", "Clock"]]) {
			const d = list.find((d) => d.address === address);
			await put("/api/devices/" + d.id, "PATCH", { name });
			if (name !== "Clock") await put("/api/devices/" + d.id + "/roles", "PUT", { roles: { [d.streams[0].token]: "sub" } });
		}
	}`)
	b.drag("Encoder", "Desk", "camera 1")
	b.holds("Desk", "camera 1", "Encoder", "confirmed")
	entry := world.Bridge("Desk").Look().Slots[0].Entry
	require.Len(t, entry.Streams, 1)
	assert.Equal(t, []string{"udp://@239.43.62.20:20000", ""}, []string{entry.Streams[0].URL, entry.Streams[0].Transport})
	b.drag("Crane", "Wall", "entry 1")
	b.holds("Wall", "entry 1", "Crane", "confirmed")
	b.drag("Encoder", "Wall", "entry 2")
	b.see("transport is mpeg-ts")

	// Taken away again, and back.
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.page.MustElement(`[data-device="Clock"]`).MustClick()
	b.page.MustElementR("#bench button", "^sub$").MustClick()
	b.press("^Take it away$")
	b.page.MustWait(`() => !document.querySelector('[aria-label="Ways out of this camera"]')`)
	b.press("^Undo$")
	b.page.MustElement(`[aria-label="Ways out of this camera"]`)
}
