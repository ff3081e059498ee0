package e2e

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

// One stream's settings are changed on the bench, measured and shown, and put back; a camera that clamps is found out.
func TestAStreamIsSetOnTheBench(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: set
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Turntable, maker: corvane, model: V4, address: 127.43.19.11, scene: turntable, streams: [&m {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10}]}
  - {name: Coal stage, maker: corvane, model: V3, address: 127.43.19.12, scene: coal-stage, streams: [*m], defects: {encoder: clamps}}
`)
	b := start(t)
	b.bring("Works", "127.43.19.0/28", 2)
	b.count(`[data-at="placed"]`, 2)
	b.page.MustElementR("[data-device]", "127.43.19.11").MustClick()
	b.page.MustElementR("#bench", "320×180 · 10 fps")
	b.press("^Set and measure$")
	b.see("Say what shall change")
	b.typeIn("size", "640x360")
	b.typeIn("fps", "5")
	b.press("^Set and measure$")
	b.page.MustElementR("#bench", "640×360 · 5 fps")
	set := b.page.MustElement(`[aria-label="What was set"]`).MustText()
	assert.Contains(t, set, "320x180")
	assert.Contains(t, set, "640x360")
	b.count(`[data-at="placed"]`, 2)
	b.press("^Put back what was before$")
	b.page.MustElementR("#bench", "320×180 · 10 fps")

	b.page.MustElementR("[data-device]", "127.43.19.12").MustClick()
	b.page.MustElementR("#bench", "Corvane V3")
	b.typeIn("fps", "25")
	b.press("^Set and measure$")
	stuck, err := b.page.Timeout(60*time.Second).ElementR("#bench", "Stuck at “Tuned”")
	require.NoError(t, err)
	assert.Contains(t, stuck.MustText(), "was set to 25 and reads back as 10")
	b.press("^Put the settings back$")
	b.count(`[data-at="placed"]`, 2)
}
