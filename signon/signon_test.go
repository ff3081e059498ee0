package signon_test

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/json"
	"errors"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	jose "github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/signon"
	"unlatch/sim/provider"
)

const redirect = "http://bench.example/sign-on"

// firm is a provider with one person, and how it is known here.
func firm(t *testing.T, roles []string) (*provider.Provider, signon.Config) {
	t.Helper()
	p, err := provider.Start("127.0.0.1:0", []provider.Client{{ID: "unlatch", Secret: "of the server", Redirects: []string{redirect}}},
		provider.Person{Subject: "7001", Name: "ada", Password: "a password of ada's", Roles: roles})
	require.NoError(t, err)
	t.Cleanup(p.Stop)
	return p, signon.Config{Issuer: p.Issuer, Client: "unlatch", Secret: "of the server", Name: "Tarnside accounts",
		RoleClaim: provider.RoleClaim, Roles: map[string]act.Role{"benches": act.Technician}}
}

// causeOf returns the cause of a sign-on that has failed.
func causeOf(err error) signon.Cause {
	if bad := new(signon.Error); errors.As(err, &bad) {
		return bad.Cause
	}
	return ""
}

// come signs ada on and returns who came back.
func come(t *testing.T, p *signon.Provider) (act.SignOn, error) {
	t.Helper()
	address, kept, err := p.Begin(t.Context(), redirect)
	require.NoError(t, err)
	code, state, err := provider.Browse(address, "ada", "a password of ada's", redirect)
	require.NoError(t, err)
	return p.Finish(t.Context(), kept, code, state)
}

func TestSomebodySignsOn(t *testing.T) {
	t.Parallel()
	firm, cfg := firm(t, []string{"cooks", "benches"})
	p, err := signon.New(cfg)
	require.NoError(t, err)
	who, err := come(t, p)
	require.NoError(t, err)
	assert.Equal(t, act.SignOn{Issuer: firm.Issuer, Subject: "7001", Names: []string{"ada", "7001"}, Roles: []string{"cooks", "benches"}}, who)

	firm.SetRoles("ada", nil)
	who, err = come(t, p)
	require.NoError(t, err)
	assert.Nil(t, who.Roles, "the claim is missing, which is not the same as empty")

	cfg.RoleClaim, cfg.Roles = "", nil
	p, err = signon.New(cfg)
	require.NoError(t, err)
	who, err = come(t, p)
	require.NoError(t, err)
	assert.Nil(t, who.Roles, "the claim was not asked for")
}

func TestACodeIsGoodOnceAndForItsBrowser(t *testing.T) {
	t.Parallel()
	_, cfg := firm(t, nil)
	p, err := signon.New(cfg)
	require.NoError(t, err)
	address, kept, err := p.Begin(t.Context(), redirect)
	require.NoError(t, err)
	code, state, err := provider.Browse(address, "ada", "a password of ada's", redirect)
	require.NoError(t, err)

	_, err = p.Finish(t.Context(), kept, code, "another state")
	assert.Equal(t, signon.OtherBrowser, causeOf(err))
	_, other, err := p.Begin(t.Context(), redirect)
	require.NoError(t, err)
	var mixed map[string]string // a code that was stolen, in a try of the thief's own
	require.NoError(t, json.Unmarshal([]byte(other), &mixed))
	mixed["State"] = state
	raw, _ := json.Marshal(mixed)
	_, err = p.Finish(t.Context(), string(raw), code, state)
	assert.Equal(t, signon.CodeGone, causeOf(err), "the verifier is another's")

	_, err = come(t, p)
	require.NoError(t, err)
	address, kept, err = p.Begin(t.Context(), redirect)
	require.NoError(t, err)
	code, state, err = provider.Browse(address, "ada", "a password of ada's", redirect)
	require.NoError(t, err)
	_, err = p.Finish(t.Context(), kept, code, state)
	require.NoError(t, err)
	_, err = p.Finish(t.Context(), kept, code, state)
	assert.Equal(t, signon.CodeGone, causeOf(err), "it was used")
}

func TestClocksThatDiffer(t *testing.T) {
	t.Parallel()
	_, cfg := firm(t, nil)
	for name, ahead := range map[string]time.Duration{"ours is ahead": time.Hour, "ours is behind": -time.Hour} {
		cfg.Now = func() time.Time { return time.Now().Add(ahead) }
		p, err := signon.New(cfg)
		require.NoError(t, err)
		_, err = come(t, p)
		bad := new(signon.Error)
		require.ErrorAs(t, err, &bad, name)
		assert.Equal(t, signon.ClocksDiffer, bad.Cause, name)
		assert.Greater(t, bad.Apart, 50*time.Minute, name)
	}
}

func TestAProviderThatDoesNotKnowUs(t *testing.T) {
	t.Parallel()
	firm, cfg := firm(t, nil)
	cfg.Secret = "another"
	p, err := signon.New(cfg)
	require.NoError(t, err)
	_, err = come(t, p)
	assert.Equal(t, signon.NotTrusted, causeOf(err))
	assert.NotContains(t, err.Error(), "another", "no secret stands in an error")

	firm.Stop()
	p, err = signon.New(cfg)
	require.NoError(t, err)
	_, _, err = p.Begin(t.Context(), redirect)
	assert.Equal(t, signon.Unreachable, causeOf(err))
}

func TestSettingsThatAreNoneForAProvider(t *testing.T) {
	t.Parallel()
	good := signon.Config{Issuer: "https://id.example", Client: "unlatch"}
	_, err := signon.New(good)
	require.NoError(t, err)
	for name, change := range map[string]func(*signon.Config){
		"no address":            func(c *signon.Config) { c.Issuer = "id" },
		"without TLS":           func(c *signon.Config) { c.Issuer = "http://id.example" },
		"with a password":       func(c *signon.Config) { c.Issuer = "https://a:b@id.example" },
		"with a query":          func(c *signon.Config) { c.Issuer = "https://id.example/?a=b" },
		"no client":             func(c *signon.Config) { c.Client = "" },
		"a claim without roles": func(c *signon.Config) { c.RoleClaim = "groups" },
		"roles without a claim": func(c *signon.Config) { c.Roles = map[string]act.Role{"a": act.Viewer} },
	} {
		cfg := good
		change(&cfg)
		_, err := signon.New(cfg)
		assert.Error(t, err, name)
	}
}

// liar is a provider that answers each path with what a test says; what a test leaves out is right.
type liar struct {
	*httptest.Server
	key    *rsa.PrivateKey
	claims map[string]any // of the ID token, over the right ones
	info   map[string]any // of the UserInfo endpoint
	nonce  string
	with   map[string]http.HandlerFunc
	signer func(any) string
}

func newLiar(t *testing.T) *liar {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	l := &liar{key: key, claims: map[string]any{}, with: map[string]http.HandlerFunc{}}
	l.signer = func(claims any) string { return signed(t, key, claims) }
	answer := func(w http.ResponseWriter, what any) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(what)
	}
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if h := l.with[r.URL.Path]; h != nil {
			h(w, r)
			return
		}
		switch r.URL.Path {
		case "/.well-known/openid-configuration":
			answer(w, map[string]any{"issuer": l.URL, "authorization_endpoint": l.URL + "/authorize", "token_endpoint": l.URL + "/token",
				"jwks_uri": l.URL + "/keys", "userinfo_endpoint": l.URL + "/userinfo", "id_token_signing_alg_values_supported": []string{"RS256"}})
		case "/keys":
			answer(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "one", Algorithm: "RS256", Use: "sig"}}})
		case "/token":
			claims := map[string]any{"iss": l.URL, "aud": "unlatch", "sub": "7001", "nonce": l.nonce, "iat": time.Now().Unix(),
				"exp": time.Now().Add(time.Minute).Unix()}
			maps.Copy(claims, l.claims)
			answer(w, map[string]any{"access_token": "a", "token_type": "Bearer", "id_token": l.signer(claims)})
		case "/userinfo":
			answer(w, l.info)
		}
	}))
	t.Cleanup(l.Close)
	return l
}

func signed(t *testing.T, key *rsa.PrivateKey, claims any) string {
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: key, KeyID: "one"}}, nil)
	require.NoError(t, err)
	text, err := jwt.Signed(s).Claims(claims).Serialize()
	require.NoError(t, err)
	return text
}

// Whatever a provider answers, nobody comes in who was not signed for, and a lie costs bounded time and memory.
func TestProvidersThatLie(t *testing.T) {
	t.Parallel()
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	endless := func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		for r.Context().Err() == nil {
			if _, err := w.Write([]byte(strings.Repeat(" ", 1<<16))); err != nil {
				return
			}
		}
	}
	for name, c := range map[string]struct {
		lie   func(*liar)
		cause signon.Cause
	}{
		"the truth":                {func(*liar) {}, ""},
		"of another issuer":        {func(l *liar) { l.claims["iss"] = "https://id.example" }, signon.BadAnswer},
		"for another server":       {func(l *liar) { l.claims["aud"] = "another" }, signon.BadAnswer},
		"of another sign-on":       {func(l *liar) { l.claims["nonce"] = "another" }, signon.BadAnswer},
		"of nobody":                {func(l *liar) { l.claims["sub"] = "" }, signon.BadAnswer},
		"of somebody without end":  {func(l *liar) { l.claims["sub"] = strings.Repeat("7", 256) }, signon.BadAnswer},
		"signed by another":        {func(l *liar) { l.signer = func(c any) string { return signed(t, other, c) } }, signon.BadAnswer},
		"signed by nobody":         {func(l *liar) { l.signer = unsigned }, signon.BadAnswer},
		"no token":                 {func(l *liar) { l.signer = func(any) string { return "" } }, signon.BadAnswer},
		"UserInfo of another":      {func(l *liar) { l.info = map[string]any{"sub": "7002", "groups": []string{"benches"}} }, signon.BadAnswer},
		"a token without end":      {func(l *liar) { l.with["/token"] = endless }, signon.BadAnswer},
		"keys without end":         {func(l *liar) { l.with["/keys"] = endless }, signon.BadAnswer},
		"a page instead of tokens": {func(l *liar) { l.with["/token"] = page }, signon.BadAnswer},
		"a token somewhere else":   {func(l *liar) { l.with["/token"] = away }, signon.BadAnswer},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l := newLiar(t)
			l.info = map[string]any{"sub": "7001", "groups": []string{"benches"}}
			p, err := signon.New(signon.Config{Issuer: l.URL, Client: "unlatch", RoleClaim: "groups",
				Roles: map[string]act.Role{"benches": act.Viewer}})
			require.NoError(t, err)
			address, kept, err := p.Begin(t.Context(), redirect)
			require.NoError(t, err)
			u, err := url.Parse(address)
			require.NoError(t, err)
			l.nonce = u.Query().Get("nonce")
			c.lie(l)
			who, err := p.Finish(context.Background(), kept, "code", u.Query().Get("state"))
			if c.cause == "" {
				require.NoError(t, err)
				assert.Equal(t, []string{"benches"}, who.Roles)
				return
			}
			assert.Equal(t, c.cause, causeOf(err), "%v", err)
		})
	}
}

// unsigned is a token by the algorithm none (RFC 7518 §3.6).
func unsigned(claims any) string {
	raw, _ := json.Marshal(claims)
	encode := base64.RawURLEncoding.EncodeToString
	return encode([]byte(`{"alg":"none"}`)) + "." + encode(raw) + "."
}

func page(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html")
	w.Write([]byte("<h1>Welcome</h1>"))
}

func away(w http.ResponseWriter, r *http.Request) {
	http.Redirect(w, r, "http://192.0.2.1/token", http.StatusTemporaryRedirect)
}

// What a provider says of itself is not believed either.
func TestProvidersThatDescribeThemselvesWrongly(t *testing.T) {
	t.Parallel()
	for name, h := range map[string]http.HandlerFunc{
		"as another": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			w.Write([]byte(`{"issuer":"https://id.example"}`))
		},
		"as a page":      page,
		"somewhere else": away,
		"not at all":     http.NotFound,
	} {
		l := newLiar(t)
		l.with["/.well-known/openid-configuration"] = h
		p, err := signon.New(signon.Config{Issuer: l.URL, Client: "unlatch"})
		require.NoError(t, err)
		_, _, err = p.Begin(t.Context(), redirect)
		assert.Equal(t, signon.BadAnswer, causeOf(err), "%s: %v", name, err)
	}
}
