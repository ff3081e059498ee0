package e2e

import (
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/hostile"
	"unlatch/sim/simtest"
)

// Cameras that take nothing but basic get no password before a person has agreed, and one answer serves a whole selection. It can be
// withdrawn.
func TestAgreeToBasicForASelection(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: wharf
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Wharf, maker: ostrel, model: O1, address: 127.43.15.11, count: 3, scene: coal-stage, announces: [mdns],
       streams: [&s {width: 320, height: 180, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
  - {name: Clock, maker: corvane, model: V4, address: 127.43.15.20, scene: platform-clock, streams: [*s]}
`)
	b := start(t)
	b.firstAccount()
	b.makeSite("Wharf", "127.43.15.0/27")
	b.firstSignIn()
	b.press("^Line-up$")
	b.press("^Sweep the site$")
	b.count("[data-device]", 4)
	b.page.MustElement(`[data-run="finished"]`)
	b.press("^Open latches of 4 devices$")
	b.count(`[data-at="placed"]`, 1)
	b.count(`[data-at="signed_in"]`, 3)
	b.page.MustElementR("[role=row]", `127\.43\.15\.11`).MustClick()
	b.see("whoever answers or listens on this network can read the password")
	b.page.MustElement(`[aria-label="Select all that are shown"]`).MustClick()
	b.press("^Agree to basic for 3 devices$")
	b.see("goes over the wire")
	b.press("^Agree and go on$")
	b.count(`[data-at="placed"]`, 4)
	b.page.MustElementR("[role=row]", `127\.43\.15\.12`).MustClick()
	b.page.MustElementR("#bench", `127\.43\.15\.12`)
	b.see("Its sign-in may be sent readable")
	b.press("^Withdraw$")
	b.page.MustWait(`() => !document.querySelector('#bench [aria-label="Agreed"]')`)
	b.press("^Play again$")
	b.see("Nothing was sent")

	// Who agreed, to what, stands in the record.
	b.page.MustNavigate(b.server.URL + "record")
	b.see("agreed that sign-ins may be sent readable to")
	b.see("withdrew the agreement")
	text := b.page.MustElement("table").MustText()
	assert.Contains(t, text, "keeper")
	assert.Contains(t, text, "127.43.15.12")
	assert.NotContains(t, text, "brass-lamp-41")
}

// A stranger announces itself as a known camera. It is shown as what it is, gets nothing, and the camera goes on.
func TestAnImpostorIsFoundAndShown(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, `
name: lone
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, serial: L1, address: 127.43.16.11, scene: platform-clock, streams: [{width: 320,
       height: 180, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
`)
	b := start(t)
	b.firstAccount()
	b.makeSite("Lone", "127.43.16.0/24")
	b.firstSignIn()
	b.press("^Line-up$")
	b.press("^Sweep the site$")
	b.count("[data-device]", 1)
	b.page.MustElement(`[data-run="finished"]`)
	b.press("^Open latches of 1 device$")
	b.count(`[data-at="placed"]`, 1)
	b.page.MustElement("[data-device]").MustClick()

	trap, err := hostile.BasicTrap().Start("127.43.16.77")
	require.NoError(t, err)
	defer trap.Stop()
	wire, err := hostile.Join(netip.MustParseAddr("127.43.16.77"))
	require.NoError(t, err)
	defer wire.Close()
	eventually(t, func() bool {
		require.NoError(t, wire.Hello(world.Device("Clock").Endpoint(), "http://"+trap.Addr+"/onvif/device_service"))
		found, err := b.page.Elements(`[data-finding="impostor"]`)
		return err == nil && len(found) == 1
	}, time.Minute, 300*time.Millisecond)
	finding := b.page.MustElement(`[data-finding="impostor"]`).MustText()
	assert.Contains(t, finding, "Something at 127.43.16.77 says that it is this device, which still answers at 127.43.16.11")
	b.press("^Play again$")
	b.see("127.43.16.11")
	b.count(`[data-at="placed"]`, 1)
	assert.NotContains(t, trap.Got(), "Authorization")
	b.press("^Set it aside$")
	b.count(`[data-finding="impostor"]`, 0)
}

// Started with TLS the server makes a certificate, prints its fingerprint, and everything goes through it.
func TestStartWithACertificate(t *testing.T) {
	t.Parallel()
	b := start(t, "--tls")
	require.True(t, strings.HasPrefix(b.server.URL, "https://"), b.server.Output)
	at, err := url.Parse(b.server.URL)
	require.NoError(t, err)
	conn, err := tls.Dial("tcp", at.Host, &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	leaf := conn.ConnectionState().PeerCertificates[0]
	conn.Close()
	sum := sha256.Sum256(leaf.Raw)
	assert.Contains(t, strings.ReplaceAll(b.server.Output, ":", ""), fmt.Sprintf("%X", sum), "the fingerprint is printed")
	assert.NoError(t, leaf.VerifyHostname(at.Hostname()))
	b.firstAccount()
	for _, c := range b.page.MustCookies() {
		assert.True(t, c.Secure && c.HTTPOnly, c.Name)
	}
	b.makeSite("Works", "127.43.85.0/28")
	b.see("No camera found yet") // and events flow

	// The next start has the same certificate: a browser that has taken it once is not asked again.
	b.server.Kill()
	b.serve(at.Host)
	conn, err = tls.Dial("tcp", at.Host, &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	defer conn.Close()
	assert.Equal(t, leaf.Raw, conn.ConnectionState().PeerCertificates[0].Raw)
}

// What a target is given can be read on the way: nothing goes to it before a person has agreed, who is shown what would be sent and
// to whom. It can be left, agreed to, and taken back.
func TestAgreeForATarget(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, `
name: handing
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: One, maker: corvane, model: V4, address: 127.43.51.11, scene: turntable, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10}]}
  - {name: Two, maker: corvane, model: V4, address: 127.43.51.12, scene: coal-stage, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10}]}
  - {name: Vault, kind: recorder, maker: holloway, model: Eight, address: 127.43.51.20}
`)
	b := start(t)
	b.bring("Works", "127.43.51.0/27", 3)
	b.count(`[data-at="placed"]`, 2)
	b.ran("Open latches of")
	b.press("^Place 2 cameras on Holloway Eight$")
	b.press("^Agree for Holloway Eight$")
	sheet := b.page.MustElementR("[role=dialog]", "What would be sent")
	b.see("http://127.43.51.20") // as soon as the target has told what it waits for
	text := sheet.MustText()
	for _, want := range []string{"The sign-ins of cameras", "fitter", "for 2 cameras", "an administrator of theirs", "http://127.43.51.20",
		"Holloway"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "brass-lamp-41")
	b.clean("agree for a target")
	b.press("^Leave it$")
	assert.Empty(t, world.Device("Vault").Slots(), "it was handed nothing")
	b.agree()
	b.count(`[data-at=""]`, 2)
	assert.Len(t, world.Device("Vault").Slots(), 2)

	b.press("^Patch$")
	site := b.page.MustEval(`() => location.pathname.split("/")[2]`).Str()
	id := b.page.MustEval(`async (site) => (await (await fetch("/api/sites/" + site + "/targets")).json())[0].id`, site).Str()
	b.page.MustNavigate(b.page.MustEval(`() => location.origin`).Str() + "/sites/" + site + "/targets/" + id)
	b.see("may go to it readable: ")
	b.clean("target with an agreement")
	b.press("^Take it back$")
	b.page.MustWait(`() => !document.body.innerText.includes("may go to it readable: ")`)
	b.page.MustNavigate(b.server.URL + "record")
	b.see("took back what may go to the target readable")
}
