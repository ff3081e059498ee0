package signin

import (
	"context"
	"fmt"
	"strings"
)

// A Sending is a sign-in that is about to go out.
type Sending struct {
	Scheme  string // "basic", "digest MD5", "digest SHA-256", "WS-UsernameToken"
	Private bool   // over TLS, to the certificate that the device is known by
	Renewed bool   // it went out before on this connection, and the device has called its nonce too old
}

// Leave is asked each time before a sign-in goes out, the first time and with a new nonce alike: it is the one gate that every
// protocol's client passes. It returns an error in place of leave, and else a function that is told how the device has judged
// the sign-in: nil when it has taken it.
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

// A Policy decides in which schemes a sign-in may be sent. The zero value lets out what does not show the password to whoever
// answers, and nothing else.
type Policy struct {
	// Before is the strongest scheme in which the same service of the device has taken a sign-in; "" where none is known.
	Before string
	// Readable says that a person has agreed to send the password so that it can be read: to this device, to its model or on
	// its site.
	Readable bool
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
		return &WeakerError{Before: p.Before, Now: s.Scheme}
	}
	if Strength(s.Scheme) < hashed && !s.Private && (!p.Readable || p.Unattended) {
		return &ReadableError{Scheme: s.Scheme, Agreed: p.Readable}
	}
	return nil
}

// hashed is the strength from which on a scheme does not show the password itself.
const hashed = 2

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

// A WeakerError means that a device wants the sign-in in a weaker scheme than it has taken before. Nothing was sent: this is how
// a stranger in its place would ask for the password.
type WeakerError struct{ Before, Now string }

func (e *WeakerError) Error() string {
	return fmt.Sprintf("the device wants the sign-in as %s; before it took it as %s, which is stronger", e.Now, e.Before)
}

// A ReadableError means that the sign-in would have to go out so that whoever answers, or listens, can read it, and that nobody
// has agreed to that. Nothing was sent.
type ReadableError struct {
	Scheme string
	Agreed bool // somebody has agreed, and nobody has begun this work
}

func (e *ReadableError) Error() string {
	if e.Agreed {
		return fmt.Sprintf("the device takes the sign-in as %s only, which is sent in no work that goes on by itself", e.Scheme)
	}
	return fmt.Sprintf("the device takes the sign-in as %s only, in which the password can be read, and nobody has agreed to that", e.Scheme)
}
