package e2e

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"unlatch/sim/simtest"
)

// A site is agreed on with a reason, a camera moves, and the page tells which field of which camera changed.
func TestAgreed(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, `
name: agreed
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.64.11, scene: platform-clock, streams: [&m {width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10}]}
  - {name: Weir, maker: corvane, model: V4, address: 127.43.64.13, scene: viaduct, lease: 127.43.64.13, next_lease: 127.43.64.21,
     lease_seconds: 3600, streams: [*m]}
`)
	b := start(t)
	b.bring("Works", "127.43.64.0/27", 2)
	b.count(`[data-at="placed"]`, 2)
	b.page.MustElement(`[data-run="finished"]`)
	b.page.MustElementR("nav a", "^Drift$").MustClick()
	b.page.MustElementR("aside a", "^What was agreed on").MustClick()
	b.see("Nothing is agreed on yet")
	b.clean("nothing agreed yet")
	b.press("^Agree on the state of now$")
	b.see("2 devices are not finished")
	b.clean("agreeing")
	assert.True(t, b.page.MustElementR("[role=dialog] button", "^Agree$").MustProperty("disabled").Bool(), "a reason is wanted")
	b.page.MustElement("[role=dialog] input[name=reason]").MustInput("they have no target yet")
	b.page.MustElementR("[role=dialog] button", "^Agree$").MustClick()
	b.see("All 2 devices are as they were agreed")
	b.see("they have no target yet")

	// A camera is given another address by the site's DHCP server, and is found again there.
	world.Release("Weir")
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.page.MustElement("[data-device]")
	b.page.Keyboard.MustType('s')
	b.page.MustElementR("[role=row]", `127\.43\.64\.21`)
	b.page.MustElementR("nav a", "^Drift$").MustClick()
	b.page.MustElementR("aside a", "^What was agreed on").MustClick()
	b.see("1 device changed, 1 as agreed")
	b.page.MustElementR("article", `Address[\s\S]*127\.43\.64\.13[\s\S]*127\.43\.64\.21`)
	b.clean("one device changed")

	// It is agreed on again, and compared with what was before.
	b.press("^Agree on the state of now$")
	b.page.MustElement("[role=dialog] input[name=name]").MustSelectAllText().MustInput("Moved")
	b.page.MustElement("[role=dialog] input[name=reason]").MustInput("it may stay there")
	b.page.MustElementR("[role=dialog] button", "^Agree$").MustClick()
	b.see("All 2 devices are as they were agreed")
	b.page.MustElementR("[aria-label='Agreed states'] button", "^Handed over").MustClick()
	b.page.MustElement("select[aria-label='Compare it with']").MustSelect("Moved")
	b.see("1 device changed, 1 as agreed")
}
