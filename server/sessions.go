package server

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"runtime/debug"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/crypto/argon2"

	"unlatch/core/decide/act"
	"unlatch/core/ground/wiretext"
	"unlatch/store"
)

const (
	cookieName    = "unlatch_session"
	sessionLife   = 14 * 24 * time.Hour
	browserCookie = "unlatch_browser"
	browserLife   = 180 * 24 * time.Hour
)

type personKey struct{}

// person returns who is signed in; requireSession, or withPerson, has put it there.
func person(ctx context.Context) act.Person {
	p, _ := ctx.Value(personKey{}).(act.Person)
	return p
}

// open marks operations that need no session.
var open = map[string]any{"open": true}

// sessions let people in.
type sessions struct {
	resource
	accounts  *gate // tries to sign in by account
	addresses *gate // and by where they come from
	hashing   chan struct{}
	setupCode string
	secure    bool
	signOn    string // the name of the provider of single sign-on; empty for none
}

func (s sessions) requireSession(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if ctx.Operation().Metadata["open"] == true {
			next(ctx)
			return
		}
		shown := credential{token: bearer(ctx.Header("Authorization"))}
		if c, err := huma.ReadCookie(ctx, cookieName); err == nil {
			shown.session = c.Value
		}
		p, err := s.signedIn(ctx.Context(), shown)
		if err != nil {
			var pr *Problem
			errors.As(err, &pr)
			refuse(api, ctx, pr)
			return
		}
		ctx = huma.WithValue(ctx, personKey{}, p)
		if p.Bare && ctx.Operation().Metadata["own"] != true {
			refuse(api, ctx, secondNeeded())
			return
		}
		if err := s.mayRead(ctx.Context(), rightToRead(*ctx.Operation())); err != nil { // before anything that was sent is read
			var pr *Problem
			errors.As(err, &pr)
			refuse(api, ctx, pr)
			return
		}
		next(ctx)
	}
}

// A credential is what a request shows to say who asks. Where it shows an API token, that alone counts.
type credential struct {
	session string // of a browser
	token   string // of a program
}

// shownBy returns what a request shows.
func shownBy(r *http.Request) credential {
	shown := credential{token: bearer(r.Header.Get("Authorization"))}
	if c, err := r.Cookie(cookieName); err == nil {
		shown.session = c.Value
	}
	return shown
}

// who returns whom a credential is for, or store.ErrNotFound.
func (c credential) who(ctx context.Context, people store.People) (act.Person, error) {
	switch {
	case c.token != "":
		return people.OfToken(ctx, c.token)
	case c.session != "":
		return people.OfSession(ctx, c.session)
	}
	return act.Person{}, store.ErrNotFound
}

// signedIn returns whom a credential is for, or a *Problem.
func (s sessions) signedIn(ctx context.Context, shown credential) (act.Person, error) {
	p, err := shown.who(ctx, s.store.People)
	switch {
	case err == nil:
		return p, nil
	case !errors.Is(err, store.ErrNotFound):
		return p, s.explain(err)
	case shown.token != "":
		return act.Person{}, problem(http.StatusUnauthorized, "token_gone", "This API token is not good: it was revoked, has ended, or was "+
			"never made here.", "Make another one on the page Your account.")
	}
	return act.Person{}, problem(http.StatusUnauthorized, "signed_out", "You are signed out.", "Sign in.")
}

// withPerson lets only who is signed in to the handlers that are not part of the described API, and tells them who that is.
func (s sessions) withPerson(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p, err := s.signedIn(r.Context(), shownBy(r))
		if err == nil && p.Bare {
			err = secondNeeded()
		}
		if err != nil {
			s.fail(w, err)
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), personKey{}, p)))
	})
}

func secondNeeded() *Problem {
	return problem(http.StatusForbidden, "second_factor_needed", "Your role must have a second factor, and you have none yet.",
		"Add one on the page Your account.")
}

type sessionState struct {
	Name       string      `json:"name" doc:"who is signed in; empty for nobody"`
	NeedsSetup bool        `json:"needs_setup" doc:"there is no account yet"`
	Role       act.Role    `json:"role,omitempty" enum:"owner,engineer,technician,viewer,customer"`
	Rights     []act.Right `json:"rights" doc:"what the person may do"`
	Second     *secondView `json:"second,omitempty" doc:"the password was right, and a second factor is wanted now"`
	Bare       bool        `json:"must_add_factor,omitempty" doc:"the role must have a second factor and the person has none: nothing else can be done"`
	SignOn     string      `json:"sign_on,omitempty" doc:"the provider by which one may sign in instead of by password; missing for none"`
	Password   bool        `json:"password,omitempty" doc:"the person has a password here"`
	Connected  bool        `json:"connected,omitempty" doc:"the person may sign in by the provider"`
	Token      string      `json:"token,omitempty" doc:"the name of the API token by which a program asks"`
}

func stateOf(p act.Person) sessionState {
	return sessionState{Name: p.Name, Role: p.Role, Rights: append([]act.Right{}, p.Role.Rights()...), Token: p.Token, Bare: p.Bare,
		Password: p.Password, Connected: p.Connected}
}

type credentials struct {
	Name     string `json:"name" minLength:"1" maxLength:"100"`
	Password string `json:"password" minLength:"1" maxLength:"400"`
}

type firstAccount struct {
	Name     string `json:"name" minLength:"1" maxLength:"100"`
	Password string `json:"password" minLength:"10" maxLength:"400" doc:"at least 10 characters"`
	Code     string `json:"code" doc:"the set-up code that the server printed at its start"`
}

type cookieOut struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      sessionState
}

func (s sessions) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "get-session", Method: "GET", Path: "/api/session", Summary: "Who is signed in",
		Metadata: open},
		func(ctx context.Context, in *struct {
			Token  string `cookie:"unlatch_session"`
			Bearer string `header:"Authorization"`
		}) (*struct{ Body sessionState }, error) {
			out := &struct{ Body sessionState }{stateOf(act.Person{})}
			has, err := s.store.People.Any(ctx)
			if err != nil {
				return nil, s.explain(err)
			}
			out.Body.NeedsSetup = !has
			if p, err := s.signedIn(ctx, credential{in.Token, bearer(in.Bearer)}); err == nil {
				out.Body = stateOf(p)
			}
			out.Body.SignOn = s.signOn
			return out, nil
		})
	register(s, api, huma.Operation{OperationID: "sign-in", Method: "POST", Path: "/api/session", Summary: "Sign in", Metadata: open},
		func(ctx context.Context, in *struct {
			Caller
			Body credentials
		}) (*cookieOut, error) {
			return s.signIn(ctx, in.Body, in.Caller)
		})
	register(s, api, huma.Operation{OperationID: "sign-out", Method: "DELETE", Path: "/api/session", Summary: "Sign out", Metadata: open},
		func(ctx context.Context, in *struct {
			Token string `cookie:"unlatch_session"`
		}) (*cookieOut, error) {
			if err := s.store.People.EndSession(ctx, in.Token); err != nil {
				return nil, s.explain(err)
			}
			c := s.cookie(cookieName, "", -1)
			return &cookieOut{SetCookie: []http.Cookie{c}, Body: stateOf(act.Person{})}, nil
		})
	register(s, api, huma.Operation{OperationID: "set-up", Method: "POST", Path: "/api/setup", Summary: "Make the first account",
		Metadata: open},
		func(ctx context.Context, in *struct {
			Caller
			Body firstAccount
		}) (*cookieOut, error) {
			return s.setUp(ctx, in.Body, in.Caller)
		})
}

// Caller reads who asks: the address, and the mark of a browser from which somebody has signed in before.
type Caller struct {
	Browser string `cookie:"unlatch_browser"`
	addr    string
}

// Resolve implements huma.Resolver.
func (r *Caller) Resolve(ctx huma.Context) []error {
	r.addr = callerOf(ctx.Context())
	return nil
}

type callerKey struct{}

type agentKey struct{}

// agentOf returns what the browser that asks calls itself, in a line that can be shown.
func agentOf(ctx context.Context) string {
	text, _ := ctx.Value(agentKey{}).(string)
	return wiretext.Line(text, 200)
}

type originKey struct{}

// An origin is where a browser has reached the server: the name alone, and as pages know it.
type origin struct{ host, origin string }

func originOf(ctx context.Context) origin {
	o, _ := ctx.Value(originKey{}).(origin)
	return o
}

// originOf returns where a request was sent to: the public address where there is one, else the name that it gives, which was judged.
func (s *Server) originOf(r *http.Request) origin {
	if u := s.cfg.PublicURL; u != nil {
		return origin{u.Hostname(), u.Scheme + "://" + u.Host}
	}
	scheme := "http"
	if r.TLS != nil || s.cfg.Secure {
		scheme = "https"
	}
	u := url.URL{Scheme: scheme, Host: r.Host}
	return origin{u.Hostname(), u.String()}
}

// withCaller notes who sent a request, and where to.
func (s *Server) withCaller(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx := context.WithValue(r.Context(), callerKey{}, s.callerAddress(r))
		ctx = context.WithValue(ctx, originKey{}, s.originOf(r))
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, agentKey{}, r.UserAgent())))
	})
}

func callerOf(ctx context.Context) string {
	a, _ := ctx.Value(callerKey{}).(string)
	return a
}

func (s sessions) setUp(ctx context.Context, in firstAccount, by Caller) (*cookieOut, error) {
	if wait := s.addresses.begin(by.addr); wait > 0 {
		return nil, tooFast(wait)
	}
	if s.setupCode == "" || subtle.ConstantTimeCompare([]byte(strings.TrimSpace(in.Code)), []byte(s.setupCode)) != 1 {
		return nil, problem(403, "wrong_code", "The set-up code is not right.", "It stands in the terminal in which Unlatch was started.")
	}
	var hash string
	if err := s.hash(ctx, func() { hash = HashPassword(in.Password) }); err != nil {
		return nil, s.explain(err)
	}
	p, err := s.store.People.CreateFirst(ctx, strings.TrimSpace(in.Name), hash)
	if errors.Is(err, store.ErrTaken) {
		return nil, problem(409, "set_up_already", "The first account was made already.", "Sign in with it.")
	}
	if err != nil {
		return nil, s.explain(err)
	}
	s.addresses.passed(by.addr)
	return s.start(ctx, p)
}

// signIn counts a try before it is judged, by the account and by where it comes from. A browser from which this account was signed in to
// before is counted by itself: strangers who guess at the account cannot keep its owner out.
func (s sessions) signIn(ctx context.Context, in credentials, by Caller) (*cookieOut, error) {
	p, err := s.judge(ctx, strings.TrimSpace(in.Name), in.Password, by)
	if err != nil {
		return nil, err
	}
	return s.begin(ctx, p)
}

// confirmPassword asks whoever is signed in for the password once more; wrong ones are counted as they are when one signs in.
func (s sessions) confirmPassword(ctx context.Context, name, password string, by Caller) error {
	_, err := s.judge(ctx, name, password, by)
	return err
}

// judge returns whose name and password these are, or a *Problem.
func (s sessions) judge(ctx context.Context, name, password string, by Caller) (act.Person, error) {
	account, address := "account "+strings.ToLower(name), by.addr
	if known, err := s.store.People.KnownBrowser(ctx, by.Browser, name); err == nil && known {
		account, address = "browser "+by.Browser, "browser "+by.Browser
	}
	if wait := s.addresses.begin(address); wait > 0 {
		return act.Person{}, tooFast(wait)
	}
	if wait := s.accounts.begin(account); wait > 0 {
		s.addresses.undo(address)
		return act.Person{}, tooFast(wait)
	}
	p, err := s.store.People.ByName(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		s.addresses.undo(address)
		s.accounts.undo(account)
		return act.Person{}, s.explain(err)
	}
	// An unknown name costs the same time as a wrong password.
	right := false
	if err := s.hash(ctx, func() { right = checkPassword(p.PasswordHash, password) }); err != nil {
		s.addresses.undo(address)
		s.accounts.undo(account)
		return act.Person{}, s.explain(err)
	}
	if !right {
		return act.Person{}, problem(401, "wrong_sign_in", "Name or password is not right.", "Check capitals and try again.")
	}
	s.accounts.passed(account)
	s.addresses.passed(address)
	return p.Person, nil
}

// hash runs fn, which takes much memory, beside one other at most.
func (s sessions) hash(ctx context.Context, fn func()) error {
	select {
	case s.hashing <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	fn()
	<-s.hashing
	if len(s.hashing) == 0 {
		go debug.FreeOSMemory() // 64 MiB each, which the program has no other use for
	}
	return nil
}

func tooFast(wait time.Duration) *Problem {
	return problem(429, "too_fast", fmt.Sprintf("Too many wrong tries. Wait %d seconds.", int(wait.Seconds())+1), "Wait, then try again.")
}

// start begins a session, and marks the browser as one from which this person has signed in.
func (s sessions) start(ctx context.Context, p act.Person) (*cookieOut, error) {
	token, browser := newToken(), newToken()
	now := time.Now()
	if err := s.store.People.StartSession(ctx, store.NewSession{Person: p.ID, Token: token, Until: now.Add(sessionLife), Browser: browser,
		BrowserUntil: now.Add(browserLife), Calls: agentOf(ctx)}); err != nil {
		return nil, s.explain(err)
	}
	return &cookieOut{SetCookie: []http.Cookie{s.cookie(cookieName, token, int(sessionLife.Seconds())),
		s.cookie(browserCookie, browser, int(browserLife.Seconds()))},
		Body: stateOf(p)}, nil
}

func newToken() string {
	raw := make([]byte, 32)
	rand.Read(raw)
	return base64.RawURLEncoding.EncodeToString(raw)
}

func (s sessions) cookie(name, value string, age int) http.Cookie {
	return http.Cookie{Name: name, Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.secure,
		SameSite: http.SameSiteStrictMode}
}

// Parameters of argon2id (RFC 9106 §4, second recommended option).
const (
	argonTime    = 3
	argonThreads = 2
)

// argonMemory is in KiB. Tests lower it: under the race detector a hash takes seconds otherwise.
var argonMemory uint32 = 64 << 10

// HashPassword makes an argon2id hash in the usual string form.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	sum := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, 32)
	enc := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", argonMemory, argonTime, argonThreads, enc(salt), enc(sum))
}

// checkPassword compares in constant time. An empty hash costs as much and never matches.
func checkPassword(hash, password string) bool {
	var m, t uint32
	var p uint8
	parts := strings.Split(hash, "$")
	salt, want := make([]byte, 16), make([]byte, 32)
	known := len(parts) == 6
	if known {
		if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
			return false
		}
		salt, _ = base64.RawStdEncoding.DecodeString(parts[4])
		want, _ = base64.RawStdEncoding.DecodeString(parts[5])
	} else {
		m, t, p = argonMemory, argonTime, argonThreads
	}
	got := argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1 && known
}
