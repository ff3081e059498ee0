package e2e

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One thing is done at ten sites: what it will do stands there before, each begins, and all that has begun is stopped.
func TestOneThingAtManySites(t *testing.T) {
	t.Parallel()
	b := start(t)
	b.firstAccount()
	b.page.MustEval(`async () => {
		for (let i = 0; i < 10; i++) {
			const made = await fetch("/api/sites", {method: "POST", headers: {"Content-Type": "application/json"},
				body: JSON.stringify({name: "Halt " + i, ranges: ["127.43.80." + 16 * i + "/28"]})});
			if (!made.ok) throw new Error(await made.text());
		}
	}`)
	settled(t, b.page.MustNavigate(b.server.URL))
	b.press("^At many sites$")
	b.count("[data-over]", 10)
	b.press("^Open what can go on$")
	b.page.MustElementR(`[data-over="Halt 3"]`, "No camera can go on")
	b.press("^Sweep and open$")
	b.page.MustElementR(`[data-over="Halt 3"]`, "16 addresses are asked")
	b.page.MustElement(`[data-over="Halt 9"] [aria-label="Halt 9"]`).MustClick()
	b.clean("what is to be done at many sites")
	b.press("^Begin at 9 sites$")
	b.count("[data-step=begun]", 9)
	b.clean("what has begun at many sites")
	runs := b.page.MustEval(`async () => {
		const sites = await (await fetch("/api/sites")).json();
		const all = await Promise.all(sites.map(async (s) => [s.name, await (await fetch("/api/sites/" + s.id + "/runs")).json()]));
		return all.filter(([, runs]) => runs.length > 0).map(([name]) => name).sort();
	}`)
	require.Len(t, runs.Arr(), 9)
	assert.Equal(t, "Halt 0", runs.Get("0").Str())
	b.press("^Stop what has begun$")
	b.count("[data-step=stopped]", 9)
	b.press("^Close$")
	b.count("[data-over]", 0)
}

// Sites are listed by whose they are, and a customer's are chosen together. Where no device has told its firmware that is said.
func TestSitesOfCustomers(t *testing.T) {
	t.Parallel()
	b := start(t)
	b.firstAccount()
	b.page.MustEval(`async () => {
		for (let i = 0; i < 8; i++) {
			const customer = ["Tarnside Railway", "Sillwater Mill", ""][i % 3];
			const made = await fetch("/api/sites", {method: "POST", headers: {"Content-Type": "application/json"},
				body: JSON.stringify({name: "Halt " + i, customer, ranges: ["127.43.82." + 16 * i + "/28"]})});
			if (!made.ok) throw new Error(await made.text());
		}
	}`)
	settled(t, b.page.MustNavigate(b.server.URL))
	b.press("^customer$")
	b.count("main h2", 3)
	heads := b.page.MustEval(`() => [...document.querySelectorAll("main h2")].map((h) => h.textContent)`)
	assert.Equal(t, `["Sillwater Mill","Tarnside Railway","No customer"]`, heads.JSON("", ""))
	b.clean("sites by customer")
	b.press("^At many sites$")
	b.press("^Tarnside Railway$")
	b.page.MustElementR("button", "^Begin at 3 sites$")
	b.clean("sites of a customer chosen")
	b.press("^Cancel$")
	b.press("^Firmware$")
	b.page.MustElementR("p", "No device has told its firmware yet")
	b.clean("firmware where there is none")
}
