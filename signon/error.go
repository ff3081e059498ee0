package signon

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// A Cause is why a sign-on has failed.
type Cause string

// The causes.
const (
	Unreachable  Cause = "provider_down"   // it does not answer
	BadAnswer    Cause = "provider_answer" // it answers what OpenID Connect does not allow
	CodeGone     Cause = "code_gone"       // the code was used already, or is too old
	NotTrusted   Cause = "client_refused"  // the provider does not know this server, or its secret
	ClocksDiffer Cause = "clocks_differ"   // a token is over, or not yet good, by the clock of this server
	OtherBrowser Cause = "other_browser"   // the browser has not begun what it ends
)

// An Error is a sign-on that has failed. What the provider has sent stands in Err alone, which is for the log.
type Error struct {
	Cause Cause
	Apart time.Duration // with ClocksDiffer: how far the clocks are apart, at least
	Err   error
}

func (e *Error) Error() string { return fmt.Sprintf("single sign-on: %s: %v", e.Cause, e.Err) }

// Unwrap returns what was wrong.
func (e *Error) Unwrap() error { return e.Err }

// exchangeError says why a code was not taken (RFC 6749 §5.2).
func exchangeError(err error) *Error {
	if said := new(oauth2.RetrieveError); errors.As(err, &said) {
		// The text of the answer is left out: it may hold secrets.
		err = fmt.Errorf("the provider answered with %s, %.100q", said.Response.Status, said.ErrorCode)
		switch said.ErrorCode {
		case "invalid_grant":
			return &Error{Cause: CodeGone, Err: err}
		case "invalid_client", "unauthorized_client":
			return &Error{Cause: NotTrusted, Err: err}
		}
		return &Error{Cause: BadAnswer, Err: err}
	}
	return answerError(err)
}

// answerError tells a provider that does not answer from one that answers wrong.
func answerError(err error) *Error {
	var network net.Error
	var asked *url.Error
	if errors.As(err, &network) || errors.As(err, &asked) || errors.Is(err, context.DeadlineExceeded) {
		return &Error{Cause: Unreachable, Err: err}
	}
	return &Error{Cause: BadAnswer, Err: err}
}

// tokenError says why an ID token was not taken.
func (p *Provider) tokenError(err error) *Error {
	if over := new(oidc.TokenExpiredError); errors.As(err, &over) {
		return &Error{Cause: ClocksDiffer, Apart: p.cfg.Now().Sub(over.Expiry), Err: err}
	}
	return &Error{Cause: BadAnswer, Err: err}
}
