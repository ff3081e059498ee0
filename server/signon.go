package server

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/signon"
	"unlatch/store"
)

// A SignOn is a provider of single sign-on. Its errors are *signon.Error.
type SignOn interface {
	// Rule says what the provider's word is good for.
	Rule() act.SignOnRule
	// Begin returns the address at which a browser signs on, after which the provider sends it to redirect, and what is kept until then.
	Begin(ctx context.Context, redirect string) (address, kept string, err error)
	// Finish returns who has signed on, by what was kept and what the browser has brought back.
	Finish(ctx context.Context, kept, code, state string) (act.SignOn, error)
}

// signOns let people in who have signed on at the provider.
type signOns struct {
	sessions
	provider SignOn // nil for none
}

const (
	signOnCookie = "unlatch_sign_on"
	signOnLife   = 10 * time.Minute
	// signOnPage is the page of the front end to which the provider sends a browser back.
	signOnPage = "/sign-on"
)

// Purposes of ceremonies.
const (
	forSignOn     = "sign-on"
	forConnection = "connect"
)

// A signOnState is what is kept of a ceremony while a browser is at the provider.
type signOnState struct {
	Kept string // of the provider
	Link string // the token of the one-time link that is taken with it; empty for none
}

type signOnBody struct {
	Link string `json:"link,omitempty" maxLength:"100" doc:"the token of an invitation, for making the account with it"`
}

// signOnBegun is where the browser goes next.
type signOnBegun struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      struct {
		URL string `json:"url" doc:"the provider's page, to which the browser goes"`
	}
}

// SignOnAnswer is what a browser brings back from the provider. It is exported because huma reads exported fields only.
type SignOnAnswer struct {
	Ceremony string `cookie:"unlatch_sign_on"`
	Body     struct {
		Code  string `json:"code" minLength:"1" maxLength:"4000"`
		State string `json:"state" minLength:"1" maxLength:"200"`
	}
}

func (s signOns) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "begin-sign-on", Metadata: open, Method: "POST", Path: "/api/sign-on/begin",
		Summary: "Sign in by the provider of single sign-on: where the browser goes"},
		func(ctx context.Context, in *struct {
			Caller
			Body signOnBody
		}) (*signOnBegun, error) {
			if wait := s.addresses.begin(in.addr); wait > 0 {
				return nil, tooFast(wait)
			}
			return s.beginAt(ctx, forSignOn, in.Body.Link, act.Person{})
		})
	register(s, api, huma.Operation{OperationID: "finish-sign-on", Metadata: open, Method: "POST", Path: "/api/sign-on/finish",
		Summary: "Sign in by what the browser has brought back from the provider"},
		func(ctx context.Context, in *struct {
			Caller
			SignOnAnswer
		}) (*cookieOut, error) {
			p, err := s.letIn(ctx, in.SignOnAnswer)
			if err != nil {
				return nil, err
			}
			s.addresses.passed(in.addr)
			out, err := s.start(ctx, p)
			if err == nil {
				out.SetCookie = append(out.SetCookie, s.cookie(signOnCookie, "", -1))
			}
			return out, err
		})
	register(s, api, huma.Operation{OperationID: "begin-connection", Metadata: ownReads, Method: "POST", Path: "/api/session/sign-on/begin",
		Summary: "Connect one's account to the provider of single sign-on: where the browser goes"},
		func(ctx context.Context, in *struct {
			Caller
			Body passwordBody
		}) (*signOnBegun, error) {
			if err := s.confirmPassword(ctx, person(ctx).Name, in.Body.Password, in.Caller); err != nil {
				return nil, err
			}
			return s.beginAt(ctx, forConnection, "", person(ctx))
		})
	register(s, api, huma.Operation{OperationID: "connect-sign-on", Metadata: own, Method: "POST", Path: "/api/session/sign-on",
		Summary: "Connect one's account by what the browser has brought back from the provider"},
		func(ctx context.Context, in *SignOnAnswer) (*struct{}, error) {
			who, _, err := s.finishAt(ctx, forConnection, *in)
			if err != nil {
				return nil, err
			}
			_, err = s.desk().Do(ctx, person(ctx), act.ConnectSignOn{Issuer: who.Issuer, Subject: who.Subject,
				Provider: s.provider.Rule().Provider, Ceremony: store.HashOfToken(in.Ceremony)})
			if errors.Is(err, store.ErrTaken) {
				return nil, nameTaken()
			}
			return nil, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "disconnect-sign-on", Metadata: own, Method: "POST", Path: "/api/session/sign-on/disconnect",
		Summary: "End the connection of one's account to the provider: only the password lets in then"},
		func(ctx context.Context, in *struct {
			Caller
			Body passwordBody
		}) (*struct{}, error) {
			if err := s.confirmPassword(ctx, person(ctx).Name, in.Body.Password, in.Caller); err != nil {
				return nil, err
			}
			return s.keep(ctx, act.DisconnectSignOn{})
		})
}

// beginAt begins a ceremony and sends the browser to the provider.
func (s signOns) beginAt(ctx context.Context, purpose, link string, p act.Person) (*signOnBegun, error) {
	if s.provider == nil {
		return nil, noProvider()
	}
	url, kept, err := s.provider.Begin(ctx, originOf(ctx).origin+signOnPage)
	if err != nil {
		return nil, s.signOnProblem(err)
	}
	raw, err := json.Marshal(signOnState{kept, link})
	if err != nil {
		return nil, s.explain(err)
	}
	token := newToken()
	if err := s.store.BeginCeremony(ctx, token, store.Ceremony{Purpose: purpose, Person: p.ID, State: string(raw),
		Until: time.Now().Add(signOnLife)}); err != nil {
		return nil, s.explain(err)
	}
	out := &signOnBegun{SetCookie: []http.Cookie{s.cookie(signOnCookie, token, int(signOnLife.Seconds()))}}
	out.Body.URL = url
	return out, nil
}

// finishAt returns who has signed on. Whoever calls it ends the ceremony.
func (s signOns) finishAt(ctx context.Context, purpose string, in SignOnAnswer) (who act.SignOn, link string, err error) {
	if s.provider == nil {
		return who, "", noProvider()
	}
	var c store.Ceremony
	if p := person(ctx); p.ID == uuid.Nil {
		c, err = s.store.TryCeremony(ctx, in.Ceremony, purpose)
	} else {
		c, err = s.store.Ceremony(ctx, in.Ceremony, purpose, p.ID)
	}
	if errors.Is(err, store.ErrNotFound) {
		return who, "", signOnGone()
	}
	if err != nil {
		return who, "", s.explain(err)
	}
	var state signOnState
	if err := json.Unmarshal([]byte(c.State), &state); err != nil {
		return who, "", s.explain(err)
	}
	who, err = s.provider.Finish(ctx, state.Kept, in.Body.Code, in.Body.State)
	if err != nil {
		return who, "", s.signOnProblem(err)
	}
	return who, state.Link, nil
}

// letIn returns whose session begins. The account is made, or its role is changed, as the rule says, with its line in the record.
func (s signOns) letIn(ctx context.Context, in SignOnAnswer) (p act.Person, err error) {
	who, link, err := s.finishAt(ctx, forSignOn, in)
	if err != nil {
		return p, err
	}
	acts := s.store.Acts()
	err = acts.Together(ctx, func(ctx context.Context) error {
		if mine, err := s.store.EndCeremony(ctx, in.Ceremony); err != nil || !mine {
			return cmp.Or(err, error(signOnGone()))
		}
		if link != "" {
			if p, err = s.store.People.TakeLink(ctx, link, store.Taking{SignOn: who}); err != nil {
				return err
			}
			return acts.Write(ctx, p, act.About{Name: "take-link"}, act.Line{Subject: p.Name, After: act.Standing{Role: p.Role,
				Sites: p.Sites}.String()})
		}
		p, err = s.admit(ctx, who)
		return err
	})
	switch {
	case errors.Is(err, store.ErrTaken):
		return p, nameTaken()
	case link != "" && errors.Is(err, store.ErrNotFound):
		return p, linkGone()
	}
	return p, s.explain(err)
}

// admit returns the account of somebody who has signed on, in the role that counts now.
func (s signOns) admit(ctx context.Context, who act.SignOn) (act.Person, error) {
	rule, acts := s.provider.Rule(), s.store.Acts()
	known, err := s.store.People.BySignOn(ctx, who)
	if errors.Is(err, store.ErrNotFound) {
		role, err := rule.Admit(who, nil)
		if err != nil {
			return act.Person{}, err
		}
		p, err := s.store.People.AddBySignOn(ctx, who, role)
		if err != nil {
			return p, err
		}
		return p, acts.Write(ctx, p, act.About{Name: "sign-in-by-provider"}, act.Line{Subject: rule.Provider, After: string(role)})
	}
	if err != nil {
		return known, err
	}
	role, err := rule.Admit(who, &known)
	if err != nil || role == known.Role {
		return known, err
	}
	before := known.Role
	if err := s.store.People.SetRole(ctx, known, role); err != nil {
		return known, err
	}
	known.Role = role
	return known, acts.Write(ctx, known, act.About{Name: "sign-in-by-provider"}, act.Line{Subject: rule.Provider, Before: string(before),
		After: string(role)})
}

func nameTaken() *Problem {
	return problem(http.StatusConflict, "name_taken", "Another account here has your name, or is connected to your account at the provider.",
		"If it is yours, sign in with its password, and connect it on the page Your account. Else ask an owner.")
}

func noProvider() *Problem {
	return problem(http.StatusNotFound, "no_provider", "This Unlatch has no single sign-on.", "Sign in with your password.")
}

func signOnGone() *Problem {
	return problem(http.StatusGone, "sign_on_gone", "This sign-on took too long, was begun in another browser, or was used already.",
		"Begin again.")
}

// signOnProblem says why a sign-on has failed. What the provider has sent goes to the log.
func (s signOns) signOnProblem(err error) error {
	bad := new(signon.Error)
	if !errors.As(err, &bad) {
		return s.explain(err)
	}
	s.log.Warn("Single sign-on has failed", "cause", bad.Cause, "err", bad.Err)
	name := s.provider.Rule().Provider
	status, detail, fix := http.StatusBadGateway, name+" answers what this server does not understand.",
		"Sign in with your password if you have one. What was wrong stands in the log of the server."
	switch bad.Cause {
	case signon.Unreachable:
		detail, fix = name+" does not answer.", "Try again later, or sign in with your password if you have one."
	case signon.NotTrusted:
		detail, fix = name+" does not know this Unlatch.",
			"Whoever looks after the server: compare --oidc-client and UNLATCH_OIDC_SECRET with what the provider has."
	case signon.ClocksDiffer:
		detail = fmt.Sprintf("The clocks of %s and of this server differ by %s or more.", name, bad.Apart.Round(time.Second))
		fix = "Set the clock of the server, by NTP if it can be."
	case signon.CodeGone:
		status, detail, fix = http.StatusGone, name+" has not taken the code back: it was used already, or is too old.", "Begin again."
	case signon.OtherBrowser:
		return signOnGone()
	}
	return problem(status, string(bad.Cause), detail, fix)
}
