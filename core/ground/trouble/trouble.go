// Package trouble lets an error say why something did not work in a way that programs can act on: a cause of a closed set and
// the facts that a sentence about it needs. Errors of core implement Teller; package diagnose makes the sentences.
package trouble

import (
	"time"

	"github.com/google/uuid"
)

// A Trouble is a cause and its facts.
type Trouble struct {
	Cause Cause
	// Form tells apart the sentences that one cause has; "" is the plain one.
	Form string
	// Facts are what the sentences name.
	Facts Facts
	// Seen is the observation that proves the cause; "" means the text of the error.
	Seen string
	// Until is when the wait that the cause speaks of ends; zero if it speaks of none.
	Until time.Time
	// Wanted is how a sign-in or another secret was wanted that was not sent; nil if the cause is about something else.
	Wanted *Wanted
}

// Facts are the values of a Trouble by the names under which sentences use them.
type Facts map[string]any

// A Wanted is how a device or target wants a sign-in, where a person has to agree to that first.
type Wanted struct {
	Service     string    `json:"service,omitempty" doc:"what is signed in to: device, stream, web or target"`
	Target      uuid.UUID `json:"target,omitzero" doc:"the target that a person has to agree for"`
	Secret      string    `json:"secret,omitempty" doc:"of a target: what would go to it"`
	Scheme      string    `json:"scheme,omitempty" doc:"basic, digest MD5 …"`
	Before      string    `json:"before,omitempty" doc:"the stronger one in which it was taken before"`
	At          string    `json:"at,omitempty" doc:"scheme, host and port"`
	Certificate string    `json:"certificate,omitempty" doc:"SHA-256 of the one that was shown there; missing without TLS"`
}

// A Teller is an error that says its cause and facts itself.
type Teller interface {
	error
	Trouble() Trouble
}

// Of returns the trouble that err tells, and the error in its tree that tells it. The outermost Teller counts, except that one
// whose cause kept us from sending anything goes before one that speaks of an answer. Errors of the network and of a context
// that has ended are no Tellers and are read here. For any other error the cause is Unknown.
func Of(err error) (Trouble, error) {
	var best Teller
	for t := range tellers(err) {
		if best == nil || !kept[best.Trouble().Cause] && kept[t.Trouble().Cause] {
			best = t
		}
	}
	if best != nil && !stopped(err) {
		return best.Trouble(), best
	}
	return ofSystem(err), err
}

// tellers yields the Tellers in the tree of err, outer ones before those that they wrap.
func tellers(err error) func(yield func(Teller) bool) {
	return func(yield func(Teller) bool) { walk(err, yield) }
}

// walk reports whether the walk goes on.
func walk(err error, yield func(Teller) bool) bool {
	if t, ok := err.(Teller); ok && !yield(t) {
		return false
	}
	switch e := err.(type) {
	case interface{ Unwrap() error }:
		if inner := e.Unwrap(); inner != nil {
			return walk(inner, yield)
		}
	case interface{ Unwrap() []error }:
		for _, inner := range e.Unwrap() {
			if !walk(inner, yield) {
				return false
			}
		}
	}
	return true
}
