package signin

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// A Sending is a sign-in that is about to go out.
type Sending struct {
	Scheme  string // "basic", "digest MD5", "digest SHA-256", "WS-UsernameToken"
	Channel Channel
	Renewed bool // it went out before on this channel, and the device has called its nonce too old
}

// Leave is asked each time before a sign-in goes out, the first time and with a new nonce alike: it is the one gate that every
// protocol's client passes. It returns an error in place of leave, and else a function that is told how the device has judged
// the sign-in: nil when it has taken it.
//
// Leave holds for the channel that it was asked for. A client asks again before it sends the sign-in on another one.
//
// A nil Leave gives what the zero Policy gives.
type Leave func(ctx context.Context, s Sending) (judged func(error), err error)

// Ask asks for leave.
func (l Leave) Ask(ctx context.Context, s Sending) (judged func(error), err error) {
	if l == nil {
		return Policy{}.Leave(ctx, s)
	}
	return l(ctx, s)
}

// An Agreement is how far a person has agreed that a password may be read.
type Agreement int

// The zero Agreement is none. A password that goes out over TLS can be read by whoever answers; one that goes out without TLS can be
// read by everybody on the way as well, so that agreeing to the first does not cover the second.
const (
	NotAgreed Agreement = iota
	OverTLS             // whoever answers may read it
	InClear             // whoever answers or listens may read it
)

// covers reports whether a person has agreed to what a channel shows.
func (a Agreement) covers(c Channel) bool { return a == InClear || a == OverTLS && c.TLS() }

// A Policy decides in which schemes a sign-in may be sent. The zero value lets out what does not show the password to whoever
// answers, and nothing else.
type Policy struct {
	// Service is what is signed in to; it stands in the errors.
	Service Purpose
	// Before is the strongest scheme in which the same service of the device has taken a sign-in; "" where none is known.
	Before string
	// Agreed is how far a person has agreed that the password may be read: for this device, for its model or on its site.
	Agreed Agreement
	// Certificates are those, SHA-256 in hex, whose holder is known: a person has looked at one and taken it, or this very sign-in has
	// opened the device before under it in a scheme that shows the password. A certificate that is only the same as last time is not
	// among them: it proves sameness, not who it is.
	Certificates []string
	// Unattended says that nobody has begun the work: what was agreed to is for work that a person begins.
	Unattended bool
}

// Leave gives or refuses leave by the policy alone and keeps no count. It is a signin.Leave.
func (p Policy) Leave(_ context.Context, s Sending) (judged func(error), err error) {
	return func(error) {}, p.Check(s)
}

// Check returns a *WeakerError, a *ReadableError or nil.
func (p Policy) Check(s Sending) error {
	if Strength(s.Scheme) < Strength(p.Before) {
		return &WeakerError{Service: p.Service, Before: p.Before, Now: s.Scheme}
	}
	if !Readable(s.Scheme) || s.Channel.KnownBy(p.Certificates) {
		return nil
	}
	if agreed := p.Agreed.covers(s.Channel); !agreed || p.Unattended {
		return &ReadableError{Service: p.Service, Scheme: s.Scheme, Channel: s.Channel, Agreed: agreed}
	}
	return nil
}

// hashed is the strength from which on a scheme does not show the password itself.
const hashed = 2

// Readable reports whether a scheme shows the password to whoever answers.
func Readable(scheme string) bool { return Strength(scheme) < hashed }

// Strength ranks schemes by what they tell whoever answers: 0 for none or an unknown one, 1 for the password itself (basic,
// RFC 7617), 2 for an MD5 or SHA-1 hash that can be guessed at offline (RFC 2617; WS-Security UsernameToken), 3 for a SHA-256
// one (RFC 7616).
func Strength(scheme string) int {
	switch s := strings.ToLower(scheme); {
	case s == "basic":
		return 1
	case s == "digest sha-256":
		return 3
	case strings.HasPrefix(s, "digest"), strings.HasPrefix(s, "ws-usernametoken"):
		return hashed
	}
	return 0
}

// ErrStale is told to the gate where a device has not judged a sign-in, since its nonce was too old (RFC 7616 §3.3).
var ErrStale = errors.New("the device calls the nonce too old")

// A WeakerError means that a device wants the sign-in in a weaker scheme than it has taken before. Nothing was sent: this is how
// a stranger in its place would ask for the password.
type WeakerError struct {
	Service     Purpose
	Before, Now string
}

func (e *WeakerError) Error() string {
	return fmt.Sprintf("the device wants the sign-in as %s; before it took it as %s, which is stronger", e.Now, e.Before)
}

// A ReadableError means that the sign-in would have to go out so that whoever answers, or listens, can read it, and that nobody
// has agreed to that. Nothing was sent.
type ReadableError struct {
	Service Purpose
	Scheme  string
	Channel Channel
	Agreed  bool // somebody has agreed, and nobody has begun this work
}

func (e *ReadableError) Error() string {
	switch {
	case e.Agreed:
		return fmt.Sprintf("the device takes the sign-in as %s only, which is sent in no work that goes on by itself", e.Scheme)
	case e.Channel.TLS():
		return fmt.Sprintf("at %s the sign-in is wanted as %s, over TLS to a certificate that nobody has vouched for, and nobody has agreed "+
			"to that", e.Channel, e.Scheme)
	}
	return fmt.Sprintf("the device takes the sign-in as %s only, in which the password can be read, and nobody has agreed to that", e.Scheme)
}
