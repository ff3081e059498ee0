package e2e

import (
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/names"
	"unlatch/sim/simtest"
)

// patchYard is eight cameras and a target of every kind.
func patchYard(network string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "name: patch\nusers: [{name: fitter, secret: brass-lamp-41, level: Administrator}]\ndevices:\n")
	scenes := []string{"platform-clock", "footbridge", "ticket-window", "turntable", "coal-stage", "paint-shop", "water-tower", "viaduct"}
	for i, s := range scenes {
		size := [2]int{320, 180}
		if s == "paint-shop" {
			size = [2]int{480, 272} // which no panel of the yard takes
		}
		name := strings.ToUpper(s[:1]) + strings.ReplaceAll(s[1:], "-", " ")
		fmt.Fprintf(&b, "  - {name: %s, maker: corvane, model: V4, address: %s.%d, scene: %s, streams: [&m%d {width: 640, height: "+
			"360, fps: 15, kbps: 400, gop: 15}, &s%d {width: %d, height: %d, fps: 5, kbps: 100, gop: 5}]}\n",
			name, network, 11+i, s, i, i, size[0], size[1])
	}
	const in = "port: 8081, user: desk, secret: oak-door-52"
	fmt.Fprintf(&b, "  - {name: Bell, maker: doorstead, model: Call, address: %[1]s.25, scene: crossing-north, streams: [{width: "+
		"480, height: 272, fps: 5, kbps: 100, gop: 5}]}\n"+
		"targets:\n  - {name: Vault, kind: hybrid, maker: Holloway, address: %[1]s.21, %[2]s, slots: 6, analogue: 2, streams: 9554}\n"+
		"  - {name: Shapes, kind: templates, maker: Holloway, address: %[1]s.22, %[2]s, slots: 6}\n"+
		"  - {name: Desk, kind: software, maker: Overlea, address: %[1]s.23, %[2]s, slots: 6}\n"+
		"  - {name: Wall, kind: panel, maker: Sillwater, address: %[1]s.24, %[2]s, slots: 6, project: 2}\n"+
		"  - {name: Door, kind: intercom, maker: Doorstead, address: %[1]s.25, %[2]s, slots: 2, recorders: [%[1]s.21]}\n"+
		"  - {name: Live, kind: platform, maker: Beacon, address: %[1]s.26, port: 8081, user: desk, secret: stream-key-9}\n"+
		"  - {name: Hearth, kind: hub, maker: Hearthline, address: %[1]s.27, port: 1883, user: desk, secret: oak-door-52, screens: "+
		"[parlour, hall]}\n", network, in)
	for n := range 5 {
		fmt.Fprintf(&b, "  - {name: Screen %d, kind: screen, address: %s.%d, port: 8081}\n", n+1, network, 31+n)
	}
	return b.String()
}

// addTarget adds a target through the sheet.
func (b *bench) addTarget(kind, address, name string) {
	b.t.Helper()
	b.press("Add a target")
	b.press("^" + kind + "$")
	if address != "" {
		b.typeIn("address", address)
	}
	b.typeIn("name", name)
	if address != "" {
		b.typeIn("user", "desk")
		b.typeIn("secret", "oak-door-52")
	}
	if address != "" {
		b.page.MustElement(`[aria-label="Sign-ins of cameras may go to it readable"]`).MustClick()
	}
	if kind == "Home hub" {
		b.page.MustElement(`[aria-label="Its sign-in may go out readable"]`).MustClick()
	}
	b.press("^Add it$")
	eventually(b.t, func() bool {
		return b.page.MustEval(`async (name) => {
			const site = location.pathname.split("/")[2];
			const t = (await (await fetch("/api/sites/" + site + "/targets")).json()).find((t) => t.name === name);
			return !!t && (t.kind === "feed" || t.kind === "template" || !!t.layout);
		}`, name).Bool()
	}, 30*time.Second, 100*time.Millisecond, "%s has not told its slots", name)
}

// slotOf is a slot of a target in the patch view, scrolled into sight.
func (b *bench) slotOf(on, slot string) *rod.Element {
	b.t.Helper()
	el := b.findSlot(on, slot)
	require.NotNil(b.t, el, "no slot %s of %s", slot, on)
	return el
}

func (b *bench) findSlot(on, slot string) *rod.Element {
	b.page.MustElement(`section[aria-label="Targets"] [role=group]`)
	selector := fmt.Sprintf("[data-on=%q][data-slot=%q]", on, slot)
	for y := 0; y < 6000; y += 200 { // rows out of sight are not in the page
		if els, err := b.page.Elements(selector); err == nil && len(els) > 0 {
			els[0].MustScrollIntoView()
			return els[0]
		}
		b.page.MustEval(`(y) => { document.querySelector('section[aria-label="Targets"]').scrollTop = y; }`, y)
		time.Sleep(40 * time.Millisecond)
	}
	return nil
}

// middle is the point in the middle of an element.
func middle(el *rod.Element) proto.Point {
	box := el.MustShape().Box()
	return proto.Point{X: box.X + min(box.Width/2, 12), Y: box.Y + box.Height/2}
}

// drag takes a camera's plug and lets it go on a slot.
func (b *bench) drag(camera, on, slot string) {
	b.t.Helper()
	to := middle(b.slotOf(on, slot))
	from := middle(b.page.MustElement(fmt.Sprintf(`[aria-label^="Take the plug of %s"]`, camera)))
	m := b.page.Mouse
	m.MustMoveTo(from.X, from.Y)
	m.MustDown(proto.InputMouseButtonLeft)
	require.NoError(b.t, m.MoveLinear(to, 8))
	m.MustUp(proto.InputMouseButtonLeft)
}

// carry does the same with keys: take, walk, drop.
func (b *bench) carry(camera, on, slot string) {
	b.t.Helper()
	b.page.MustElement(fmt.Sprintf(`[aria-label^="Take the plug of %s"]`, camera)).MustFocus()
	require.NoError(b.t, b.page.Keyboard.Type(input.Enter))
	at := func() string {
		return b.page.MustEval(`() => { const d = document.activeElement?.dataset ?? {}; return (d.on ?? "") + "/" + (d.slot ?? ""); }`).Str()
	}
	eventually(b.t, func() bool { return strings.Contains(at(), "/") && at() != "/" }, 5*time.Second, 30*time.Millisecond)
	for range 80 {
		if at() == on+"/"+slot {
			require.NoError(b.t, b.page.Keyboard.Type(input.Enter))
			return
		}
		before := at()
		require.NoError(b.t, b.page.Keyboard.Type(input.ArrowDown))
		eventually(b.t, func() bool { return at() != before }, 2*time.Second, 20*time.Millisecond, "the walk stops at %s", before)
	}
	require.Fail(b.t, "never came to the slot", "%s of %s", slot, on)
}

// holds waits until a slot holds a camera in a state.
func (b *bench) holds(on, slot, camera, state string) {
	b.t.Helper()
	var got string
	eventually(b.t, func() bool {
		el := b.findSlot(on, slot)
		if el == nil {
			return false
		}
		h, _ := el.Attribute("data-holds")
		s, _ := el.Attribute("data-state")
		got = fmt.Sprint(deref(h), " ", deref(s))
		return got == camera+" "+state
	}, 60*time.Second, 200*time.Millisecond, "%s of %s", slot, on)
	require.Equal(b.t, camera+" "+state, got)
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// Eight cameras go onto four targets, half of them dragged and half by keys; a blocked slot is freed and filled; two pictures that somebody
// has mixed up are found by looking, and put right.
func TestThePatchBench(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, patchYard("127.43.30"))
	b := start(t)
	b.bring("Yard", "127.43.30.0/26", 9)
	b.count(`[data-at="placed"]`, 9)
	b.press("^Patch$")
	for _, x := range [][2]string{{"Vault", "21"}, {"Shapes", "22"}, {"Desk", "23"}, {"Wall", "24"}} {
		b.addTarget("Bridge", "http://127.43.30."+x[1]+":8081", x[0])
	}
	names := b.page.MustEval(`async () => {
		const site = location.pathname.split("/")[2];
		const scenes = ["Platform clock", "Footbridge", "Ticket window", "Turntable", "Coal stage", "Paint shop", "Water tower", "Viaduct"];
		const list = (await (await fetch("/api/sites/" + site + "/devices")).json()).filter((d) => !d.stray);
		for (const d of list) {
			const n = Number(d.address.split(".")[3]) - 11;
			await fetch("/api/devices/" + d.id, { method: "PATCH", headers: { "Content-Type": "application/json" }, body: JSON.stringify({
				name: scenes[n] ?? "Bell" }) });
		}
		return list.length;
	}`).Int()
	require.Equal(t, 9, names)
	b.page.MustElement(`[aria-label="Take the plug of Viaduct"]`)
	b.drag("Platform clock", "Vault", "slot 1")
	b.holds("Vault", "slot 1", "Platform clock", "confirmed")
	b.drag("Footbridge", "Vault", "slot 2")
	b.drag("Ticket window", "Shapes", "channel 3") // a gap is kept
	b.drag("Turntable", "Shapes", "channel 1")
	b.carry("Coal stage", "Desk", "camera 1")
	b.carry("Paint shop", "Desk", "camera 2")
	b.carry("Water tower", "Wall", "entry 3")
	b.carry("Viaduct", "Wall", "entry 4")
	for _, x := range [][3]string{{"Vault", "slot 2", "Footbridge"}, {"Shapes", "channel 3", "Ticket window"},
		{"Shapes", "channel 1", "Turntable"}, {"Desk", "camera 1", "Coal stage"},
		{"Desk", "camera 2", "Paint shop"}, {"Wall", "entry 3", "Water tower"}, {"Wall", "entry 4", "Viaduct"}} {
		b.holds(x[0], x[1], x[2], "confirmed")
	}
	assert.Len(t, world.Bridge("Shapes").Templates(), 1, "one template serves cameras of one shape")
	b.clean("patch")
	b.press("^Matrix$")
	b.byKeysInTheMatrix("Ticket window", "Vault")
	b.clean("patch-matrix")
	b.press("^Cords$")

	el, err := b.slotOf("Vault", "slot 6").ElementR("button", "Free it")
	require.NoError(t, err)
	el.MustClick()
	b.ran("Free the slot")
	b.drag("Viaduct", "Vault", "slot 6")
	b.holds("Vault", "slot 6", "Viaduct", "confirmed")

	world.Bridge("Vault").Mix("1", "2")
	b.press("Look again")
	b.holds("Vault", "slot 1", "Platform clock", "broken")
	b.press("See the 2 that are broken")
	b.see("shows Footbridge, and not Platform clock")
	b.press("^Put it right$")
	b.holds("Vault", "slot 1", "Platform clock", "confirmed")
	b.slotOf("Vault", "slot 2").MustElement("button").MustClick()
	b.press("^Put it right$")
	b.holds("Vault", "slot 2", "Footbridge", "confirmed")

	// A locked entry takes nothing; the order of the panel is set on its page.
	b.drag("Footbridge", "Wall", "entry 1")
	b.see("is not free")
	b.page.MustNavigate(b.page.MustEval(`async () => {
		const site = location.pathname.split("/")[2];
		const list = await (await fetch("/api/sites/" + site + "/targets")).json();
		return location.origin + "/sites/" + site + "/targets/" + list.find((t) => t.name === "Wall").id;
	}`).Str())
	b.page.MustElement(`[aria-label="Viaduct further up"]`).MustClick()
	b.ran("Set the order on Wall")
	eventually(t, func() bool {
		var order []string
		for _, s := range world.Bridge("Wall").Look().Slots {
			if s.Entry != nil && !strings.HasPrefix(s.Entry.Key, "project") {
				order = append(order, s.Entry.Name)
			}
		}
		return fmt.Sprint(order) == "[Viaduct Water tower]"
	}, 20*time.Second, 100*time.Millisecond)
	b.clean("target")
}

// byKeysInTheMatrix places a camera on a target and takes it off again, with keys alone.
func (b *bench) byKeysInTheMatrix(camera, target string) {
	b.t.Helper()
	cell := func(state string) string {
		return fmt.Sprintf(`[role=gridcell][aria-label^="%s on %s:"][data-state=%s]`, camera, target, state)
	}
	var row, col int
	at := b.page.MustElement(cell("free")).MustAttribute("data-cell")
	_, err := fmt.Sscan(*at, &row, &col)
	require.NoError(b.t, err)
	b.page.MustElement("[role=grid]").MustFocus()
	keys := append(slices.Repeat([]input.Key{input.ArrowDown}, row), slices.Repeat([]input.Key{input.ArrowRight}, col)...)
	require.NoError(b.t, b.page.Keyboard.Type(keys...))
	b.see(camera + " on " + target)
	b.see("^Place it")
	require.NoError(b.t, b.page.Keyboard.Type(input.Enter))
	b.page.MustElement(cell("confirmed"))
	require.NoError(b.t, b.page.Keyboard.Type(input.Delete))
	b.page.MustElement(cell("free"))

	// A filter shows those alone that stand so.
	b.press("confirmed$")
	b.press("cameras$")
	b.page.MustElement(cell("free"))
}

// The intercom is a camera for the recorder and takes the recorder's channel; five screens follow one list; the hub shows a camera
// on a screen; the platform says that it is live; what does not fit is tuned and placed in one run.
func TestTargetsOfEveryOtherKind(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, patchYard("127.43.31"))
	b := start(t)
	b.bring("Yard", "127.43.31.0/26", 9)
	b.count(`[data-at="placed"]`, 9)
	b.press("^Patch$")
	b.addTarget("Bridge", "http://127.43.31.21:8081", "Vault")
	b.addTarget("Bridge", "http://127.43.31.25:8081", "Door")
	b.addTarget("Bridge", "http://127.43.31.24:8081", "Wall")
	b.addTarget("Home hub", "mqtt://127.43.31.27:1883", "Hearth")
	b.addTarget("Screens", "", "Rooms")
	ids := func(path, name string) string {
		return b.page.MustEval(`async (path, name) => {
			const site = location.pathname.split("/")[2];
			const list = await (await fetch("/api/sites/" + site + "/" + path)).json();
			return list.find((t) => t.name === name || t.address === name)?.id;
		}`, path, name).Str()
	}
	rename := func(last int, name string) {
		b.page.MustEval(`async (id, name) => fetch("/api/devices/" + id, { method: "PATCH", `+
			`headers: { "Content-Type": "application/json" }, body: JSON.stringify({ name }) })`,
			ids("devices", fmt.Sprintf("127.43.31.%d", last)), name)
	}
	rename(11, "Clock")
	rename(12, "Foot")
	rename(16, "Paint")
	rename(25, "Bell")
	b.page.MustElement(`[aria-label="Take the plug of Bell"]`)

	// Both ways: the recorder takes the intercom, the intercom takes the recorder's channel, and no camera by itself.
	b.drag("Bell", "Vault", "slot 1")
	b.drag("Clock", "Vault", "slot 2")
	b.drag("Foot", "Door", "button 1")
	b.see("cannot take it")
	b.holds("Vault", "slot 1", "Bell", "confirmed")
	b.holds("Vault", "slot 2", "Clock", "confirmed")
	b.drag("Clock", "Door", "button 1")
	b.holds("Door", "button 1", "Clock", "confirmed")
	require.Contains(t, world.Bridge("Door").Look().Slots[0].Entry.Streams[0].URL, "127.43.31.21:9554")

	// Its sub stream is of no size that the panel takes.
	b.drag("Paint", "Wall", "entry 3")
	b.holds("Wall", "entry 3", "Paint", "confirmed")
	b.count(`[data-run="running"]`, 0)

	// The hub shows a camera on a screen, measured.
	b.drag("Clock", "Hearth", "add here")
	b.holds("Hearth", "the hub's cameras", "Clock", "confirmed")
	b.slotOf("Hearth", "the hub's cameras").MustElement("button").MustClick()
	b.press("^Show on hall$")
	b.ran("Show a camera on hall")
	eventually(t, func() bool {
		for _, s := range world.Hub("Hearth").Shown() {
			if s.Screen == "hall" {
				return true
			}
		}
		return false
	}, 20*time.Second, 100*time.Millisecond)
	b.page.MustNavigate(b.page.MustEval(`(id) => location.origin + "/sites/" + location.pathname.split("/")[2] + "/targets/" + id`,
		ids("targets", "Hearth")).Str())
	b.see(`Showing Clock on hall took \d+ ms`)
	b.press("^Patch$")

	// Five screens, one list, no retyping.
	b.drag("Clock", "Rooms", "add here")
	feed := b.page.MustEval(`async () => {
		const site = location.pathname.split("/")[2];
		return (await (await fetch("/api/sites/" + site + "/targets")).json()).find((t) => t.name === "Rooms").feed;
	}`).Str()
	origin := b.page.MustEval(`() => location.origin`).Str()
	for _, s := range world.Screens() {
		s.SetFeed(origin + feed)
	}
	b.holds("Rooms", "the list", "Clock", "confirmed")
	b.drag("Foot", "Rooms", "add here")
	eventually(t, func() bool {
		for _, s := range world.Screens() {
			if fmt.Sprint(s.Names()) != "[Clock Foot]" {
				return false
			}
		}
		return true
	}, 40*time.Second, 200*time.Millisecond, "every screen has the list after one change")
	b.page.MustNavigate(b.page.MustEval(`(id) => location.origin + "/sites/" + location.pathname.split("/")[2] + "/targets/" + id`,
		ids("targets", "Rooms")).Str())
	b.see("has the list as it is")
	b.clean("feed")

	// Made anew, it has another address: the screens that ask at the old one get nothing and are told; one that is given the new one
	// follows.
	b.press("^Make a new one$")
	b.page.MustElementR("[role=alertdialog] button", "^Make a new one$").MustClick()
	b.see("^5 screens still ask at an address that was replaced or withdrawn")
	fresh := b.page.MustEval(`async () => {
		const site = location.pathname.split("/")[2];
		return (await (await fetch("/api/sites/" + site + "/targets")).json()).find((t) => t.name === "Rooms").feed;
	}`).Str()
	assert.NotEqual(t, feed, fresh)
	world.Screens()[0].SetFeed(origin + fresh)
	b.see("^4 screens still ask at an address that was replaced or withdrawn")
	b.see("has the list as it is")
	b.clean("feed with old screens")
	b.press("^Withdraw it$")
	b.page.MustElementR("[role=alertdialog] button", "^Withdraw it$").MustClick() // what cannot be undone asks first
	b.see("Its address is withdrawn")
	res, err := http.Get(origin + fresh)
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, 410, res.StatusCode)

	// The platform itself says that it is live.
	b.press("^Patch$")
	b.press("Add a target")
	b.press("^Live platform$")
	b.typeIn("address", "http://127.43.31.26:8081")
	b.typeIn("name", "Line")
	b.typeIn("ingest", "rtmp://127.43.31.26:8082/live")
	b.typeIn("user", "desk")
	b.typeIn("secret", "stream-key-9")
	b.press("^Add it$")
	b.slotOf("Line", "the live channel")
	b.drag("Clock", "Line", "the live channel")
	b.holds("Line", "the live channel", "Clock", "broken")
	b.slotOf("Line", "the live channel").MustElement("button").MustClick()
	b.agree() // the recorder is given the stream key, over a way that others can read
	b.holds("Line", "the live channel", "Clock", "confirmed")
	eventually(t, func() bool { // the row is made anew while states come in, and a click on the old one opens nothing
		b.slotOf("Line", "the live channel").MustElement("button").MustClick()
		_, err := b.page.Timeout(5*time.Second).ElementR("body *", "live, since")
		return err == nil
	}, patience, time.Second)
	for _, secret := range []string{"stream-key-9", "oak-door-52", "brass-lamp-41",
		strings.TrimPrefix(feed, "/feeds/"), strings.TrimPrefix(fresh, "/feeds/")} {
		assert.NotContains(t, b.server.Log(), secret)
	}
	b.page.MustSetViewport(390, 800, 1, true)
	b.see("Put it on")
	b.clean("patch-phone")
}

// A list of one's own is made by a template, with what it makes beside it, and is attested by whoever has looked.
func TestAListByATemplate(t *testing.T) {
	t.Parallel()
	simtest.Start(t, strings.Split(patchYard("127.43.32"), "targets:")[0])
	b := start(t)
	b.bring("Yard", "127.43.32.0/26", 9)
	b.count(`[data-at="placed"]`, 9)
	b.press("^Patch$")
	b.addTarget("Anything else", "", "Signal box")
	first := b.page.MustElement(`[aria-label^="Take the plug of"]`).MustAttribute("aria-label")
	camera := strings.TrimPrefix(*first, "Take the plug of ")
	b.drag(camera, "Signal box", "add here")
	b.ran("Place 1 camera on Signal box")
	b.page.MustElementR(`[data-on="Signal box"] button`, "waiting").MustClick()
	b.press("I have looked")
	b.see("Somebody has looked")
	b.press("^Open$")
	area := b.page.MustElement("#template-text")
	area.MustInput("{{range .Cameras}}{{.Name}} {{.Main.SignedURL}}{{end}}")
	b.see("Line 1: this list may hold no passwords")
	b.page.MustElement(`[aria-label="May hold passwords"]`).MustClick()
	b.see("fitter:•••@127.43.32")
	b.page.MustElement(`section[aria-label="Template"] select`).MustSelect("M3U")
	b.see("#EXTINF:-1,")
	b.press("Keep the template")
	b.see("Download")
	b.clean("template")
	text := b.page.MustEval(`async () => (await fetch(document.querySelector("a[download]").href)).text()`).Str()
	assert.Contains(t, text, "#EXTM3U")
	assert.Contains(t, text, "fitter:brass-lamp-41@127.43.32")
}

// A hub whose broker listens with TLS: its certificate is seen and taken where it is added, and then nothing has to be agreed to.
func TestAHubByTLS(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: hearth
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Platform clock, maker: corvane, model: V4, address: 127.43.37.11, scene: platform-clock, streams: [{width: 640,
     height: 360, fps: 10, kbps: 400, gop: 5}, {width: 320, height: 180, fps: 5, kbps: 100, gop: 5}]}
targets:
  - {name: Hearth, kind: hub, maker: Hearthline, address: 127.43.37.27, port: 8883, tls: true, user: desk, secret: oak-door-52,
     screens: [hall]}
`)
	server, err := names.Start("127.43.37.53:0")
	require.NoError(t, err)
	defer server.Close()
	b := start(t, "--name-server", server.Addr())
	b.bring("Yard", "127.43.37.0/28", 1)
	b.count(`[data-at="placed"]`, 1)
	b.press("^Patch$")
	b.press("Add a target")
	b.press("^Home hub$")
	b.typeIn("address", "mqtts://127.43.37.27:8884") // nothing listens there
	b.press("^See its certificate$")
	b.see("Nothing shows a certificate at 127.43.37.27:8884")
	b.typeIn("address", "mqtts://hearth.tarnside.example:8883")
	b.press("^See where it leads$")
	b.see("No address is known for hearth.tarnside.example")
	server.Set("hearth.tarnside.example", netip.MustParseAddr("127.43.37.14"), netip.MustParseAddr("127.43.37.27"))
	b.press("^See where it leads$")
	b.see("^127.43.37.27$")
	b.see("^beyond the site’s ranges$")
	b.see("^in the site’s ranges$")
	b.press("^See its certificate$")
	b.see("^CN=Hearth")
	b.page.MustElement(`[aria-label="It is its own certificate"]`).MustClick()
	b.count(`[aria-label="Its sign-in may go out readable"]`, 0)
	b.typeIn("name", "Hearth")
	b.typeIn("user", "desk")
	b.typeIn("secret", "oak-door-52")
	b.clean("a certificate that is taken with a target")
	b.press("^Add it$")
	b.see("^add here$")
	b.drag("Corvane V4", "Hearth", "add here")
	b.holds("Hearth", "the hub's cameras", "Corvane V4", "confirmed")
	assert.NotContains(t, b.server.Log(), "oak-door-52")
}
