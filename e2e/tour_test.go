package e2e

import (
	"fmt"
	"strings"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mostStep is how long a busy machine gets for one step of the tour.
const mostStep = 4 * time.Minute

// rest walks the steps of docs/tour.md from the sixth on, as far as they can be walked without waiting for minutes to pass.
func (b *bench) rest(network string) {
	b.t.Helper()
	whole := b.page.CancelTimeout()
	whole.MustSetViewport(1280, 2400, 1, false) // every row of a line-up is drawn
	step := func(...int) { b.page = whole.Timeout(mostStep) }
	step()
	at := func(site, last int) string { return fmt.Sprintf("%s.%d.%d", network, site, last) }
	row := func(site, last int) {
		b.page.MustElementR("[role=row]", strings.ReplaceAll(at(site, last), ".", `\.`)+`(\D|$)`).MustClick()
		b.page.MustElementR("#bench", strings.ReplaceAll(at(site, last), ".", `\.`))
	}
	ended := func() { b.count(`[data-run="running"]`, 0) }
	to := func(site string) {
		b.page.MustNavigate(b.server.URL)
		b.press("^" + site)
	}
	lineUp := func() { b.page.MustElementR("nav a", "^Line-up$").MustClick() }
	leave := func() { require.NoError(b.t, b.page.Keyboard.Type(input.Escape)) }

	lineUp() // 6
	row(1, 42)
	b.page.MustElementR("#bench button", "Claim").MustClick()
	b.press("Make one")
	b.press("^Save to keyring and claim$")
	ended()
	b.page.MustElementR("#bench", `[Ss]igned in`)
	leave()

	step(8)
	b.page.MustElementR("[role=row]", "recorder").MustClick()
	b.count("[data-channel]", 4)
	b.see("Telegraph office")
	leave()

	step(9, 10)
	b.page.MustElementR("nav a", "^Find$").MustClick()
	b.see("Listening for newcomers|Listening")
	b.page.MustElement(fmt.Sprintf(`[data-stray="%s"]`, at(9, 64))).MustElementR("button", "^Reach it").MustClick()
	b.key("^Connect to .* for 30 min$")
	b.key("^To the bench$")
	b.press("^Open latches$")
	ended()
	b.page.MustElementR("#bench button", "Give an address")
	leave()

	step(11)
	lineUp()
	row(1, 46)
	b.see("whoever answers or listens on this network can read the password")
	b.press("^Agree to send it$")
	b.press("^Agree and go on$")
	ended()
	b.see("Its sign-in may be sent readable")
	leave()
	require.NoError(b.t, b.page.Keyboard.Type(input.KeyV))
	b.page.MustElement(`textarea[name="paste"]`).MustInput("“http://rtsp://fitter:Brass-Lamp-41@" + at(1, 20) + `:80\strongroom\1\0”`)
	b.see("The scheme stands twice")
	b.see("Holloway recorders")
	leave()

	step(7, 12, 14)
	to("Engine Works")
	lineUp()
	b.page.MustElement("[data-device]")
	b.press("^Open latches of ")
	b.page.MustElement(`[data-run="running"]`)
	ended()
	row(2, 17)
	b.press("^Make a stream user")
	b.press("^Make it$")
	ended()
	leave()
	b.page.MustElementR("nav a", "^Streams$").MustClick()
	settled(b.t, b.page)
	b.selectAll()
	b.press("^Preset on [0-9]+ cameras$")
	b.page.MustElementR("[role=menuitem]", "^Everyday").MustClick()
	b.press("^Preview [0-9]+ cameras$")
	b.page.MustElement("[data-preview]")
	b.press("^Set and measure [0-9]+ cameras$")
	b.page.MustElement(`[data-run="running"]`)
	ended()
	b.see("≠") // one clamps what it is told, and says so

	step(13)
	to("Viaduct crossing")
	lineUp()
	b.page.MustElement(`[data-device]`)
	b.press("^Open latches of ")
	b.page.MustElement(`[data-run="running"]`)
	ended()
	row(3, 13)
	b.see("TLS")
	row(3, 19)
	b.see("[Ee]ncrypt")

	step(16)
	to("Tarn Ferry station")
	lineUp()
	b.page.MustElement("[aria-label='Select all that are shown']").MustClick()
	b.press("^Name …$")
	b.press("^By a pattern$")
	b.typeIn("pattern", "Platform {nn}")
	b.see("^Platform 01$")
	leave()
	b.count("[role=dialog]", 0)
	leave() // the selection is let go
	b.count("[role=row][aria-selected=true]", 0)
	b.page.MustElement(`[data-device="Water tower"]`).MustClick()
	b.page.MustElementR("#bench", "Water tower")
	require.NoError(b.t, b.page.Keyboard.Type(input.KeyW))
	b.page.MustElement("[data-watching]")
	b.moves(`[data-stream="main"]`, "the main stream")
	b.press("^Which one\\?$")
	b.press("^Nudge$")
	b.page.MustNavigate(b.server.URL)
	b.press("^Tarn Ferry station")
	b.page.MustElementR("nav a", "^Plan$").MustClick()
	b.page.MustElement("[data-mark]")
	b.page.MustElementR("nav a", "^Streams$").MustClick()
	b.press("^Multicast$")
	b.press("^Measure [0-9]+ streams$")
	b.page.MustElement(`[data-finding="group_clash"]`)
	assert.NotContains(b.t, b.server.Log(), "Brass-Lamp-41")
}
