package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/e2e/browser"
	"unlatch/sim/simtest"
)

const yard = `
name: yard
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Platform clock, maker: corvane, model: V4, address: 127.43.1.11, scene: platform-clock, streams: [&m {width: 640,
       height: 360, fps: 10, kbps: 400, gop: 5}, &s {width: 320, height: 180, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
  - {name: Footbridge, maker: corvane, model: V4, address: 127.43.1.12, scene: footbridge, streams: [*m, *s]}
  - {name: Ticket window, maker: corvane, model: V4, address: 127.43.1.13, scene: ticket-window, streams: [*m, *s]}
  - {name: Turntable, maker: lumenhythe, model: L2, address: 127.43.1.14, scene: turntable, streams: [*m, *s]}
  - {name: Coal stage, maker: lumenhythe, model: L2, address: 127.43.1.15, scene: coal-stage, streams: [*m, *s]}
  - {name: Paint shop, maker: lumenhythe, model: L2, address: 127.43.1.16, scene: paint-shop, streams: [*m, *s]}
  - {name: Strongroom, kind: recorder, maker: holloway, model: Eight, address: 127.43.1.20}
`

// bench is a server with an empty database and a browser on it.
type bench struct {
	t      *testing.T
	server *browser.Server
	page   *rod.Page
	data   string
	flags  []string
}

func start(t *testing.T, flags ...string) *bench {
	b := &bench{t: t, data: dataFolder(t), flags: flags}
	b.serve("127.0.0.1:0")
	t.Cleanup(func() { assert.NoError(t, b.server.Stop()) })
	setup := regexp.MustCompile(`https?://\S+/setup#\S+`).FindString(b.server.Output)
	require.NotEmpty(t, setup, b.server.Output)
	b.browse(setup)
	return b
}

// dataFolder makes a folder that the database's user can enter.
func dataFolder(t *testing.T) string {
	data, err := os.MkdirTemp("", "unlatch-e2e-*")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(data, 0o755))
	t.Cleanup(func() { os.RemoveAll(data) })
	return data
}

// browse opens a browser on an address. If the test fails, a picture of the page is kept.
func (b *bench) browse(url string) {
	chrome, err := browser.Start()
	require.NoError(b.t, err)
	b.t.Cleanup(chrome.Stop)
	b.page, err = chrome.Page(url, 1280, 800)
	require.NoError(b.t, err)
	b.page = failOnPanic(b.t, b.page)
	b.t.Cleanup(func() {
		if b.t.Failed() { // what the person would have seen
			if png, err := b.page.CancelTimeout().Timeout(5*time.Second).Screenshot(false, nil); err == nil {
				root, _ := browser.Root()
				os.WriteFile(filepath.Join(root, ".unlatch", "failed-"+b.t.Name()+".png"), png, 0o644)
			}
		}
	})
}

func (b *bench) serve(listen string) {
	var err error
	b.server, err = browser.StartServer(append([]string{"serve", "--data", b.data, "--listen", listen}, b.flags...)...)
	require.NoError(b.t, err)
}

// patience is how long a test waits for one thing to stand on the page. It bounds a single look, so that a test of many looks
// does not fail on a busy machine.
const patience = 2 * time.Minute

// press presses the button or follows the link whose text fits.
func (b *bench) press(text string) {
	b.t.Helper()
	el, err := b.page.Timeout(patience).ElementR("button, a, summary", text)
	require.NoError(b.t, err, "no button %q", text)
	require.NoError(b.t, el.WaitEnabled(), text)
	_, err = el.WaitInteractable() // a sheet that is just closing still lies over it
	require.NoError(b.t, err, text)
	require.NoError(b.t, el.Click("left", 1), text)
}

// key presses a button by the keyboard: in a list that grows meanwhile a mouse would meet another one.
func (b *bench) key(text string) {
	b.t.Helper()
	el, err := b.page.Timeout(patience).ElementR("button", text)
	require.NoError(b.t, err, "no button %q", text)
	require.NoError(b.t, el.Focus(), text)
	require.NoError(b.t, el.Type(input.Enter), text)
}

// agree agrees for the target that cameras wait for, and lets the work go on.
func (b *bench) agree() {
	b.t.Helper()
	b.press("^Agree for ")
	b.page.MustElementR("[role=dialog]", "What may go to")
	b.press("^Agree and go on$")
}

// typeIn fills the field of a name.
func (b *bench) typeIn(name, text string) {
	b.t.Helper()
	el, err := b.page.Timeout(patience).Element(fmt.Sprintf("input[name=%q]", name))
	require.NoError(b.t, err, name)
	require.NoError(b.t, el.SelectAllText())
	require.NoError(b.t, el.Input(text))
}

// see waits until a text stands on the page.
func (b *bench) see(text string) *rod.Element {
	b.t.Helper()
	el, err := b.page.Timeout(patience).ElementR("body *", text)
	require.NoError(b.t, err, "the page does not say %q", text)
	return el.CancelTimeout()
}

// settled waits until a page that was just gone to stands still. A look at the page before it is an error that means nothing.
func settled(t *testing.T, page *rod.Page) {
	t.Helper()
	eventually(t, func() bool { return page.WaitStable(500*time.Millisecond) == nil }, 90*time.Second, 100*time.Millisecond)
}

// count waits until n elements fit a selector.
func (b *bench) count(selector string, n int) {
	b.t.Helper()
	got := -1
	eventually(b.t, func() bool {
		els, err := b.page.Elements(selector)
		got = len(els)
		return err == nil && got == n
	}, 90*time.Second, 100*time.Millisecond, "%s: want %d", selector, n)
}

func (b *bench) firstAccount() {
	b.typeIn("name", "keeper")
	b.typeIn("password", "a long password")
	b.press("Make the account")
	b.see("No site yet")
}

// firstSignIn puts the sign-in that the stand-ins share on the empty keyring.
func (b *bench) firstSignIn() {
	b.press("^Keyring$")
	b.press("Add the first sign-in")
	b.typeIn("user", "fitter")
	b.typeIn("secret", "brass-lamp-41")
	b.press("Add to keyring")
	b.see("0 devices")
}

func (b *bench) makeSite(name, ranges string) {
	b.press("Make the first site")
	b.typeIn("name", name)
	b.typeIn("ranges", ranges)
	b.press("Make the site")
	b.see("No camera found yet")
}

// From an empty database to six cameras confirmed by the recorder, through the screens alone.
func TestFromAnEmptyDatabaseToConfirmed(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, yard)
	b := start(t)
	b.firstAccount()
	b.makeSite("Engine Works", "127.43.1.0/26")
	b.press("^Sweep the site$")
	b.count("[data-device]", 7)
	b.press("^Open latches of 7 devices")

	// The keyring is empty, and the screen says so and what to do.
	b.count(`[data-at="signed_in"]`, 7)
	b.press("^Add a sign-in$")
	b.typeIn("user", "fitter")
	b.typeIn("secret", "brass-lamp-41")
	b.press("^Add to keyring$")
	// Adding it opens the cameras that waited for it.
	b.count(`[data-at="placed"]`, 6)

	// The recorder waits too. It is selected by keyboard: the first row of the list.
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	require.NoError(t, b.page.Keyboard.Type(input.ArrowDown, input.KeyO))
	b.see("ready for cameras")

	b.press("^Place 6 cameras on Holloway Eight$")
	b.agree()
	b.count(`[data-at=""]`, 7-1)
	for _, chain := range b.page.MustElements(`[data-at=""] svg[role=img][aria-label*="Confirmed"]`) {
		assert.Contains(t, *chain.MustAttribute("aria-label"), "Confirmed open")
	}

	// Each still is a decoded picture, not a blank one, and no two are alike.
	looks := map[string]bool{}
	for _, img := range b.page.MustElements(`[role=row] img`) {
		looks[pixels(t, img)] = true
	}
	assert.Len(t, looks, 6)

	// The recorder really received frames.
	slots := world.Device("Strongroom").Slots()
	require.Len(t, slots, 6)
	for _, s := range slots {
		assert.Equal(t, "Connected", s.State, s.Name)
		assert.Positive(t, s.Frames, s.Name)
	}

	// The bench of one shows its URL, its claims and its evidence, and no password anywhere.
	b.page.MustElement(`[data-device] .font-medium`).MustClick()
	b.page.MustElementR(`[role=row]`, `127\.43\.1\.14`).MustClick()
	bench := b.page.MustElementR("#bench", "Every latch is open")
	assert.Contains(t, bench.MustText(), "/lantern/9")
	assert.Contains(t, bench.MustText(), "It reports: Connected, recording Active")
	b.page.MustElementR("a", "^exchange$").MustClick()
	b.page.MustElement("[data-reading]")
	b.see("Support note")
	assert.NotContains(t, b.page.MustElement("body").MustText(), "brass-lamp-41")
}

// pixels checks that an image has loaded and shows more than one colour, and returns a fingerprint of it.
func pixels(t *testing.T, img *rod.Element) string {
	require.NoError(t, img.WaitLoad())
	got := img.MustEval(`async () => {
		await this.decode();
		const c = document.createElement("canvas"); c.width = 32; c.height = 18;
		const x = c.getContext("2d"); x.drawImage(this, 0, 0, 32, 18);
		const d = [...x.getImageData(0, 0, 32, 18).data];
		return { width: this.naturalWidth, colours: new Set(d.map((v) => v >> 4)).size, print: d.map((v) => (v >> 4).toString(16)).join("") };
	}`)
	assert.GreaterOrEqual(t, got.Get("width").Int(), 320)
	assert.Greater(t, got.Get("colours").Int(), 3, "the still is blank")
	return got.Get("print").Str()
}

// Wrong input is said in place and loses nothing; keys, themes and a phone's width work; work survives the server's death.
func TestAroundTheBench(t *testing.T) {
	t.Parallel()
	simtest.Start(t, strings.ReplaceAll(yard, "127.43.1.", "127.43.2."))
	b := start(t)
	b.typeIn("name", "keeper")
	b.typeIn("password", "a long password")
	b.typeIn("code", "WRONG")
	b.press("Make the account")
	b.see("The set-up code is not right")
	b.typeIn("code", regexp.MustCompile(`#(\S+)`).FindStringSubmatch(b.server.Output)[1])
	b.press("Make the account")
	b.press("Make the first site")
	b.typeIn("name", "Viaduct")
	b.typeIn("ranges", "10.0.0.0/8")
	b.press("Make the site")
	b.see("16,777,216 addresses")
	b.typeIn("ranges", "127.43.2.0/33")
	b.press("Make the site")
	b.see("is not an address with a prefix length")
	b.typeIn("ranges", "127.43.2.0/27")
	b.press("Make the site")
	b.firstSignIn()
	assert.NotContains(t, b.page.MustElement("body").MustText(), "brass-lamp-41")
	b.page.MustElement(`[aria-label="Show the password of fitter"]`).MustClick()
	b.see("brass-lamp-41")

	// By keys alone: sweep, to the line-up, select all, open.
	require.NoError(t, b.page.Keyboard.Type(input.KeyS, input.Digit1))
	b.count("[data-device]", 7)
	b.page.MustElement(`[data-run="finished"]`)
	require.NoError(t, b.page.Keyboard.Type(input.KeyA, input.KeyO))
	b.page.MustElement(`[data-run="running"]`)

	// The server dies in the middle; the next start goes on by itself, and so does the page.
	address := strings.TrimSuffix(strings.TrimPrefix(b.server.URL, "http://"), "/")
	b.server.Kill()
	b.serve(address)
	b.count(`[data-at="placed"]`, 6)
	b.page.MustReload()
	b.count(`[data-at="placed"]`, 6)
	b.see("Open latches of 7 cameras")

	// Rename, and take it back.
	b.page.MustElementR(`[role=row]`, `127\.43\.2\.11`).MustClick()
	b.page.MustElement(`#bench [aria-label="Change the name"]`).MustClick()
	name := b.page.MustElement(`#bench input[aria-label="Name"]`)
	name.MustInput("Platform clock").MustType(input.Enter)
	b.page.MustElementR("[data-device]", "Platform clock")
	b.press("^Undo$")
	b.page.MustElement(`[data-device="Corvane V4"]`)

	// The palette finds a camera by its address and changes the theme.
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	require.NoError(t, b.page.KeyActions().Press(input.ControlLeft).Type(input.KeyK).Do())
	b.page.MustElement("[cmdk-input]").MustInput("night theme").MustType(input.Enter)
	b.page.MustElement(`html[data-theme="night"]`)
	require.NoError(t, b.page.Keyboard.Type(input.Slash))
	b.page.MustElement(`[aria-label="Search the line-up"]`).MustInput("2.16")
	b.count("[data-device]", 1)

	// On the phone the camera has the whole width, and a way back.
	b.page.MustSetViewport(390, 844, 1, true)
	b.page.MustElement("[data-device]").MustClick()
	b.see("Place on Holloway Eight")
	box := b.page.MustElement("#bench").MustShape().Box()
	assert.InDelta(t, 390, box.Width, 1)
	assert.EqualValues(t, 0, b.page.MustEval(`() => document.documentElement.scrollWidth - innerWidth`).Int(),
		"nothing is cut off sideways")
	b.page.MustElement(`[aria-label="Back to the line-up"]`).MustClick()
	b.count("[data-device]", 1)
}

// One URL, damaged on its way here, becomes sixteen proven channels: repaired, read as a recipe, its sign-in put on the keyring, and
// each channel looked for and played.
func TestFromADamagedURLToSixteenChannels(t *testing.T) {
	t.Parallel()
	var channels []string
	for n := range 16 {
		channels = append(channels, fmt.Sprintf("{name: Channel %d, address: 10.254.4.%d, scene: %s, streams: [&m%d {width: 320, height: "+
			"180, fps: 5, kbps: 150, gop: 5, profile: baseline}, {width: 160, height: 90, fps: 5, kbps: 60, gop: 5, profile: baseline}]}",
			n+1, 11+n, []string{"turntable", "footbridge", "viaduct", "coal-stage"}[n%4], n))
	}
	simtest.Start(t, `
name: vault
users: [{name: fitter, secret: "Lamp/41@yard", level: Administrator}]
devices:
  - {name: Vault, kind: recorder, maker: holloway, model: Sixteen, address: 127.43.10.20, announces: [],
       channels: [`+strings.Join(channels, ",\n    ")+`]}
`)
	b := start(t)
	b.firstAccount()
	b.makeSite("Works", "127.43.10.0/26")
	b.press("^paste a stream URL$")
	text, err := b.page.Element(`textarea[name="paste"]`)
	require.NoError(t, err)
	require.NoError(t, text.Input("“http://rtsp://fitter:Lamp/41@yard@[127.43.10.20]:80\\strongroom\\3\\0”"))
	for _, says := range []string{"Quotes or brackets stand around", "The scheme stands twice", "stands where / belongs",
		"Brackets stand around the address", "characters that mean something in a URL", "is a web port"} {
		b.see(says)
	}
	b.see("Holloway recorders")
	assert.NotContains(t, b.page.MustElement("[role=dialog]").MustText(), "Lamp/41", "what is shown holds no password")
	b.typeIn("channels", "16")
	b.press("^Prove 16 channels$")
	b.count(`[data-at=""]`, 16)
	b.page.MustElement(`[data-run="finished"]`)
	b.page.MustElementR("[role=row]", "channel 16 of").MustClick()
	bench := b.page.MustElementR("#bench", "Every latch is open").MustText()
	assert.Contains(t, bench, "/strongroom/16/0")
	assert.Contains(t, bench, "fitter of 127.43.10.20")
	b.press("^Keyring$")
	b.see("Works only")
}

// A camera of an unknown maker, without a device service, is opened by its stream service and the likely paths.
func TestUnknownMakerByLikelyPaths(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: wharf
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Coal wharf, maker: ostrel, model: O1, address: 127.43.11.11, scene: coal-stage, announces: [mdns],
       streams: [{width: 640, height: 360, fps: 10, kbps: 400, gop: 5}, {width: 320, height: 180, fps: 5, kbps: 100, gop: 5,
       profile: baseline}]}
`)
	b := start(t)
	b.firstAccount()
	b.makeSite("Wharf", "127.43.11.0/28")
	b.press("^Sweep the site$")
	b.count("[data-device]", 1)
	b.page.MustElement(`[data-run="finished"]`)
	b.press("^Open latches of 1 device$")
	b.count(`[data-at="signed_in"]`, 1)
	b.press("^Add a sign-in$")
	b.typeIn("user", "fitter")
	b.typeIn("secret", "brass-lamp-41")
	b.press("^Add to keyring$")
	b.press("^Agree to basic for 1 device$")
	b.press("^Agree and go on$")
	b.count(`[data-at="placed"]`, 1)
	b.page.MustElement("[data-device]").MustClick()
	b.see("judges the sign-in first")
	bench := b.page.MustElement("#bench").MustText()
	assert.Contains(t, bench, "/orrery/crown")
	assert.Contains(t, bench, "/orrery/{tier:crown|belt|hem}")
}

// Cameras on a recorder's own switch are listed as its channels, opened with its sign-in, and lead to their pages through it.
func TestRecorderChannels(t *testing.T) {
	t.Parallel()
	scenario := strings.ReplaceAll(yard, "127.43.1.", "127.43.9.")
	scenario = strings.Replace(scenario, "address: 127.43.9.20}", `address: 127.43.9.20, channels: [
    {name: Subway stairs, address: 10.254.4.11, scene: signal-box-stairs, streams: [*m, *s], page: 9001}, {name: Waiting room,
    address: 10.254.4.12, scene: ticket-window, streams: [*m, *s], page: 9002},
    {name: Left luggage, address: 10.254.4.13, scene: water-tower, streams: [*m], page: 9003}, {name: Telegraph office,
    address: 10.254.4.14, scene: viaduct, streams: [*m]}]}`, 1)
	simtest.Start(t, scenario)
	b := start(t)
	b.firstAccount()
	b.makeSite("Tarn Ferry station", "127.43.9.0/26")
	b.firstSignIn()
	b.press("^Line-up$")
	b.press("^Sweep the site$")
	b.count("[data-device]", 7)
	b.page.MustElement(`[data-run="finished"]`)
	b.press("^Open latches of 7 devices")
	b.count("[data-device]", 11)
	b.see("channel 4 of Holloway Eight")

	b.page.MustElementR("[role=row]", "recorder").MustClick()
	b.count("[data-channel]", 4)
	assert.Equal(t, "http://127.43.9.20:9001/", *b.page.MustElement(`[data-channel="1"] a[target]`).MustAttribute("href"))
	b.page.MustElement(`[data-channel="1"] a`).MustClick()
	b.page.MustElementR("#bench", "10.254.4.11")
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	b.press("^Open latches of 4 devices")
	b.count(`[data-at=""]`, 4)
	b.page.MustElementR("[role=row]", "Subway stairs").MustClick()
	bench := b.page.MustElementR("#bench", "Every latch is open").MustText()
	assert.Contains(t, bench, "/strongroom/1/0", "the URL is the recorder's")
	assert.Contains(t, bench, "the sign-in of Holloway Eight", "and so is the sign-in")
	looks := map[string]bool{}
	for _, img := range b.page.MustElementsX(`//*[@role="row"][contains(., "of Holloway")]//img`) {
		looks[pixels(t, img)] = true
	}
	assert.Len(t, looks, 4, "each channel shows its own camera")

	// In Find they stand under their recorder and take no tile of their own.
	b.press("^Find$")
	b.count(`[data-heard="127.43.9.20"]`, 5)
	b.count(`[data-open][title="127.43.9.20 Holloway Eight"]`, 1)
	b.see("through Holloway Eight")
}
