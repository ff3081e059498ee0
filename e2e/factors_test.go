package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A person adds codes from an app and a passkey, and signs in with each, and with a recovery code; the record tells of all that, filtered.
func TestSignInWithASecondFactor(t *testing.T) {
	t.Parallel()
	b := start(t)
	b.firstAccount()
	// Passkeys belong to a name: the same server by its name.
	named := strings.Replace(b.server.URL, "127.0.0.1", "localhost", 1)
	own := b.other(named)
	own.signIn("keeper", "a long password")
	own.page.MustElementR("h1", "^Sites$")
	require.NoError(t, proto.WebAuthnEnable{}.Call(own.page))
	_, err := proto.WebAuthnAddVirtualAuthenticator{Options: &proto.WebAuthnVirtualAuthenticatorOptions{
		Protocol: proto.WebAuthnAuthenticatorProtocolCtap2, Transport: proto.WebAuthnAuthenticatorTransportInternal, HasUserVerification: true,
		IsUserVerified: true, AutomaticPresenceSimulation: true}}.Call(own.page)
	require.NoError(t, err)

	settled(t, own.page.MustNavigate(named+"account"))
	own.press("^Add codes from an app$")
	own.typeIn("own-password", "a long password")
	own.press("^Go on$")
	key := own.page.MustElement("[data-key]").MustText()
	own.clean("the key of an app")
	code, err := totp.GenerateCode(key, time.Now())
	require.NoError(t, err)
	own.typeIn("code", code)
	own.press("^Add it$")
	own.count("[data-codes] li", 10)
	recovery := own.page.MustElement("[data-codes] li").MustText()
	own.clean("recovery codes")
	own.press("^I have kept them$")
	own.press("^Add a passkey$")
	own.typeIn("own-password", "a long password")
	own.page.MustElementR("[role=dialog] button", "^Add a passkey$").MustClick()
	own.page.MustElementR("li", "^Passkey").MustWaitVisible()
	own.clean("an account with second factors")

	// With a recovery code, elsewhere, by the bare address where no browser has passkeys.
	lost := b.other(b.server.URL)
	lost.signIn("keeper", "a long password")
	lost.see("One thing more")
	assert.False(t, lost.page.MustHasR("button", "Use a passkey"))
	lost.typeIn("code", "000000")
	lost.page.MustElementR("button", "^Sign in$").MustClick()
	lost.see("not right, or was used already")
	lost.typeIn("code", recovery)
	lost.page.MustElementR("button", "^Sign in$").MustClick()
	lost.page.MustElementR("h1", "^Sites$")

	// With the passkey, in the browser that has it.
	own.page.MustEval(`() => fetch("/api/session", { method: "DELETE" })`)
	settled(t, own.page.MustNavigate(named))
	own.signIn("keeper", "a long password")
	own.see("One thing more")
	own.press("Use a passkey")
	own.page.MustElementR("h1", "^Sites$")

	settled(t, own.page.MustNavigate(named+"record"))
	own.see("used a recovery code")
	own.page.MustElement(`[aria-label="Every act"]`).MustSelect("added a second factor for")
	own.count("[data-line]", 2)
	own.clean("the record, filtered")
	own.page.MustElement(`[aria-label="Words"]`).MustInput("PASSKEY")
	own.count("[data-line]", 1)
	assert.Contains(t, own.page.MustInfo().URL, "act=add-factor")
	own.press("^Show everything$")
	own.see("used a recovery code")
}

// signIn types a name and a password.
func (b *bench) signIn(name, password string) {
	b.t.Helper()
	b.typeIn("name", name)
	b.typeIn("password", password)
	b.page.MustElementR("form:not([hidden]) button", "^Sign in$").MustClick()
}
