package server

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A clock is set by a test.
type clock struct{ at time.Time }

func (c *clock) now() time.Time { return c.at }

// secondBench is a server whose keeper signs in with a password and another thing besides.
func secondBench(t *testing.T) (*page, *clock) {
	t.Helper()
	c := &clock{time.Now()}
	cfg := atDepot()
	cfg.Now = c.now
	p, _, _ := serveWith(t, storetest.URL(t), cfg)
	p.setUp()
	return p, c
}

// withPassword begins a sign-in of the keeper in another browser, and returns what it still wants.
func withPassword(t *testing.T, p *page) (*page, *secondView) {
	t.Helper()
	jar, _ := cookiejar.New(nil)
	other := &page{t, p.url, &http.Client{Jar: jar}, p.store}
	s := get[sessionState](other, "POST", "/api/session", fields{"name": "keeper", "password": keeperPassword})
	assert.Empty(t, s.Name, "nobody is signed in yet")
	require.NotNil(t, s.Second)
	other.problem("signed_out", "GET", "/api/sites", nil)
	return other, s.Second
}

// A code of an app opens once; recovery codes open once each; neither opens for whoever lacks the password.
func TestOneTimeCodes(t *testing.T) {
	t.Parallel()
	p, c := secondBench(t)
	p.problem("wrong_sign_in", "POST", "/api/session/factors/code/begin", fields{"password": "not this one"})
	begun := get[codeBegun](p, "POST", "/api/session/factors/code/begin", fields{"password": keeperPassword})
	assert.Contains(t, begun.URL, "otpauth://totp/Unlatch:keeper?")
	code := func(skew time.Duration) string {
		out, err := totp.GenerateCode(begun.Secret, c.at.Add(skew))
		require.NoError(t, err)
		return out
	}
	p.problem("wrong_second", "POST", "/api/session/factors/code", fields{"ceremony": begun.Ceremony, "code": "000000"})
	added := get[factorAdded](p, "POST", "/api/session/factors/code", fields{"ceremony": begun.Ceremony, "code": code(0), "name": "Phone"})
	require.Len(t, added.Codes, recoveryCodes)
	p.problem("second_gone", "POST", "/api/session/factors/code", fields{"ceremony": begun.Ceremony, "code": code(0)})

	other, wants := withPassword(t, p)
	assert.True(t, wants.Code)
	assert.Empty(t, wants.Passkey)
	other.problem("wrong_second", "POST", "/api/session/second", fields{"code": code(0)}) // the app's first answer was that one
	c.at = c.at.Add(time.Minute)
	s := get[sessionState](other, "POST", "/api/session/second", fields{"code": code(0)})
	assert.Equal(t, "keeper", s.Name)
	replay, _ := withPassword(t, p)
	c.at = c.at.Add(time.Minute) // the tries at the password are spaced
	for _, wrong := range []string{code(-time.Minute), code(5 * time.Minute), "", "abc"} {
		replay.problem("wrong_second", "POST", "/api/session/second", fields{"code": wrong})
		c.at = c.at.Add(time.Minute)
	}
	replay.problem("wrong_second", "POST", "/api/session/second", fields{"code": "111111"})
	c.at = c.at.Add(time.Minute)
	replay.problem("second_gone", "POST", "/api/session/second", fields{"code": code(0)}) // too often wrong

	lost, _ := withPassword(t, p)
	get[sessionState](lost, "POST", "/api/session/second", fields{"code": strings.ToLower(added.Codes[3])})
	again, _ := withPassword(t, p)
	again.problem("wrong_second", "POST", "/api/session/second", fields{"code": added.Codes[3]})
	left := get[factorsView](p, "GET", "/api/session/factors", nil)
	assert.Equal(t, recoveryCodes-1, left.Codes)
	require.Len(t, left.Factors, 1)
	raw, err := json.Marshal(left)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), begun.Secret)

	status, text, _ := p.do("POST", "/api/session/factors/"+left.Factors[0].ID.String()+"/remove", fields{"password": keeperPassword})
	require.Equal(t, 204, status, text)
	assert.Zero(t, get[factorsView](p, "GET", "/api/session/factors", nil).Codes, "the recovery codes go with the last factor")
}

// A passkey opens where it was made for, and nowhere else; an answer is good once.
func TestPasskeys(t *testing.T) {
	t.Parallel()
	p, c := secondBench(t)
	key := newAuthenticator(t)
	begun := get[passkeyBegun](p, "POST", "/api/session/factors/passkey/begin", fields{"password": keeperPassword})
	p.problem("bad_passkey", "POST", "/api/session/factors/passkey", fields{"ceremony": begun.Ceremony,
		"passkey": key.register(begun.Options, "https://bench.example.attacker.example")})
	p.problem("bad_passkey", "POST", "/api/session/factors/passkey", fields{"ceremony": begun.Ceremony, "passkey": fields{"id": "x"}})
	get[factorAdded](p, "POST", "/api/session/factors/passkey", fields{"ceremony": begun.Ceremony,
		"passkey": key.register(begun.Options, depotOrigin)})

	other, wants := withPassword(t, p)
	assert.False(t, wants.Code)
	other.problem("wrong_second", "POST", "/api/session/second", fields{"passkey": key.assert(wants.Passkey, "https://attacker.example")})
	stranger := newAuthenticator(t)
	stranger.id = key.id
	other.problem("wrong_second", "POST", "/api/session/second", fields{"passkey": stranger.assert(wants.Passkey, depotOrigin)})
	answer := key.assert(wants.Passkey, depotOrigin)
	get[sessionState](other, "POST", "/api/session/second", fields{"passkey": answer})
	c.at = c.at.Add(time.Hour)
	replay, _ := withPassword(t, p)
	replay.problem("wrong_second", "POST", "/api/session/second", fields{"passkey": answer})
	copied, wants := withPassword(t, p)
	key.counter = 0 // a copy counts by itself
	copied.problem("wrong_second", "POST", "/api/session/second", fields{"passkey": key.assert(wants.Passkey, depotOrigin)})
}

// A role that must have a second factor can do nothing without but add one, in no way that there is.
func TestARoleThatMustHaveASecondFactor(t *testing.T) {
	t.Parallel()
	p, s, _ := serveWith(t, storetest.URL(t), atDepot())
	p.setUp()
	x := newDepot(t, p, s)
	jar, _ := cookiejar.New(nil)
	tess := &page{t, p.url, &http.Client{Jar: jar}, s}
	tess.signIn(act.Person{ID: x.member})
	assert.NotEmpty(t, get[[]siteView](tess, "GET", "/api/sites", nil))
	status, raw, _ := p.do("PUT", "/api/people/strict-roles", fields{"roles": []string{"technician"}})
	require.Equal(t, 204, status, raw)
	state := get[sessionState](tess, "GET", "/api/session", nil)
	assert.True(t, state.Bare)
	tess.problem("second_factor_needed", "GET", "/api/sites", nil)
	tess.problem("second_factor_needed", "POST", "/api/sites/"+x.own.id.String()+"/open", fields{"devices": []any{x.own.camera}})
	tess.problem("second_factor_needed", "GET", "/api/events", nil)
	tess.problem("second_factor_needed", "GET", "/api/audit/file", nil)
	get[factorsView](tess, "GET", "/api/session/factors", nil)
	require.NoError(t, s.BeginCeremony(context.Background(), "hers", storeCeremony(x)))
	get[factorAdded](tess, "POST", "/api/session/factors/code", fields{"ceremony": "hers", "code": codeNow(depotSecret)})
	assert.NotEmpty(t, get[[]siteView](tess, "GET", "/api/sites", nil))
	status, raw, _ = p.do("POST", "/api/people/"+x.member.String()+"/drop-factors", nil)
	require.Equal(t, 204, status, raw)
	tess.problem("second_factor_needed", "GET", "/api/sites", nil)
}

// Where the server is reached by a bare address, no browser has passkeys, and that is said.
func TestPasskeysWantAName(t *testing.T) {
	t.Parallel()
	p, _, _ := serve(t, storetest.URL(t))
	p.setUp()
	assert.False(t, get[factorsView](p, "GET", "/api/session/factors", nil).Passkeys)
	p.problem("no_name", "POST", "/api/session/factors/passkey/begin", fields{"password": keeperPassword})
	u, err := url.Parse(p.url)
	require.NoError(t, err)
	named := &page{t, "http://localhost:" + u.Port(), p.client, p.store}
	keeper, err := p.store.People.ByName(context.Background(), "keeper")
	require.NoError(t, err)
	named.signIn(keeper.Person)
	assert.True(t, get[factorsView](named, "GET", "/api/session/factors", nil).Passkeys)
}

// storeCeremony is one in which a technician adds an app.
func storeCeremony(x *depot) store.Ceremony {
	return store.Ceremony{Purpose: forCode, Person: x.member, State: depotSecret, Until: time.Now().Add(time.Hour)}
}
