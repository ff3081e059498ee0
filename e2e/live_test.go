package e2e

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unlatch/sim/simtest"
)

// drawn is what the live picture in a part of the page shows now, boiled down to a row of brightnesses.
func (b *bench) drawn(in string) (out []float64) {
	raw := b.page.MustEval(`(at) => {
		const el = [...document.querySelectorAll(at + " video, " + at + " img")].find((e) => !e.classList.contains("hidden"));
		const c = document.createElement("canvas");
		c.width = 32; c.height = 18;
		const x = c.getContext("2d");
		x.drawImage(el, 0, 0, 32, 18);
		const p = x.getImageData(0, 0, 32, 18).data;
		return Array.from({ length: 576 }, (_, i) => p[4 * i] + p[4 * i + 1] + p[4 * i + 2]);
	}`, in)
	for _, v := range raw.Arr() {
		out = append(out, v.Num())
	}
	return out
}

// moves waits until a live picture shows two moments that differ, of the same view.
func (b *bench) moves(in, what string) {
	b.t.Helper()
	black := func(row []float64) bool {
		sum := 0.0
		for _, v := range row {
			sum += v
		}
		return sum < 50_000
	}
	var first []float64
	eventually(b.t, func() bool {
		first = b.drawn(in)
		return !black(first)
	}, 30*time.Second, 100*time.Millisecond, "%s: something is drawn", what)
	moved := 0
	eventually(b.t, func() bool {
		now := b.drawn(in)
		moved = 0
		for i := range now {
			if d := first[i] - now[i]; d > 40 || d < -40 {
				moved++
			}
		}
		return moved > 3 && !black(now)
	}, 30*time.Second, 200*time.Millisecond, "%s moves", what)
	assert.Less(b.t, moved, 400, "%s: it is the same view", what)
}

// A camera is looked at as it comes: two moments differ, and the picture is that of its proof: of H.264, of motion
// JPEG, and of H.265, which is converted and said to be.
func TestLookingLive(t *testing.T) {
	simtest.Start(t, `
name: live
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.33.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 300, gop: 10}]}
  - {name: Hut, maker: corvane, model: V1, address: 127.43.33.12, scene: coal-stage, streams: [{width: 320, height: 180, fps: 5,
       kbps: 900, codec: jpeg}]}
  - {name: Bank, maker: corvane, model: V5, address: 127.43.33.13, scene: viaduct, streams: [{width: 320, height: 180, fps: 5,
       kbps: 200, gop: 5, codec: h265}]}
`)
	b := start(t)
	b.bring("Line", "127.43.33.0/26", 3)
	b.count(`[data-at="placed"]`, 3)
	look := func(address string) {
		id := b.page.MustEval(`async (address) => {
			const site = location.pathname.split("/")[2];
			return (await (await fetch("/api/sites/" + site + "/devices")).json()).find((d) => d.address === address).id;
		}`, address).Str()
		b.page.MustNavigate(b.page.MustEval(`(id) => location.origin + location.pathname + "?device=" + id`, id).Str())
		b.press("^Play live$")
	}
	for _, address := range []string{"127.43.33.11", "127.43.33.12", "127.43.33.13"} {
		look(address)
		b.page.MustElement(`[data-live="playing"]`)
		b.moves("[data-live]", address)
	}
	b.see("shown converted; the stream itself is H.265")
	// A browser that says that it plays H.265 and does not is given the converted picture all the same.
	b.press("^Show the still$")
	b.page.MustEval(`() => { MediaSource.isTypeSupported = () => true; }`)
	b.press("^Play live$")
	b.see("shown converted; the stream itself is H.265")
	b.moves("[data-live]", "the stream that the browser does not play after all")
	b.clean("live")
	b.press("^Show the still$")
	b.count("[data-live]", 0)
	assert.NotContains(t, b.server.Log(), "brass-lamp-41")
}
