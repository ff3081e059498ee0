package e2e

import (
	"bytes"
	"encoding/base64"
	"image/jpeg"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/scene"
	"unlatch/sim/simtest"
)

const mixed = `
name: mixed
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Embankment, maker: lumenhythe, model: L5, address: 127.43.18.11, scene: viaduct, caption: "", streams: [{width: 640,
       height: 360, fps: 10, kbps: 500, gop: 10, codec: h265}, {width: 320, height: 180, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
  - {name: Milepost, maker: corvane, model: V1, address: 127.43.18.12, scene: signal-box-stairs, caption: "",
       streams: [{width: 320, height: 184, fps: 5, kbps: 900, codec: jpeg}]}
  - {name: Ganger hut, maker: corvane, model: V1, address: 127.43.18.13, scene: coal-stage, caption: "", streams: [{width: 320,
       height: 180, fps: 10, kbps: 300, gop: 10, codec: mpeg4}]}
  - {name: Waiting shelter, maker: corvane, model: V4, address: 127.43.18.14, scene: platform-clock, caption: "",
       streams: [{width: 320, height: 180, fps: 10, kbps: 200, gop: 10, audio: aac}]}
  - {name: Crossing lamp, maker: corvane, model: V4, address: 127.43.18.15, scene: crossing-north, caption: "",
       streams: [{width: 320, height: 180, fps: 5, kbps: 100, gop: 5, profile: baseline}], defects: {https: only}}
  - {name: Footpath, maker: corvane, model: V4, address: 127.43.18.16, scene: footbridge, caption: "", streams: [{width: 320,
       height: 180, fps: 10, kbps: 200, gop: 10, audio: silent}], defects: {drops: 4, clock_offset: -1200}}
  - {name: Strongroom, kind: recorder, maker: holloway, model: Eight, address: 127.43.18.20}
`

// Whatever a camera sends, a decoded picture of the right scene is seen on the bench, with its measures and what to act on; all of them,
// the one that has closed its plain port too, are confirmed by the recorder.
func TestEveryCodec(t *testing.T) {
	t.Parallel()
	simtest.Start(t, mixed)
	b := start(t)
	b.bring("Crossing", "127.43.18.0/27", 7)
	b.count(`[data-at="placed"]`, 6)
	for address, want := range map[string]struct{ scene, codec, says string }{
		"127.43.18.11": {"viaduct", "H.265", "Main"},
		"127.43.18.12": {"signal-box-stairs", "MJPEG", "every frame is a key frame"},
		"127.43.18.13": {"coal-stage", "MPEG-4", "a key frame every 1 s"},
		"127.43.18.14": {"platform-clock", "H.264", "AAC, 16 kHz"},
		"127.43.18.15": {"crossing-north", "H.264", "a key frame every 1 s"},
		"127.43.18.16": {"footbridge", "H.264", "it is silent"},
	} {
		b.page.MustElementR("[data-device]", address).MustClick()
		b.page.MustElementR("#bench h2, #bench h1, #bench", address)
		bench, err := b.page.Timeout(15*time.Second).ElementR("#bench", want.says)
		require.NoError(t, err, "%s: %s", address, b.page.MustElement("#bench").MustText())
		assert.Contains(t, bench.MustText(), want.codec, address)
		b.page.MustElement(`[aria-label="Measured over time"] svg`)
		raw := b.page.MustEval(`async (name) => { const img = document.querySelector('#bench [aria-label="Picture"] img'); `+
			`const bytes = new Uint8Array(await (await fetch(img.src)).arrayBuffer()); return btoa(String.fromCharCode(...bytes)); }`,
			address).Str()
		still, err := base64.StdEncoding.DecodeString(raw)
		require.NoError(t, err)
		img, err := jpeg.Decode(bytes.NewReader(still))
		require.NoError(t, err, address)
		assert.Equal(t, want.scene, scene.Likest(img), address)
	}
	b.page.MustElementR("[data-device]", "127.43.18.16").MustClick()
	for _, cause := range []string{"packet_loss", "silent_audio", "wrong_clock"} {
		b.page.MustElement(`[data-finding="` + cause + `"]`)
	}
	assert.Contains(t, b.page.MustElementR("#bench nav button", "URLs").MustText(), "3 findings")
	b.press("^Place 6 cameras")
	b.agree()
	b.count(`[data-at=""]`, 6)
}
