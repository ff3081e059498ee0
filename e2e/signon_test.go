package e2e

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/provider"
)

// atFirm signs somebody in on the page of the provider.
func (b *bench) atFirm(name string) {
	b.t.Helper()
	b.page.MustElementR("h1", "^Tarnside accounts$")
	b.typeIn("name", name)
	b.typeIn("password", "a password at the firm")
	b.page.MustElementR("button", "^Sign in$").MustClick()
}

// Whom the provider gives a role comes in by it; the owner connects the own account, and is let in by both ways.
func TestSingleSignOn(t *testing.T) {
	t.Parallel()
	require.NoError(t, os.Setenv("UNLATCH_OIDC_SECRET", "of the server")) // no other test starts a server with a provider
	firm, err := provider.Start("127.0.0.1:0", []provider.Client{{ID: "unlatch", Secret: "of the server"}},
		provider.Person{Subject: "7001", Name: "ada", Password: "a password at the firm", Roles: []string{"benches"}},
		provider.Person{Subject: "7002", Name: "ned", Password: "a password at the firm", Roles: []string{"kitchen"}},
		provider.Person{Subject: "7003", Name: "the keeper", Password: "a password at the firm"})
	require.NoError(t, err)
	t.Cleanup(firm.Stop)
	b := start(t, "--oidc-issuer", firm.Issuer, "--oidc-name", "Tarnside accounts", "--oidc-role-claim", provider.RoleClaim, "--oidc-role",
		"benches=technician")
	firm.Allow("unlatch", b.server.URL+"sign-on")
	b.firstAccount()

	ada := b.other(b.server.URL)
	ada.clean("signing in, with a provider")
	ada.press("^Sign in with Tarnside accounts$")
	ada.atFirm("ada")
	ada.page.MustElementR("h1", "^Sites$")
	settled(t, ada.page.MustNavigate(b.server.URL+"account"))
	ada.see("It is your only way in")
	assert.False(t, ada.page.MustHasR("h2", "Another password|Second factor"), "there is no password to change or to add to")
	ada.clean("an account without a password")

	ned := b.other(b.server.URL)
	ned.press("^Sign in with Tarnside accounts$")
	ned.atFirm("ned")
	ned.see("gives you no role in Unlatch")
	assert.NotContains(t, ned.page.MustInfo().URL, "code=", "the code leaves the address")
	ned.clean("a sign-on that was refused")
	ned.press("^Back to signing in$")
	ned.page.MustElementR("button", "^Sign in with Tarnside accounts$")

	settled(t, b.page.MustNavigate(b.server.URL+"account"))
	b.press("^Connect to Tarnside accounts$")
	b.typeIn("own-password", "a long password")
	b.press("^Go there$")
	b.atFirm("the keeper")
	b.page.MustElementR("button", "^Disconnect from Tarnside accounts$")
	keeper := b.other(b.server.URL)
	keeper.press("^Sign in with Tarnside accounts$")
	keeper.atFirm("the keeper")
	keeper.page.MustElementR("h1", "^Sites$")
	settled(t, keeper.page.MustNavigate(b.server.URL+"people"))
	keeper.see("ada")
	keeper.clean("people, two of them by a provider")

	firm.Stop()
	late := b.other(b.server.URL)
	late.press("^Sign in with Tarnside accounts$")
	late.see("does not answer")
	late.signIn("keeper", "a long password")
	late.page.MustElementR("h1", "^Sites$")
}
