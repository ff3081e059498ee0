package e2e

import (
	"path/filepath"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
	"unlatch/store/cluster"
)

// other is the same server in the browser of somebody else.
func (b *bench) other(address string) *bench {
	b.t.Helper()
	page := b.page.Browser().MustIncognito().MustPage()
	settled(b.t, page.MustNavigate(address))
	return &bench{t: b.t, server: b.server, page: page}
}

// invite makes a link for somebody and returns its address.
func (b *bench) invite(name, role, site string) string {
	b.t.Helper()
	settled(b.t, b.page.MustNavigate(b.server.URL+"people"))
	b.press("^Invite somebody$")
	b.typeIn("name", name)
	b.page.MustElementR(`[role=dialog] [role=radio]`, role).MustClick()
	box := b.page.MustElement(`[role=dialog] [role=checkbox][aria-label="` + site + `"]`)
	if *box.MustAttribute("aria-checked") == "false" {
		box.MustClick()
	}
	b.press("^Make the link$")
	return b.page.MustElement("[data-link]").MustText()
}

// join takes a link in a browser of its own.
func (b *bench) join(address string) *bench {
	b.t.Helper()
	who := b.other(address)
	who.typeIn("password", "a brass lamp of mine")
	who.typeIn("again", "a brass lamp of mine")
	who.press("^Make the account$")
	who.page.MustElementR("h1", "^Sites$")
	return who
}

// Three people of different roles are on one site at once: one works, one looks, one sees pictures in plain words.
func TestThreeRolesOnOneSite(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: roles
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Weir, maker: lumenhythe, model: L2, address: 127.43.42.11, scene: water-tower, streams: [{width: 320, height: 180,
       fps: 5, kbps: 100, gop: 5, profile: baseline}]}
`)
	b := start(t)
	b.firstAccount()
	b.makeSite("Weir", "127.43.42.0/28")
	b.firstSignIn()
	settled(t, b.page.MustNavigate(b.server.URL))
	b.clean("sites of an owner")
	technician := b.invite("Tess", "Technician", "Weir")
	b.clean("a link that was made")
	viewer, customer := b.invite("Viv", "Viewer", "Weir"), b.invite("Cora", "Customer", "Weir")
	settled(t, b.page.MustNavigate(b.server.URL+"people"))
	b.clean("people")

	tess := b.join(technician)
	tess.page.MustElementR("a", "Weir").MustClick()
	tess.press("^Line-up$")
	viv := b.join(viewer)
	settled(t, viv.page.MustNavigate(tess.page.MustInfo().URL))
	viv.see("No camera found yet")
	tess.press("^Sweep the site$")
	tess.count("[data-device]", 1)
	viv.count("[data-device]", 1) // the other page is told
	viv.see("change nothing on it")
	tess.press("^Open latches of")
	tess.count(`[data-at="placed"]`, 1)
	viv.count(`[data-at="placed"]`, 1)
	assert.False(t, viv.page.MustHasR("button", "^Open latches|^Sweep"))
	assert.False(t, viv.page.MustHasR("a", "^Keyring$"))
	viv.clean("line-up of a viewer")

	cora := b.join(customer)
	cora.page.MustElementR("a", "Weir").MustClick()
	cora.see("Shows a picture")
	assert.NotRegexp(t, `127\.43\.`, cora.page.MustElement("main").MustText())
	cora.clean("cameras of a customer")
	cora.page.MustElement("main li button").MustClick()
	cora.page.MustElement("video, img[alt]")

	// The link is spent.
	late := b.other(technician)
	late.see("not good any more")
	late.clean("a link that is spent")
	settled(t, tess.page.MustNavigate(b.server.URL+"account"))
	tess.see("this one")
	tess.clean("one's own account")
}

// Two people change one plan: the second sees both and chooses, and each sees that the other is there.
func TestTwoWhoChangeOnePlan(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: two
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Weir, maker: lumenhythe, model: L2, address: 127.43.43.11, scene: water-tower, streams: [{width: 320, height: 180,
       fps: 5, kbps: 100, gop: 5, profile: baseline}]}
`)
	b := start(t)
	b.firstAccount()
	b.makeSite("Weir", "127.43.43.0/28")
	site := b.page.MustInfo().URL
	b.firstSignIn()
	settled(t, b.page.MustNavigate(site))
	b.sweepAndOpen(1)
	tess := b.join(b.invite("Tess", "Technician", "Weir"))
	plan := func(who *bench) {
		settled(t, who.page.MustNavigate(site+"/streams"))
		who.press("^Preset on")
		who.page.MustElementR("[role=menuitem]", "^Plan for the site").MustClick()
		who.page.MustElementR("[role=dialog]", "Plan streams for many")
	}
	for _, who := range []*bench{b, tess} {
		plan(who)
		who.typeIn("main", map[bool]string{true: "h264,10fps", false: "h264,5fps"}[who == b])
	}
	b.see("Also here: Tess")
	tess.see("Also here: keeper")
	b.press("^Keep the plan$")
	b.page.MustElement("[role=dialog]").MustWaitInvisible()
	tess.press("^Keep the plan$")
	tess.see("keeper has changed this")
	tess.see("main h264,10fps")
	tess.clean("two plans to choose from")
	tess.press("^Keep mine instead$")
	tess.page.MustElement("[role=dialog]").MustWaitInvisible()
	plan(b)
	b.see("main h264,5fps")

	// The same with a name: whoever began before the other has ended is asked.
	for _, who := range []*bench{b, tess} {
		settled(t, who.page.MustNavigate(site))
		who.page.MustElement("[data-device]").MustClick()
		who.page.MustElement(`[aria-label="Change the name"]`).MustClick()
	}
	name := func(who *bench, text string) {
		who.page.MustElement(`input[aria-label="Name"]`).MustInput(text).MustType(input.Enter)
	}
	name(b, "Footbridge")
	b.see("Named “Footbridge”")
	name(tess, "Weir gate")
	tess.see("keeper has named it “Footbridge” meanwhile")
	tess.page.MustElementR("button", "^Keep “Weir gate”$").MustClick()
	b.page.MustElementR("h2", "^Weir gate$")
}

// An owner verifies the record on its page, and is told the line at which it does not hold once somebody has forged one in the database.
func TestAForgedLineIsFound(t *testing.T) {
	t.Parallel()
	b := start(t)
	b.firstAccount()
	b.makeSite("Weir", "127.43.44.0/28")
	b.firstSignIn()
	settled(t, b.page.MustNavigate(b.server.URL+"record"))
	b.press("^Verify$")
	b.see("lines hold: none was changed, taken out or slipped in")
	b.clean("the record, verified")
	line := *b.page.MustElementR("[data-line]", "made the site").MustAttribute("data-line")
	saved := b.page.MustElementR("a[download]", "Save as CSV").MustEval("() => fetch(this.href).then((r) => r.text())").Str()
	assert.Contains(t, saved, "\n"+line+",", "the line stands in the file")

	url, ok := cluster.Running(filepath.Join(b.data, "pg"))
	require.True(t, ok)
	db, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer db.Close(t.Context())
	_, err = db.Exec(t.Context(), "ALTER TABLE audit DISABLE TRIGGER audit_append_only; UPDATE audit SET person = 'nobody' WHERE number = "+
		line+"; ALTER TABLE audit ENABLE TRIGGER audit_append_only")
	require.NoError(t, err)
	b.press("^Verify$")
	b.see("Line " + line + " does not hold")
	b.clean("a record that was forged")
}
