package server

import (
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/ground/address"
	"unlatch/signon"
	"unlatch/sim/provider"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A house is a server with the single sign-on of a firm. Ada is an engineer there, Ned has no role that counts here.
type house struct {
	*page
	firm *provider.Provider
	skew time.Duration // of the server's clock
	log  *journal
}

const adasPassword = "a password of ada's"

func newHouse(t *testing.T, byRole bool) *house {
	t.Helper()
	firm, err := provider.Start("127.0.0.1:0", []provider.Client{{ID: "unlatch", Secret: "of the server",
		Redirects: []string{depotOrigin + signOnPage}}},
		provider.Person{Subject: "7001", Name: "ada", Password: adasPassword, Roles: []string{"engineers"}},
		provider.Person{Subject: "7002", Name: "keeper", Password: adasPassword, Roles: []string{"kitchen"}})
	require.NoError(t, err)
	t.Cleanup(firm.Stop)
	h := &house{firm: firm}
	cfg := signon.Config{Issuer: firm.Issuer, Client: "unlatch", Secret: "of the server", Name: "Tarnside accounts",
		Now: func() time.Time { return time.Now().Add(h.skew) }}
	if byRole {
		cfg.RoleClaim, cfg.Roles = provider.RoleClaim, map[string]act.Role{"engineers": act.Engineer, "owners": act.Owner}
	}
	at := atDepot()
	at.SignOn, err = signon.New(cfg)
	require.NoError(t, err)
	h.page, _, h.log = serveWith(t, storetest.URL(t), at)
	h.setUp()
	return h
}

// browser is another browser at the same server, in which nobody is signed in.
func (p *page) browser() *page {
	jar, _ := cookiejar.New(nil)
	return &page{p.t, p.url, &http.Client{Jar: jar}, p.store}
}

// atFirm sends a browser to the firm with the body of what begins it, signs somebody in there, and returns what the browser brings back.
func (h *house) atFirm(p *page, path string, body any, name string) fields {
	h.t.Helper()
	begun := get[struct{ URL string }](p, "POST", path, body)
	code, state, err := provider.Browse(begun.URL, name, adasPassword, depotOrigin+signOnPage)
	require.NoError(h.t, err)
	return fields{"code": code, "state": state}
}

func (h *house) signOn(p *page, name string) sessionState {
	h.t.Helper()
	return get[sessionState](p, "POST", "/api/sign-on/finish", h.atFirm(p, "/api/sign-on/begin", fields{}, name))
}

// Whom the provider gives a role has an account from the first time on, in the role that the provider tells now.
func TestSingleSignOnByRoles(t *testing.T) {
	t.Parallel()
	h := newHouse(t, true)
	ada := h.browser()
	assert.Equal(t, "Tarnside accounts", get[sessionState](ada, "GET", "/api/session", nil).SignOn)
	state := h.signOn(ada, "ada")
	assert.Equal(t, []any{"ada", act.Engineer, false, true}, []any{state.Name, state.Role, state.Password, state.Connected})
	assert.Empty(t, get[[]siteView](ada, "GET", "/api/sites", nil), "an owner gives sites")
	ned := h.browser()
	ned.problem("no_role_there", "POST", "/api/sign-on/finish", h.atFirm(ned, "/api/sign-on/begin", fields{}, "keeper"))
	ned.problem("signed_out", "GET", "/api/sites", nil)

	h.firm.SetRoles("keeper", []string{"engineers"})
	assert.Equal(t, "7002", h.signOn(ned, "keeper").Name, "a name that somebody has here is not taken")
	h.firm.SetRoles("ada", nil)
	later := h.browser()
	later.problem("no_role_claim", "POST", "/api/sign-on/finish", h.atFirm(later, "/api/sign-on/begin", fields{}, "ada"))
	h.firm.SetRoles("ada", []string{"owners"})
	assert.Equal(t, act.Owner, h.signOn(later, "ada").Role)

	lines, err := h.store.Record.List(t.Context(), store.LineFilter{Act: "sign-in-by-provider", Limit: 10})
	require.NoError(t, err)
	require.Len(t, lines, 3)
	assert.Equal(t, []string{"ada", "engineer", "owner"}, []string{lines[0].Person, lines[0].Before, lines[0].After})

	keeper, err := h.store.People.ByName(t.Context(), "keeper")
	require.NoError(t, err)
	later.problem("last_owner", "PUT", "/api/people/"+keeper.ID.String(), fields{"role": "viewer", "sites": []uuid.UUID{uuid.New()}})
	later.problem("last_owner", "DELETE", "/api/people/"+keeper.ID.String(), nil)
	assert.NotContains(t, h.log.String(), "of the server")
}

// A session that begins at the provider is for the browser that has begun it, once.
func TestASignOnIsGoodOnce(t *testing.T) {
	t.Parallel()
	h := newHouse(t, true)
	ada, thief := h.browser(), h.browser()
	brought := h.atFirm(ada, "/api/sign-on/begin", fields{}, "ada")
	thief.problem("sign_on_gone", "POST", "/api/sign-on/finish", brought)
	get[struct{ URL string }](thief, "POST", "/api/sign-on/begin", fields{})
	thief.problem("sign_on_gone", "POST", "/api/sign-on/finish", brought)
	get[sessionState](ada, "POST", "/api/sign-on/finish", brought)
	at, _ := url.Parse(ada.url)
	assert.False(t, hasCookie(ada.client.Jar.Cookies(at), signOnCookie), "what was for the one sign-on is gone")
	ada.problem("sign_on_gone", "POST", "/api/sign-on/finish", brought)
	// One that is at the provider to connect an account signs nobody in, and the other way round.
	brought = h.atFirm(h.page, "/api/session/sign-on/begin", fields{"password": keeperPassword}, "keeper")
	h.problem("sign_on_gone", "POST", "/api/sign-on/finish", brought)
}

func hasCookie(list []*http.Cookie, name string) bool {
	for _, c := range list {
		if c.Name == name {
			return true
		}
	}
	return false
}

// Where the provider gives no roles, people are invited, or connect the account that they have.
func TestSingleSignOnByInvitation(t *testing.T) {
	t.Parallel()
	h := newHouse(t, false)
	site, err := h.store.Sites.Create(t.Context(), "Depot", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	ada := h.browser()
	ada.problem("not_connected", "POST", "/api/sign-on/finish", h.atFirm(ada, "/api/sign-on/begin", fields{}, "ada"))
	invited := get[linkMade](h.page, "POST", "/api/people/links", fields{"name": "Ada L", "role": "viewer", "sites": []uuid.UUID{site.ID}})
	state := get[sessionState](ada, "POST", "/api/sign-on/finish", h.atFirm(ada, "/api/sign-on/begin", fields{"link": invited.Token}, "ada"))
	assert.Equal(t, []any{"Ada L", act.Viewer, false}, []any{state.Name, state.Role, state.Password})
	assert.Len(t, get[[]siteView](ada, "GET", "/api/sites", nil), 1)
	again := h.browser()
	again.problem("link_gone", "POST", "/api/sign-on/finish", h.atFirm(again, "/api/sign-on/begin", fields{"link": invited.Token}, "ada"))
	assert.Equal(t, "Ada L", h.signOn(again, "ada").Name)
	again.problem("wrong_sign_in", "POST", "/api/session", fields{"name": "Ada L", "password": "x"})

	// The keeper connects, may not take Ada's place, and is let in by both ways afterwards.
	h.problem("wrong_sign_in", "POST", "/api/session/sign-on/begin", fields{"password": "not this one"})
	brought := h.atFirm(h.page, "/api/session/sign-on/begin", fields{"password": keeperPassword}, "ada")
	h.problem("name_taken", "POST", "/api/session/sign-on", brought)
	brought = h.atFirm(h.page, "/api/session/sign-on/begin", fields{"password": keeperPassword}, "keeper")
	get[struct{}](h.page, "POST", "/api/session/sign-on", brought)
	assert.Equal(t, act.Owner, h.signOn(h.browser(), "keeper").Role)
	get[struct{}](h.page, "POST", "/api/session/sign-on/disconnect", fields{"password": keeperPassword})
	other := h.browser()
	other.problem("not_connected", "POST", "/api/sign-on/finish", h.atFirm(other, "/api/sign-on/begin", fields{}, "keeper"))

	get[struct{}](h.page, "DELETE", "/api/people/"+mustPerson(h, "Ada L").String(), nil)
	ada.problem("signed_out", "GET", "/api/sites", nil)
	ada.problem("not_connected", "POST", "/api/sign-on/finish", h.atFirm(ada, "/api/sign-on/begin", fields{}, "ada"))
}

func mustPerson(h *house, name string) uuid.UUID {
	h.t.Helper()
	p, err := h.store.People.ByName(h.t.Context(), name)
	require.NoError(h.t, err)
	return p.ID
}

// A provider that is down, or whose clock differs, is told; passwords let in meanwhile.
func TestAProviderThatFails(t *testing.T) {
	t.Parallel()
	h := newHouse(t, true)
	p := h.browser()
	h.skew = time.Hour
	assert.Contains(t, p.problem("clocks_differ", "POST", "/api/sign-on/finish", h.atFirm(p, "/api/sign-on/begin", fields{}, "ada")).Detail,
		"differ by 5", "minutes are named")
	h.firm.Stop()
	p.problem("provider_down", "POST", "/api/sign-on/begin", fields{})
	get[sessionState](p, "POST", "/api/session", fields{"name": "keeper", "password": keeperPassword})

	none, _, _ := serveWith(t, storetest.URL(t), Config{})
	none.setUp()
	none.problem("no_provider", "POST", "/api/sign-on/begin", fields{})
	assert.Empty(t, get[sessionState](none, "GET", "/api/session", nil).SignOn)
}
