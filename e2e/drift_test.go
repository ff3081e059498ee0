package e2e

import (
	"encoding/json"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/emersion/go-smtp"
	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/telling"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

// A dutyMailbox is a mail server that keeps what it is sent.
type dutyMailbox struct {
	mu  sync.Mutex
	got []string
}

func (b *dutyMailbox) NewSession(*smtp.Conn) (smtp.Session, error) { return b, nil }
func (b *dutyMailbox) Reset()                                      {}
func (b *dutyMailbox) Logout() error                               { return nil }
func (b *dutyMailbox) Rcpt(string, *smtp.RcptOptions) error        { return nil }
func (b *dutyMailbox) Mail(string, *smtp.MailOptions) error        { return nil }

func (b *dutyMailbox) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.got = append(b.got, string(raw))
	return err
}

func (b *dutyMailbox) all() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return strings.ReplaceAll(strings.Join(b.got, "\n"), "\r\n ", " ")
}

const driftYard = `
name: drift
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.66.11, scene: platform-clock, streams: [&m {width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10}]}
  - {name: Weir, maker: corvane, model: V4, address: 127.43.66.12, scene: viaduct, streams: [*m]}
  - {name: Stage, maker: corvane, model: V4, address: 127.43.66.13, scene: coal-stage, streams: [*m]}
  - {name: Shop, maker: lumenhythe, model: L2, address: 127.43.66.14, scene: paint-shop, streams: [*m]}
  - {name: Tower, maker: lumenhythe, model: L2, address: 127.43.66.15, scene: water-tower, streams: [*m]}
  - {name: Spare, maker: lumenhythe, model: L2, address: 127.43.66.16, scene: water-tower, streams: [*m], plugged_in: 3600}
targets:
  - {name: Vault, kind: software, maker: Overlea, model: Desk, address: 127.43.66.20, port: 8090, user: desk, secret: oak-door-52, slots: 8}
`

// A finished site is agreed on and watched. Six things happen, of which two are one; the page tells them, four are put right, one is
// accepted, and a camera is replaced. A mail and a webhook arrive.
func TestDrift(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, driftYard)
	box := &dutyMailbox{}
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	mail := smtp.NewServer(box)
	go mail.Serve(l)
	t.Cleanup(func() { mail.Close() })
	var told sync.Map
	hook := simtest.Serve(t, "127.0.0.1", func(_ http.ResponseWriter, r *http.Request) {
		var m telling.Message
		if json.NewDecoder(r.Body).Decode(&m) == nil {
			told.Store(m.Headline, true)
		}
	})

	b := start(t)
	b.bring("Works", "127.43.66.0/27", 5)
	b.count(`[data-at="placed"]`, 5)
	b.page.MustElement(`[data-run="finished"]`)
	b.page.MustElementR("nav a", "^Patch$").MustClick()
	b.addTarget("Bridge", "http://127.43.66.20:8090", "Vault")
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.page.MustElement("[data-device]")
	b.nameAndPlace(map[string]string{"127.43.66.11": "Clock", "127.43.66.12": "Weir", "127.43.66.13": "Stage", "127.43.66.14": "Shop",
		"127.43.66.15": "Tower"}, "Vault")
	b.count(`[data-at=""]`, 5)

	// It is agreed on, and watched.
	b.page.MustElementR("nav a", "^Drift$").MustClick()
	b.see("Nothing is agreed on yet")
	b.clean("nothing to tell from")
	b.page.MustElementR("main a", "^Agree on the state of now$").MustClick()
	b.page.MustElementR("main button", "^Agree on the state of now$").MustClick()
	b.page.MustElementR("[role=dialog] button", "^Agree$").MustClick()
	b.see("All 5 devices are as they were agreed")
	b.page.MustElementR("nav a", "^Drift$").MustClick()
	b.see("Everything is as it was agreed")
	b.press("^Watch this site$")
	b.clean("how it is watched")
	b.page.MustElementR("[role=dialog] button", "^Watch$").MustClick()
	b.see("Every camera is looked at every 15 minutes")
	b.tells("Duty", map[string]string{"to": "duty@example.org", "sender": "bench@example.org", "server": "smtp://" + l.Addr().String()}, "")
	b.tells("Desk", map[string]string{"to": hook}, "webhook")
	b.page.MustElementR("aside dd", " of 6$")

	// A test arrives both ways.
	for _, name := range []string{"Duty", "Desk"} {
		b.page.MustElementR("[aria-label='Who is told'] li", name).MustElement("button").MustClick()
		b.page.MustElementR("[role=dialog] button", "^Send a test$").MustClick()
		b.page.MustElementR("[role=dialog] li", "This is a test[\\s\\S]*arrived")
		b.page.Keyboard.MustType(input.Escape)
	}
	_, hooked := told.Load("This is a test: messages of this site arrive here.")
	assert.True(t, hooked)
	assert.Contains(t, box.all(), "This is a test")

	// Six things happen; two of them have one cause.
	for _, x := range []sim.Trouble{{Kind: "settings", Name: "Clock"}, {Kind: "firmware", Name: "Weir", To: "9.9"},
		{Kind: "clock", Name: "Stage"},
		{Kind: "slot", Name: "Clock", To: "Vault"}, {Kind: "slot", Name: "Shop", To: "Vault"}, {Kind: "off", Name: "Tower"}} {
		require.NoError(t, world.Trouble(x), x.Kind)
	}
	b.press("^Look now$")
	b.see("5 things are not as agreed")
	b.page.MustElementR("[aria-label=Findings] li", "2 cameras are no longer in their slots on Vault")
	b.page.MustElementR("[aria-label=Findings] li", "Tower does not answer")
	b.clean("what has drifted")

	// Four are put right: two slots, the settings, the clock. One is accepted.
	b.mend("no longer in their slots", "^Put them back$")
	b.mend("set otherwise", "^Put the agreed settings back$")
	b.mend("clock of Stage", "^Set the clock$")
	b.page.MustElementR("[aria-label=Findings] li", "Weir has another firmware").MustElementR("button", "^Accept$").MustClick()
	b.clean("accepting")
	b.page.MustElement("[role=dialog] input[name=reason]").MustInput("updated on purpose")
	b.page.MustElementR("[role=dialog] button", "^Accept$").MustClick()
	b.see("1 thing is not as agreed")

	// The camera that does not answer was replaced: a new one takes over what it was.
	require.NoError(t, world.Trouble(sim.Trouble{Kind: "on", Name: "Spare"}))
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.page.MustElementR("[data-device]", `127\.43\.66\.16`)
	b.page.MustElementR("nav a", "^Drift$").MustClick()
	b.press("^It was replaced$")
	b.page.MustElementR("[role=dialog] option", `127\.43\.66\.16`)
	b.clean("replacing")
	b.page.MustElementR("[role=dialog] button", "^Put it in place$").MustClick()
	b.see("Everything is as it was agreed")
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.page.MustElementR("[role=row]", `Tower[\s\S]*127\.43\.66\.16`)

	// The time line tells all of it.
	b.page.MustElementR("nav a", "^Drift$").MustClick()
	b.page.MustElementR("aside a", "^Time line").MustClick()
	for _, words := range []string{"Tower does not answer", "Weir has another firmware", "accepted as agreed what has changed",
		"Up in a month"} {
		b.see(words)
	}
	b.clean("the time line")
	b.page.MustElementR("li a", "^Clock$").MustClick()
	b.page.MustElement("[data-measure='rate main'] canvas")
	b.clean("the time line of a camera")

	assert.NotContains(t, box.all(), "brass-lamp-41")
}

// tells makes a rule: by mail, or another way.
func (b *bench) tells(name string, fields map[string]string, way string) {
	b.press("^Tell somebody$")
	b.typeIn("name", name)
	if way != "" {
		b.page.MustElement("[role=dialog] select").MustSelect("Webhook")
	}
	for field, text := range fields {
		b.typeIn(field, text)
	}
	b.clean("telling")
	b.page.MustElementR("[role=dialog] button", "^Save$").MustClick()
	b.page.MustElementR("[aria-label='Who is told'] li", name)
}

// nameAndPlace names cameras by their addresses, and puts them onto a target.
func (b *bench) nameAndPlace(names map[string]string, on string) {
	b.page.MustEval(`async (names, on) => {
		const site = location.pathname.split("/")[2];
		const ask = async (method, path, body) => {
			const r = await fetch(path, { method, headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
			if (!r.ok) throw new Error(path + ": " + (await r.text()));
		};
		const devices = await (await fetch("/api/sites/" + site + "/devices")).json();
		const own = devices.filter((d) => names[d.address]);
		for (const d of own) await ask("PATCH", "/api/devices/" + d.id, { name: names[d.address] });
		const target = (await (await fetch("/api/sites/" + site + "/targets")).json()).find((t) => t.name === on);
		await ask("POST", "/api/sites/" + site + "/targets/" + target.id + "/fill", { devices: own.map((d) => d.id) });
	}`, names, on)
}

// mend presses the button of a finding, agrees to what it would do, and waits until the finding is gone.
func (b *bench) mend(finding, button string) {
	b.page.MustElementR("[aria-label=Findings] li", finding).MustElementR("button", button).MustClick()
	b.page.MustElementR("[role=dialog] button[type=submit]:not([disabled])", button).MustClick()
	b.page.MustWait(`finding => {
		const told = [...document.querySelectorAll("[aria-label=Findings] li")];
		return !told.some((l) => l.textContent.includes(finding));
	}`, finding)
}
