// Package signon is single sign-on by OpenID Connect Core 1.0: it sends a browser to the provider, and reads who has come back from there.
//
// It uses the authorization code flow (§3.1) with PKCE (RFC 7636): the browser carries a code that is worth nothing without the secret of
// this server, and nothing that the browser brings is believed but what the provider has signed. The provider is the one machine that the
// web process connects to, since whoever starts the server has named it.
package signon

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"unlatch/core/decide/act"
	"unlatch/core/ground/wiretext"
)

// Config says which provider it is, and how this server is known there.
type Config struct {
	// Issuer is the provider's address as it calls itself, such as https://id.example. Only on loopback may it be without TLS.
	Issuer string
	// Client and Secret are what the provider has given to this server.
	Client, Secret string
	// Name is what people call the provider; empty for the host of Issuer.
	Name string
	// RoleClaim is the claim whose values give roles, such as "groups"; empty where people are invited here.
	RoleClaim string
	// Roles gives a role for a value of RoleClaim.
	Roles map[string]act.Role
	// Now is the clock by which tokens are judged; nil for the system's.
	Now func() time.Time
}

// A Provider is a provider of single sign-on.
type Provider struct {
	cfg    Config
	client *client

	mu    sync.Mutex
	known *oidc.Provider // what it has last said of itself; nil before it was asked
}

// patience is how long one thing that is asked of the provider may take.
const patience = 10 * time.Second

// most bounds what is taken of an answer: names, values of a claim, and characters of each.
const (
	mostNames  = 3
	mostRoles  = 1000
	mostLength = 100
)

// New returns the provider that cfg describes. Nothing is asked of it yet.
func New(cfg Config) (*Provider, error) {
	u, err := url.Parse(cfg.Issuer)
	switch {
	case err != nil || u.Host == "" || u.RawQuery != "" || u.Fragment != "" || u.User != nil:
		return nil, fmt.Errorf("the issuer is an address such as https://id.example, not %q", cfg.Issuer)
	case u.Scheme != "https" && !(u.Scheme == "http" && isLoopback(u.Hostname())):
		return nil, fmt.Errorf("the issuer %s must begin with https: who listens on the way could sign in as anybody otherwise", cfg.Issuer)
	case cfg.Client == "":
		return nil, errors.New("the provider's name of this server (the client ID) is missing")
	case (cfg.RoleClaim == "") != (len(cfg.Roles) == 0):
		return nil, errors.New("a claim for roles and the roles that its values give go together")
	}
	if cfg.Name == "" {
		cfg.Name = u.Hostname()
	}
	if cfg.Now == nil {
		cfg.Now = time.Now
	}
	return &Provider{cfg: cfg, client: newClient(u.Scheme)}, nil
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Rule says what the provider's word is good for.
func (p *Provider) Rule() act.SignOnRule {
	return act.SignOnRule{Provider: p.cfg.Name, Roles: p.cfg.Roles}
}

// A try is what has to be kept while a browser is at the provider. It is a secret.
type try struct {
	State    string // that the browser has to bring back (RFC 6749 §10.12)
	Nonce    string // that the ID token has to carry (§3.1.2.1)
	Verifier string // that proves that who began also ends (RFC 7636 §4.1)
	Redirect string
}

// Begin returns the address at which a browser signs on, after which the provider sends it to redirect, and what has to be kept secret
// until then. Its error is an *Error.
func (p *Provider) Begin(ctx context.Context, redirect string) (address, kept string, err error) {
	about, err := p.ask(ctx) // each time: a browser that is sent to a provider which is down comes to a page without a word of ours
	if err != nil {
		return "", "", err
	}
	t := try{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(), Redirect: redirect}
	raw, err := json.Marshal(t)
	if err != nil {
		return "", "", err
	}
	return p.oauth(about, redirect).AuthCodeURL(t.State, oidc.Nonce(t.Nonce), oauth2.S256ChallengeOption(t.Verifier)), string(raw), nil
}

// Finish returns who has signed on, by what Begin has kept and by the code and the state that the browser has brought back. Its error is an
// *Error.
func (p *Provider) Finish(ctx context.Context, kept, code, state string) (act.SignOn, error) {
	var t try
	if err := json.Unmarshal([]byte(kept), &t); err != nil {
		return act.SignOn{}, err
	}
	if subtle.ConstantTimeCompare([]byte(state), []byte(t.State)) != 1 {
		return act.SignOn{}, &Error{Cause: OtherBrowser, Err: errors.New("the state is another")}
	}
	about, err := p.about(ctx)
	if err != nil {
		return act.SignOn{}, err
	}
	ctx, cancel := context.WithTimeout(p.client.in(ctx), patience)
	defer cancel()
	token, err := p.oauth(about, t.Redirect).Exchange(ctx, code, oauth2.VerifierOption(t.Verifier))
	if err != nil {
		return act.SignOn{}, exchangeError(err)
	}
	raw, _ := token.Extra("id_token").(string)
	if raw == "" {
		return act.SignOn{}, &Error{Cause: BadAnswer, Err: errors.New("there is no ID token in the answer")}
	}
	id, err := about.VerifierContext(ctx, &oidc.Config{ClientID: p.cfg.Client, Now: p.cfg.Now}).Verify(ctx, raw)
	if err != nil {
		return act.SignOn{}, p.tokenError(err)
	}
	if ahead := id.IssuedAt.Sub(p.cfg.Now()); ahead > clockSkew {
		return act.SignOn{}, &Error{Cause: ClocksDiffer, Apart: ahead, Err: errors.New("the ID token was issued in the future")}
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(t.Nonce)) != 1 {
		return act.SignOn{}, &Error{Cause: BadAnswer, Err: errors.New("the ID token is for another sign-on: its nonce differs")}
	}
	return p.read(ctx, about, token, id)
}

// clockSkew is how far the provider's clock may be ahead.
const clockSkew = 5 * time.Minute

// read takes from an ID token what counts here. Where the claim for roles is not in it, the UserInfo endpoint is asked (§5.3).
func (p *Provider) read(ctx context.Context, about *oidc.Provider, token *oauth2.Token, id *oidc.IDToken) (act.SignOn, error) {
	out := act.SignOn{Issuer: id.Issuer, Subject: id.Subject}
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil || id.Subject == "" || len(id.Subject) > 255 { // §2: 255 ASCII characters at most
		return out, &Error{Cause: BadAnswer, Err: errors.Join(err, errors.New("the ID token does not say who it is of"))}
	}
	if _, said := claims[p.cfg.RoleClaim]; p.cfg.RoleClaim != "" && !said && about.UserInfoEndpoint() != "" {
		info, err := about.UserInfo(ctx, oauth2.StaticTokenSource(token))
		if err != nil {
			return out, answerError(err)
		}
		if info.Subject != id.Subject { // §5.3.2
			return out, &Error{Cause: BadAnswer, Err: errors.New("the UserInfo endpoint told of another person")}
		}
		more := map[string]any{}
		if err := info.Claims(&more); err != nil {
			return out, &Error{Cause: BadAnswer, Err: err}
		}
		for k, v := range more {
			if _, said := claims[k]; !said {
				claims[k] = v
			}
		}
	}
	out.Names = namesIn(claims)
	if p.cfg.RoleClaim != "" {
		out.Roles = textsIn(claims[p.cfg.RoleClaim])
	}
	return out, nil
}

// namesIn returns what a person may be called here, the best first (§5.1).
func namesIn(claims map[string]any) (out []string) {
	for _, c := range []string{"preferred_username", "email", "name", "sub"} {
		text, _ := claims[c].(string)
		if name := wiretext.Line(strings.TrimSpace(text), mostLength); name != "" && !slices.Contains(out, name) && len(out) < mostNames {
			out = append(out, name)
		}
	}
	return out
}

// textsIn returns the values of a claim that is a text or a list of texts; nil where it is neither.
func textsIn(claim any) []string {
	switch x := claim.(type) {
	case string:
		return strings.Fields(x)
	case []any:
		out := []string{}
		for _, v := range x[:min(len(x), mostRoles)] {
			if text, ok := v.(string); ok {
				out = append(out, text)
			}
		}
		return out
	}
	return nil
}

// oauth is how this server is known to the provider. It says which way the secret goes (OpenID Connect Core §9), since a library that tries
// one way after the other sends the code twice, and the second time it is gone.
func (p *Provider) oauth(about *oidc.Provider, redirect string) *oauth2.Config {
	at := about.Endpoint()
	at.AuthStyle = oauth2.AuthStyleInHeader
	var said struct {
		Ways []string `json:"token_endpoint_auth_methods_supported"`
	}
	if err := about.Claims(&said); err == nil && said.Ways != nil && !slices.Contains(said.Ways, "client_secret_basic") {
		at.AuthStyle = oauth2.AuthStyleInParams
	}
	return &oauth2.Config{ClientID: p.cfg.Client, ClientSecret: p.cfg.Secret, Endpoint: at, RedirectURL: redirect,
		Scopes: []string{oidc.ScopeOpenID, "profile", "email"}}
}

// about returns what the provider has last said of itself.
func (p *Provider) about(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	known := p.known
	p.mu.Unlock()
	if known != nil {
		return known, nil
	}
	return p.ask(ctx)
}

// ask asks the provider what it says of itself (OpenID Connect Discovery 1.0 §4).
func (p *Provider) ask(ctx context.Context) (*oidc.Provider, error) {
	ctx, cancel := context.WithTimeout(p.client.in(ctx), patience)
	defer cancel()
	about, err := oidc.NewProvider(ctx, p.cfg.Issuer)
	if err != nil {
		return nil, answerError(err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.known = about
	return about, nil
}
