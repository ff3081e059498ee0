package e2e

import (
	"slices"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

// saves keeps the names and texts of the files that the page saves from now on, in place of saving them.
func (b *bench) saves() {
	b.page.MustEval(`() => {
		window.saved = [];
		const blobs = new Map(), make = URL.createObjectURL;
		URL.createObjectURL = (b) => { const url = make.call(URL, b); blobs.set(url, b); return url; };
		HTMLAnchorElement.prototype.click = function () {
			if (this.download) blobs.get(this.href).text().then((text) => window.saved.push({ name: this.download, text }));
		};
	}`)
}

// saved waits for a saved file.
func (b *bench) saved() (name, text string) {
	b.page.MustWait(`() => window.saved.length > 0`)
	x := b.page.MustEval(`() => window.saved.shift()`)
	return x.Get("name").Str(), x.Get("text").Str()
}

// Main and sub move side by side, each with what it measures; the picture is frozen, zoomed and saved; sound is heard; cameras are named by
// looking at them, and a few are looked at together while somebody walks past.
func TestWatching(t *testing.T) {
	world := simtest.Start(t, `
name: watching
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.34.11, scene: platform-clock, streams: [
      {width: 640, height: 360, fps: 10, kbps: 500, gop: 10, audio: "true"}, {width: 320, height: 180, fps: 5, kbps: 150, gop: 5,
      profile: baseline}], defects: {sessions: 2}}
  - {name: Hut, maker: corvane, model: V1, address: 127.43.34.12, scene: coal-stage, streams: [{width: 320, height: 180, fps: 5,
       kbps: 900, codec: jpeg}]}
  - {name: Bank, maker: corvane, model: V4, address: 127.43.34.13, scene: viaduct, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10}]}
`)
	b := start(t)
	b.bring("Line", "127.43.34.0/26", 3)
	b.count(`[data-at="placed"]`, 3)
	b.page.MustElementR(`[role=row]`, `127\.43\.34\.11`).MustClick()
	b.page.MustElement("#bench")
	require.NoError(t, b.page.Keyboard.Type(input.KeyW))
	b.page.MustElement("[data-watching]")
	b.moves(`[data-stream="main"]`, "the main stream")
	b.moves(`[data-stream="sub"]`, "the sub stream")
	b.page.MustElementR(`[data-stream="main"]`, `H\.264 640×360 · (9|10|11) fps · \d+ kbit/s · key frame every 1\.0 s`)
	b.page.MustElementR(`[data-stream="sub"]`, `H\.264 320×180 · [456]\.\d fps · \d+ kbit/s`)
	b.page.MustElementR(`[data-stream="main"] [data-live]`, `live · \d\.\d s behind`)
	b.page.MustWait(`() => document.querySelectorAll('[data-stream="main"] svg[role=img] rect').length > 3`)
	b.clean("watch")

	// Sound is asked for by itself, and shares the session: the camera takes two, and both are in use.
	b.page.MustElement(`[data-tool="Sound on"]`).MustClick()
	b.page.MustElement(`[data-tool="Sound off"]`)
	require.NoError(t, b.page.Keyboard.Type(input.KeyF))
	b.page.MustElementR(`[data-large] [data-live]`, "frozen")
	still, same := b.drawn("[data-large]"), 0
	eventually(t, func() bool {
		now := b.drawn("[data-large]")
		if same++; !slices.Equal(still, now) {
			still, same = now, 0
		}
		return same >= 5
	}, 30*time.Second, 100*time.Millisecond, "what is frozen stays")
	b.page.MustElement(`[data-large] [data-tool="Zoom in"]`).MustClick()
	b.page.MustElementR(`[data-large] [data-live]`, "1\\.6×")
	b.saves()
	b.page.MustElement(`[data-large] [data-tool="Save this picture as a file"]`).MustClick()
	name, _ := b.saved()
	assert.Regexp(t, `^Corvane V4, main stream \d{4}-\d\d-\d\dT\d{6}\.png$`, name)
	require.NoError(t, b.page.Keyboard.Type(input.KeyF))
	b.moves(`[data-large]`, "after the freeze")
	b.count(`[data-tool="Sound off"]`, 1)

	// On the ladder there is one large picture.
	b.page.MustSetViewport(390, 844, 1, true)
	box := b.page.MustElement(`[data-large] [data-live]`).MustShape().Box()
	assert.InDelta(t, 390, box.Width, 2)
	b.clean("watch on the phone")
	b.page.MustSetViewport(1280, 800, 1, false)

	// The camera restarts while it is watched: the picture comes back by itself.
	world.Restart("Clock")
	b.page.MustElement(`[data-large] [data-live="trouble"]`)
	b.page.MustElement(`[data-large] [data-live="playing"]`)
	b.moves(`[data-large]`, "after the restart")

	b.press("^Name 3 cameras by looking$")
	for _, what := range []string{"Platform clock", "Coal stage", "Viaduct"} {
		b.page.MustElement(`[data-live="playing"]`)
		b.page.MustElement(`[aria-label="What does it see?"]`).MustInput(what).MustType(input.Enter)
		b.page.MustWait(`(what) => [...document.querySelectorAll("h2, `+
			`p")].length && document.querySelector('[aria-label="What does it see?"]')?.value !== what`, what)
	}
	b.see("Every camera has a name")
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	for _, what := range []string{"Platform clock", "Coal stage", "Viaduct"} {
		b.page.MustElement(`[data-device="` + what + `"]`)
	}

	require.NoError(t, b.page.Keyboard.Type(input.KeyA))
	b.press("^Walk test$")
	b.page.MustElement(`[data-walk="3"]`)
	b.count(`[data-live="playing"]`, 3)
	b.see("0 of 3 seen")
	require.NoError(t, b.page.Keyboard.Type(input.Digit2))
	b.see("1 of 3 seen")
	b.clean("walk test")
	b.press("^Platform clock$")
	b.page.MustElement("[data-watching]")
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	b.page.MustElement(`[data-walk="3"]`)
	b.see("1 of 3 seen") // it is kept, also over a look at one camera alone
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.page.MustElementR(`[role=row]`, `127\.43\.34\.12`).MustClick()
	b.page.MustElementR("#bench", "somebody was seen in its picture, says keeper")
	assert.NotContains(t, b.server.Log(), "brass-lamp-41")
}

// A camera shows which one it is, by a nudge and by a label. The server is killed while each stands, and puts back what was before once it
// is there again; what a camera does not give back is told, with a button.
func TestWhichOneIsIt(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, `
name: which
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Dome, maker: corvane, model: V4, address: 127.43.35.11, scene: viaduct, texts: 2, ptz: {home: {pan: 0.25, tilt: -0.1}},
       streams: [&s {width: 320, height: 180, fps: 10, kbps: 200, gop: 10}]}
  - {name: Keeps, maker: corvane, model: V4, address: 127.43.35.12, scene: turntable, texts: 2, defects: {keeps_texts: true}, streams: [*s]}
`)
	b := start(t)
	b.bring("Line", "127.43.35.0/26", 2)
	b.count(`[data-at="placed"]`, 2)
	address := b.server.URL[len("http://") : len(b.server.URL)-1]
	again := func() {
		b.server.Kill()
		b.serve(address)
	}
	dome := world.Device("Dome")
	home, _ := dome.Looks()
	b.page.MustElementR(`[role=row]`, `127\.43\.35\.11`).MustClick()
	require.NoError(t, b.page.Keyboard.Type(input.KeyW))
	b.press("^Which one\\?$")
	b.clean("which one is it")
	b.page.MustElement("#label-text").MustInput("gate 4")
	b.press("^Label$")
	eventually(t, func() bool { return len(dome.Texts()) == 1 }, 30*time.Second, 20*time.Millisecond)
	assert.Equal(t, []string{"Plain gate 4"}, dome.Texts())
	again()
	eventually(t, func() bool { return len(dome.Texts()) == 0 }, 60*time.Second, 50*time.Millisecond, "the label is taken away")

	b.page.MustReload()
	b.press("^Which one\\?$")
	b.press("^Nudge$")
	eventually(t, func() bool { at, _ := dome.Looks(); return at != home }, 30*time.Second, 5*time.Millisecond)
	again()
	eventually(t, func() bool { at, _ := dome.Looks(); return at == home }, 60*time.Second, 50*time.Millisecond,
		"it looks where it did")

	b.page.MustReload()
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.page.MustElementR(`[role=row]`, `127\.43\.35\.12`).MustClick()
	b.page.MustElement("#bench")
	require.NoError(t, b.page.Keyboard.Type(input.Space))
	b.press("^Which one\\?$")
	b.press("^Label$")
	b.see("Its label still stands")
	b.see("still draws it")
	b.press("^Put it back$")
	b.see("Put back what was before on 1 camera")
}

// Two cameras send to one group: that is found by listening, and each is given a group of its own, which is undone again.
func TestTwoCamerasOnOneGroup(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: groups
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.68.11, scene: platform-clock, streams: [&m {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10, multicast: {group: 239.43.36.1, port: 50360, ttl: 3, auto: true}}]}
  - {name: Bank, maker: lumenhythe, model: L5, address: 127.43.68.12, scene: viaduct, streams: [*m]}
  - {name: Eaten, maker: corvane, model: V4, address: 127.43.68.13, scene: coal-stage, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10, multicast: {group: 239.43.36.3, port: 50360, ttl: 3, auto: true, defect: silent}}]}
`)
	b := start(t)
	b.bring("Line", "127.43.68.0/26", 3)
	b.count(`[data-at="placed"]`, 3)
	b.page.MustElementR("nav a", "^Streams$").MustClick()
	b.press("^Multicast$")
	b.press("^Measure 3 streams$")
	b.count(`[data-finding="group_clash"]`, 2)
	b.count(`[data-finding="group_silent"]`, 1)
	b.page.MustElementR(`[data-cast]`, `239\.43\.36\.1:50360 TTL 3 always`)
	b.page.MustElementR(`[data-cast]`, `✓ H\.264 \d+ kbit/s`)
	b.clean("multicast")
	b.press("^Give 2 streams groups of their own$")
	pool := b.page.MustElementR("label", "Pool of groups").MustElement("input")
	pool.MustSelectAllText().MustInput("192.0.2.0/24")
	b.see("is no range of IPv4 groups")
	pool.MustSelectAllText().MustInput("239.43.37.0/24")
	b.page.MustElement(`[data-group-plan="2"]`)
	b.page.MustElementR("[data-group-plan]", `239\.43\.37\.1:50000, TTL 4, always on`)
	b.clean("groups of their own")
	b.press("^Set 2 groups and measure$")
	b.count(`[data-finding="group_clash"]`, 0)
	b.page.MustElementR(`[data-cast]`, `239\.43\.37\.1:50000 TTL 4 always \(was 239\.43\.36\.1:50360, TTL 3, always on\)`)
	b.page.MustElementR(`[data-cast]`, `239\.43\.37\.2:50000`)
	b.count(`[data-finding]`, 2) // of the one whose packets a switch eats
	b.page.MustElement(`[aria-label="Select all streams"]`).MustClick()
	b.press("^Put back$")
	b.count(`[data-finding="group_clash"]`, 2)
	b.page.MustSetViewport(390, 844, 1, true)
	b.page.MustElement("[data-cast-phone]")
	b.clean("multicast on the phone")
}

// A failure is read turn by turn, the one that mattered marked; it goes to a maker's support on one page without a password.
func TestReadingAnExchange(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: reading
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Busy, maker: corvane, model: V4, serial: RD-1, address: 127.43.84.11, scene: viaduct, streams: [{width: 320,
       height: 180, fps: 10, kbps: 200, gop: 10}], defects: {sessions: -1}}
`)
	b := start(t)
	b.bring("Line", "127.43.84.0/26", 1)
	b.count(`[data-at="proven"]`, 1)
	b.page.MustElement("[data-device]").MustClick()
	b.see("The device serves all the viewers it can")
	require.NoError(t, b.page.Keyboard.Type(input.KeyE))
	b.page.MustElementR("#bench a", "^exchange$").MustClick()
	b.page.MustElement("[data-reading]")
	assert.Regexp(t, `(?s)SETUP .*453 Not Enough Bandwidth`, b.page.MustElement("[data-mattered]").MustText())
	b.see("It serves as many viewers as it can")
	b.clean("exchange")
	b.saves()

	// The stream's description is in an answer before it, and can be saved by itself.
	b.page.MustElementR("[data-turn]", "DESCRIBE[^]*200 OK").MustClick()
	b.press("^Save the SDP as a file$")
	name, text := b.saved()
	assert.Regexp(t, `\.sdp$`, name)
	assert.Regexp(t, `^v=0\r\n`, text)
	b.page.MustElement(`[aria-label="Search what was said"]`).MustInput("transport: rtp")
	b.count("[data-turn]", 1)
	b.page.MustElement("mark")
	b.page.MustElement(`[aria-label="Search what was said"]`).MustInput("zzz")
	b.see("Nothing that was said holds")

	b.press("^Support note$")
	b.page.MustElementR("[data-note]", "THE EXCHANGE THAT SHOWS IT")
	b.clean("support note")
	b.press("^Save it as a file$")
	name, text = b.saved()
	assert.Contains(t, name, "support note.txt")
	for _, want := range []string{"Corvane V4", "RD-1", "127.43.84.11", "The device serves all the viewers it can",
		"453 Not Enough Bandwidth"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "brass-lamp-41")
	assert.NotRegexp(t, `response="[0-9a-f]`, text)
}
