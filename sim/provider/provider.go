// Package provider is a stand-in for a firm's single sign-on: a provider of OpenID Connect Core 1.0 with a sign-in page, whose protocol is
// that of a library, so that our client is not judged by our own reading of the standard.
package provider

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"fmt"
	"html/template"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/zitadel/oidc/v3/pkg/oidc"
	"github.com/zitadel/oidc/v3/pkg/op"
)

// RoleClaim is the claim in which the provider tells roles.
const RoleClaim = "groups"

// A Person has an account at the provider.
type Person struct {
	Subject  string
	Name     string // to sign in with, and as preferred_username
	Password string
	// Roles are told as RoleClaim; nil for no such claim.
	Roles []string
}

// A Client is a program that people sign in to by the provider.
type Client struct {
	ID, Secret string
	// Redirects are where browsers may be sent back to.
	Redirects []string
}

// A Provider is a running provider.
type Provider struct {
	Issuer string
	server *http.Server
	store  *storage
}

// Start runs a provider on an address of loopback; port 0 takes a free one.
func Start(address string, clients []Client, people ...Person) (*Provider, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	issuer := "http://" + l.Addr().String()
	s := &storage{key: key, clients: map[string]Client{}, people: people, tries: map[string]*request{}, codes: map[string]string{},
		tokens: map[string]string{}}
	for _, c := range clients {
		s.clients[c.ID] = c
	}
	cfg := &op.Config{CodeMethodS256: true, SupportedScopes: []string{oidc.ScopeOpenID, oidc.ScopeProfile, oidc.ScopeEmail}}
	rand.Read(cfg.CryptoKey[:])
	protocol, err := op.NewProvider(cfg, s, op.StaticIssuer(issuer), op.WithAllowInsecure())
	if err != nil {
		l.Close()
		return nil, err
	}
	mux := http.NewServeMux()
	back := op.AuthCallbackURL(protocol)
	mux.HandleFunc("GET /sign-in", s.page)
	mux.Handle("POST /sign-in", op.NewIssuerInterceptor(protocol.IssuerFromRequest).HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !s.signIn(r.FormValue("try"), r.FormValue("name"), r.FormValue("password")) {
			w.WriteHeader(http.StatusUnauthorized)
			s.show(w, r.FormValue("try"), "Name or password is not right.")
			return
		}
		http.Redirect(w, r, back(r.Context(), r.FormValue("try")), http.StatusSeeOther)
	}))
	mux.Handle("/", protocol)
	p := &Provider{Issuer: issuer, server: &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}, store: s}
	go p.server.Serve(l)
	return p, nil
}

// Stop ends the provider.
func (p *Provider) Stop() { p.server.Close() }

// Allow has the provider send browsers back to one more address of a client.
func (p *Provider) Allow(client, redirect string) {
	p.store.mu.Lock()
	defer p.store.mu.Unlock()
	c := p.store.clients[client]
	c.Redirects = append(slices.Clone(c.Redirects), redirect)
	p.store.clients[client] = c
}

// SetRoles gives a person other roles; nil leaves the claim out.
func (p *Provider) SetRoles(name string, roles []string) {
	p.store.mu.Lock()
	defer p.store.mu.Unlock()
	for i := range p.store.people {
		if p.store.people[i].Name == name {
			p.store.people[i].Roles = slices.Clone(roles)
		}
	}
}

var signInPage = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<meta name="viewport" content="width=device-width"><title>Tarnside accounts</title>
<style>body{font:16px/1.5 sans-serif;max-width:20rem;margin:15vh auto;padding:0 1rem}label{display:block;margin:.8rem 0}
input,button{font:inherit;width:100%;padding:.4rem;box-sizing:border-box}</style>
<main><h1>Tarnside accounts</h1>{{with .Wrong}}<p role="alert">{{.}}</p>{{end}}
<form method="post" action="/sign-in"><input type="hidden" name="try" value="{{.Try}}">
<label>Name <input name="name" autocomplete="username" autofocus></label>
<label>Password <input name="password" type="password" autocomplete="current-password"></label>
<button>Sign in</button></form></main></html>`))

func (s *storage) page(w http.ResponseWriter, r *http.Request) { s.show(w, r.FormValue("try"), "") }

func (s *storage) show(w http.ResponseWriter, try, wrong string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	signInPage.Execute(w, map[string]string{"Try": try, "Wrong": wrong})
}

// signIn notes that somebody has signed in on a try, and reports whether name and password are right.
func (s *storage) signIn(try, name, password string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.people, func(p Person) bool { return p.Name == name && p.Password == password })
	if i < 0 || s.tries[try] == nil {
		return false
	}
	s.tries[try].subject, s.tries[try].at = s.people[i].Subject, time.Now()
	return true
}

// find returns a person by their subject.
func (s *storage) find(subject string) (Person, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.people {
		if p.Subject == subject {
			return p, nil
		}
	}
	return Person{}, fmt.Errorf("there is nobody with the subject %q", subject)
}

var _ op.Storage = (*storage)(nil)

// storage is what the library keeps its state in. What it never asks of a provider of this kind is left to the nil op.Storage.
type storage struct {
	op.Storage
	key *rsa.PrivateKey

	mu      sync.Mutex
	clients map[string]Client
	people  []Person
	tries   map[string]*request // by ID
	codes   map[string]string   // to the IDs of tries
	tokens  map[string]string   // to subjects
}

// Health implements op.Storage.
func (s *storage) Health(context.Context) error { return nil }
