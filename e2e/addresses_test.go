package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

// Cameras get lasting addresses in one action, are found again there, keep their place on the recorder, and go back by undo.
func TestAddressPlanWithUndo(t *testing.T) {
	t.Parallel()
	scenario := strings.ReplaceAll(yard, "127.43.1.", "127.43.3.")
	scenario = strings.Replace(scenario, "address: 127.43.3.13,", "address: 127.43.3.13, defects: {refuses_address: true},", 1)
	scenario = strings.Replace(scenario, "address: 127.43.3.16,", "address: 127.43.3.16, lease: 127.43.3.16,", 1)
	world := simtest.Start(t, scenario)
	b := start(t)
	b.firstAccount()
	b.makeSite("Viaduct", "127.43.3.0/24")
	b.firstSignIn()
	b.press("^Line-up$")
	b.press("^Sweep the site$")
	b.count("[data-device]", 7)
	b.page.MustElement(`[data-run="finished"]`)
	b.press("^Open latches of 7 devices")
	b.count(`[data-at="placed"]`, 6)
	b.press("^Place 6 cameras on")
	b.agree()
	b.count(`[data-at=""]`, 6)

	// What cannot be is said at its field, before anything is sent.
	b.page.MustElement(`[aria-label="Select all that are shown"]`).MustClick()
	b.page.MustElementR("[role=row]", "recorder").MustElement("[role=checkbox]").MustClick()
	b.press("^Addresses$")
	b.page.MustElement(`input[name="pool"]`)
	b.typeIn("pool", "127.43.3.101-127.43.3.120")
	b.typeIn("dhcp", "127.43.3.110-127.43.3.130")
	b.see("overlaps the DHCP pool")
	b.typeIn("dhcp", "127.43.3.200-127.43.3.250")
	b.typeIn("gateway", "127.44.0.1")
	b.see("does not lie in 127.43.3.0/24")
	b.typeIn("gateway", "127.43.3.1")
	b.count("[data-plan]", 6)
	b.press("^Name servers, time server")
	b.typeIn("dns", "192.0.2.53, nonsense")
	b.see("is not an address")
	b.typeIn("dns", "192.0.2.53")
	b.typeIn("time_zone", "Europe/London")
	b.see("is no time zone as devices take it")
	b.typeIn("time_zone", "GMT0BST,M3.5.0/1,M10.5.0")
	b.page.MustElement(`[aria-label="Name each device after its camera"]`).MustClick()
	b.see("free · corvane-v4")
	b.press("^Send 6 addresses$")

	// Five move and are confirmed by the recorder at their new addresses; the one that refuses says so and stays.
	// In order of name the three of one maker come first, and of equal names the lower address: the third of them refuses.
	for _, last := range []string{"101", "102", "104", "105", "106"} {
		b.page.MustElementR("[role=row]", `127\.43\.3\.`+last)
	}
	b.page.MustElementR("[role=row]", `127\.43\.3\.13`).MustClick()
	b.see("The address is locked on this device")
	b.page.MustElement(`[data-run="finished"]`)
	b.count(`[data-at=""]`, 6)
	b.page.MustElementR("[role=row]", `127\.43\.3\.101`).MustClick()
	b.see("also set: name servers, host name corvane-v4, time zone GMT0BST")
	slots := world.Device("Strongroom").Slots()
	require.Len(t, slots, 6, "each kept its slot")
	for _, s := range slots {
		assert.Equal(t, "Connected", s.State, s.Name)
	}

	// The device in hand first, then all the others: undo puts them back where they were, the one by DHCP too.
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	for _, row := range b.page.MustElementsX(`//*[@role="row"][contains(., "127.43.3.10")]`) {
		row.MustElement("[role=checkbox]").MustClick()
	}
	b.press("^Undo address change$")
	for _, last := range []string{"11", "12", "14", "15", "16"} {
		b.page.MustElementR("[role=row]", `127\.43\.3\.`+last+`\b`)
	}
	b.count(`[data-at=""]`, 6)
	b.page.MustElementR("[role=row]", `127\.43\.3\.16`).MustClick()
	assert.NotContains(t, b.page.MustElement("body").MustText(), "brass-lamp-41")
}

// A camera fresh from the factory is found to be so and gets its first account; the password is on the keyring.
func TestClaim(t *testing.T) {
	t.Parallel()
	scenario := strings.ReplaceAll(yard, "127.43.1.", "127.43.4.")
	for _, last := range []string{"11", "14"} {
		scenario = strings.Replace(scenario, "address: 127.43.4."+last+",", "address: 127.43.4."+last+", users: [],", 1)
	}
	simtest.Start(t, scenario)
	b := start(t)
	b.firstAccount()
	b.makeSite("Viaduct", "127.43.4.0/27")
	b.press("^Sweep the site$")
	b.count("[data-device]", 7)
	b.page.MustElement(`[data-run="finished"]`)
	b.press("^Open latches of 7 devices")
	b.press("^Claim 2 cameras$")
	b.typeIn("secret", "short")
	b.see("Too short: 5 of at least 10")
	assert.True(t, b.page.MustElementR("button", "Save to keyring and claim").MustProperty("disabled").Bool())
	b.press("Make one")
	b.see("Very good")
	made := b.page.MustElement(`input[name="secret"]`).MustProperty("value").Str()
	b.press("^Save to keyring and claim$")
	b.count(`[data-at="placed"]`, 2)
	b.press("^Keyring$")
	b.see("2 cameras claimed")
	b.press("Add a sign-in")
	b.typeIn("user", "maker")
	b.typeIn("secret", "as-delivered")
	b.press("Where it may be tried")
	b.typeIn("maker", "Corvane")
	b.page.MustElement(`[aria-label="Devices have it from the factory"]`).MustClick()
	b.press("^Add to keyring$")
	b.see("Corvane only")
	b.page.MustElement(`[aria-label="Try maker earlier"]`).MustClick()
	b.page.MustElementR(`tbody tr[data-index="0"]`, "factory password")
	b.page.MustElement(`[aria-label^="Show the password of fitter"]`).MustClick()
	b.see(made)
}

// A camera fresh from the box answers at its factory address outside the ranges. It is reached only after a consent, and then gets an
// address of the site.
func TestStrayConsent(t *testing.T) {
	t.Parallel()
	scenario := strings.ReplaceAll(yard, "127.43.1.", "127.43.5.")
	scenario = strings.Replace(scenario, "address: 127.43.5.16,", "address: 127.43.6.64,", 1)
	world := simtest.Start(t, scenario)
	b := start(t)
	b.firstAccount()
	b.makeSite("Viaduct", "127.43.5.0/24")
	b.firstSignIn()
	b.press("^Find$")
	b.see("Listening for newcomers")
	b.press("^Sweep the site$")
	// Strangers are on the wire too: other tests, a demo beside.
	stray := b.page.MustElement(`[data-stray="127.43.6.64"]`)
	assert.Zero(t, world.Device("Paint shop").Asked(), "a stray is heard, and not talked to")
	stray.MustElementR("button", "^Reach it").MustClick()
	b.see("has an address in that subnet")
	b.press(`^Connect to 127\.43\.6\.64 for 30 min$`)
	b.press("^To the bench$")
	b.press("^Open latches$")
	b.page.MustElement(`[data-at="placed"]`)
	b.page.MustElementR("#bench button", "Give an address").MustClick()
	b.count("[data-plan]", 1)
	b.press("^Send 1 address$")
	b.page.MustElementR("[role=row]", `127\.43\.5\.101`)
	b.press("^Find$")
	b.count(`[data-stray="127.43.6.64"]`, 0)
}

// A list that somebody brought along shows what is missing, what moved, and gives its names.
func TestImportMatching(t *testing.T) {
	t.Parallel()
	simtest.Start(t, strings.ReplaceAll(yard, "127.43.1.", "127.43.7."))
	b := start(t)
	b.firstAccount()
	b.makeSite("Viaduct", "127.43.7.0/27")
	b.press("^Find$")
	b.see("Listening for newcomers")
	b.press("^Sweep the site$")
	b.page.MustElement(`[data-run="finished"]`)
	list := filepath.Join(t.TempDir(), "cameras.csv")
	require.NoError(t, os.WriteFile(list, []byte("Camera;IP address;Notes\nPlatform clock;127.43.7.11;over the door\nLamp "+
		"room;127.43.7.25;was working in May\nBroken;not an address;\n"), 0o644))
	b.page.MustElement(`[aria-label="Address list file"]`).MustSetFiles(list)
	b.see("3 devices are expected")
	b.clean("what the columns of a list hold")
	b.page.MustElement(`[aria-label="Column 3 holds"]`).MustSelect("left out")
	b.page.MustElementR(`[aria-label="Column 3 holds"] option:checked`, "left out")
	b.page.MustElement(`[aria-label="Column 3 holds"]`).MustSelect("note")
	b.press("^Expect them$")
	b.page.MustElement(`[data-missing="Lamp room"]`)
	b.see("was working in May")
	b.see(`"not an address" is not an address`)
	b.press("^Use its names$")
	b.see("1 device named as the list does")
	b.page.MustElementR(`[data-heard="127.43.7.11"]`, "Platform clock")
	bad := filepath.Join(t.TempDir(), "bad.csv")
	require.NoError(t, os.WriteFile(bad, []byte("hello\n"), 0o644))
	b.page.MustElement(`[aria-label="Address list file"]`).MustSetFiles(bad)
	b.see("o column of names, addresses")
	b.page.MustElement(`[data-missing="Lamp room"]`)
}

// Two devices at one address are shown as two, and neither is talked to as if it were the other.
func TestAddressConflict(t *testing.T) {
	t.Parallel()
	scenario := strings.ReplaceAll(yard, "127.43.1.", "127.43.8.") +
		`  - {name: Twin, maker: corvane, model: V9, serial: TWIN, shares: Turntable}
`
	world := simtest.Start(t, scenario)
	b := start(t)
	b.firstAccount()
	b.makeSite("Viaduct", "127.43.8.0/27")
	b.press("^Sweep the site$")
	b.count("[data-device]", 8)
	b.page.MustElement(`[data-run="finished"]`)
	asked := world.Device("Turntable").Asked()
	b.press("^Open latches of 6 devices")
	b.count(`[data-at="signed_in"]`, 6)
	b.page.MustElementR("[data-device]", "V9").MustClick()
	b.see("Two devices claim 127.43.8.14")
	b.press("^Try again$")
	b.page.MustElement(`[data-run="finished"]`)
	assert.Equal(t, asked, world.Device("Turntable").Asked(), "nothing was sent to either")
	b.press("^Find$")
	b.see("address conflict")
	b.page.MustElement(`[data-heard="127.43.8.14"]`)
	b.press("^Line-up$")

	// The one that was replaced is forgotten, and the other goes on.
	b.page.MustElementR("[data-device]", "V9").MustClick()
	b.press("^Forget$")
	b.press("^Forget it with its evidence$")
	b.count("[data-device]", 7)
	b.page.MustElementR("[role=row]", `127\.43\.8\.14`).MustClick()
	b.press("^Open latches$")
	b.count(`[data-at="signed_in"]`, 7)
}
