package e2e

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unlatch/sim/simtest"
)

// inHand takes a camera by its address, and shows a part of its bench.
func (b *bench) inHand(address, part string) {
	b.t.Helper()
	b.page.MustElementR(`[role=row]`, address).MustClick()
	b.page.MustElementR("#bench", address)
	b.page.MustElementR("#bench [role=tab], #bench button", "^"+part).MustClick()
}

// set sends a command of the camera in hand with one of its choices.
func (b *bench) set(command, choice, line string) {
	b.t.Helper()
	b.page.MustElementR(`[data-command="`+command+`"] button`, "^Set").MustClick()
	b.page.MustElementR(`[role=dialog] [role=radio], [role=dialog] button`, "^"+choice+"$").MustClick()
	b.page.MustElementR(`[data-dry-run]`, line)
}

// A command is learned from two requests, tried on one camera, read back, undone, given to its siblings; it is the button of a diagnosis;
// two multicast ways never run together; a sign-in method is changed to what a target speaks, and back.
func TestCommandsOnTheMakersPage(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, `
name: commands
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.63.11, scene: platform-clock, setup: {signing: basic},
     streams: [&m {width: 320, height: 180, fps: 10, kbps: 200, gop: 10}]}
  - {name: Bridge, maker: corvane, model: V3, address: 127.43.63.12, scene: footbridge, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10, multicast: {group: 239.43.63.12, port: 50000, ttl: 1, auto: true}}]}
  - {name: Weir, maker: corvane, model: V4, address: 127.43.63.13, scene: viaduct, streams: [*m]}
targets:
  - {name: Desk, kind: software, maker: Overlea, address: 127.43.63.23, port: 8081, user: desk, secret: oak-door-52, slots: 6}
`)
	is := func(device, name, value, why string) {
		t.Helper()
		eventually(t, func() bool { return world.Device(device).Setup()[name] == value }, 30*time.Second, 50*time.Millisecond, why)
	}
	b := start(t)
	b.bring("Pages", "127.43.63.0/27", 3)
	b.count(`[data-at="placed"]`, 2)

	// The button of a diagnosis: the streams want the password readable, and nobody has agreed to that.
	b.inHand(`127\.43\.63\.11`, "URLs")
	b.see("Its maker’s page can mend this")
	b.clean("a command as the button of a diagnosis")
	b.press("^Set method digest$")
	b.page.MustElementR(`[data-dry-run]`, `POST /vista/setup HTTP/1.1[\s\S]*signing=digest`)
	b.clean("a command before it is sent")
	b.press("^Send it$")
	is("Clock", "signing", "digest", "the streams take digest")
	b.count(`[data-at="placed"]`, 3)

	// Learned from two exchanges.
	b.page.MustElementR("nav a", "^Paths$").MustClick()
	b.press("^Learn a command$")
	for label, text := range map[string]string{
		"Name": "Beside", "What it does": "Sends beside.", "Maker, with * and ?": "corvane*",
		"First request":             "POST /vista/setup HTTP/1.1\nHost: 127.43.63.13\nAuthorization: Digest x\n\nsecond=1&stamp=a1",
		"Second request":            "curl 'http://127.43.63.13/vista/setup' --data-raw 'second=0&stamp=b2' -b 'sid=1'",
		"The page after the first":  `{"streams": {"second": "1"}}`,
		"The page after the second": `{"streams": {"second": "0"}}`,
		"Path of that page":         "/vista/setup.json",
	} {
		b.page.MustElement(`[role=dialog]`).MustElementX(`//label[starts-with(normalize-space(.), "` + label + `")]/following-sibling::input | ` +
			`//label[starts-with(normalize-space(.), "` + label + `")]/textarea`).MustInput(text)
	}
	b.press("^Read them$")
	b.page.MustElement(`[data-varies="form second"]`)
	b.page.MustElementR(`[data-varies="form stamp"] button`, "^as it is$").MustClick()
	b.page.MustWait(`() => !document.querySelector('[data-varies="form stamp"]')`)
	b.clean("a command learned")
	b.press("^Keep it in the path book$")
	b.page.MustElement(`[data-recipe="Beside"]`)

	// Tried on one, read back, undone, given to its siblings.
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.inHand(`127\.43\.63\.13`, "Device")
	b.set("Beside", "1", "second=1")
	b.see("first try it on this one")
	b.press("^Send it$")
	is("Weir", "second", "1", "it is set")
	b.page.MustElementR(`[data-command="Beside"]`, `second 1 \(before: second 0\)`)
	b.clean("what a camera was told")
	b.page.MustElementR(`[data-command="Beside"] button`, "^Undo$").MustClick()
	is("Weir", "second", "0", "it is put back")
	b.page.MustWait(`() => !document.querySelector('[data-command="Beside"]').innerText.includes("before")`)
	b.set("Beside", "1", "second=1")
	b.press("^Send it$")
	b.page.MustElementR(`[data-command="Beside"]`, `second 1 \(before: second 0\)`)
	b.set("Beside", "1", "second=1")
	b.page.MustElementR(`[role=dialog] label`, "1 more of its kind").MustClick()
	b.press("^Send it to 2 cameras$")
	is("Clock", "second", "1", "a sibling has it too")
	b.count(`[data-run="running"]`, 0)

	// Two ways that must not run together: the first is switched off before the second is switched on, and back.
	b.inHand(`127\.43\.63\.12`, "Device")
	b.set("Second multicast way", "on", `First, where it is on[\s\S]*first=0[\s\S]*second=1`)
	b.press("^Send it$")
	is("Bridge", "second", "1", "the second way runs")
	is("Bridge", "first", "0", "the first does not")
	b.page.MustElementR(`[data-command="Second multicast way"] button`, "^Undo$").MustClick()
	is("Bridge", "first", "1", "as it was")
	assert.Equal(t, "0", world.Device("Bridge").Setup()["second"])
	assert.False(t, world.Device("Bridge").BothWays(), "never did both run")

	// A target speaks digest, and the streams come to take basic alone: the button sets what it speaks, and undo what was.
	b.press("^Patch$")
	b.addTarget("Bridge", "http://127.43.63.23:8081", "Desk")
	b.page.MustEval(`async () => {
		const site = location.pathname.split("/")[2];
		const d = (await (await fetch("/api/sites/" + site + "/devices")).json()).find((d) => d.address === "127.43.63.11");
		const body = JSON.stringify({ name: "Clock" });
		await fetch("/api/devices/" + d.id, { method: "PATCH", headers: { "Content-Type": "application/json" }, body });
	}`)
	b.drag("Clock", "Desk", "camera 1")
	b.holds("Desk", "camera 1", "Clock", "confirmed")
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.inHand(`127\.43\.63\.11`, "Device")
	b.set("Sign-in of the streams", "basic", "signing=basic")
	b.press("^Send it$")
	is("Clock", "signing", "basic", "the streams take basic alone")
	b.press("^Agree to the weaker one$")
	b.page.MustElementR("[role=dialog] button", "^Agree and go on$").MustClick()
	b.see("sign-in is basic|scheme is basic")
	b.press("^Set method digest$")
	b.press("^Send it$")
	is("Clock", "signing", "digest", "what the target speaks")
	b.count(`[data-at=""]`, 1)
	b.page.MustElementR(`[data-command="Sign-in of the streams"] button`, "^Undo$").MustClick()
	is("Clock", "signing", "basic", "as it was found")
}
