// Package evidence is the append-only record that all state derives from: what was heard, reached, opened, measured and
// confirmed, each with its time. A failure is evidence too, with its diagnosis.
package evidence

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
)

// A Kind names the body that a record holds.
type Kind string

const (
	KindHeard     Kind = "heard"      // subject: method and port; body Heard
	KindLeft      Kind = "left"       // body Left
	KindReached   Kind = "reached"    // body Reached
	KindSignedIn  Kind = "signed_in"  // body SignedIn
	KindLocated   Kind = "located"    // body Located
	KindProof     Kind = "proof"      // subject: the stream's token; body Proof
	KindPlaced    Kind = "placed"     // subject: target; body Placed
	KindConfirmed Kind = "confirmed"  // subject: target; body Confirmed
	KindAddressed Kind = "addressed"  // body Addressed
	KindChannels  Kind = "channels"   // of a recorder; body Channels
	KindStreamKey Kind = "stream_key" // body StreamKey
	KindPicture   Kind = "picture"    // subject: snapshot or mjpeg; body Picture
	KindWeb       Kind = "web"        // body Web
	KindPin       Kind = "pin"        // body Pin
	KindFix       Kind = "fix"        // subject: action; body Fix
	KindScheme    Kind = "scheme"     // subject: what was signed in to (device, stream or web); body Scheme
	KindClaimed   Kind = "claimed"    // subject: address; body Claimed
	KindTuned     Kind = "tuned"      // body Tuned
	KindOffers    Kind = "offers"     // body Offers
	KindMulticast Kind = "multicast"  // subject: the stream's token; body Multicast
	KindMarked    Kind = "marked"     // body Marked
	KindWalked    Kind = "walked"     // body Walked
	KindCommanded Kind = "commanded"  // subject: the command's name; body Commanded
	KindOutside   Kind = "outside"    // subject: the stream's role; body Outside
	KindView      Kind = "view"       // body View
	KindByHand    Kind = "by_hand"    // subject: the stream's token; body StreamByHand
	KindInPack    Kind = "in_pack"    // body InPack

	KindOpenedUnder Kind = "opened_under" // subject: the ID of the sign-in; body OpenedUnder
)

// A Record is one piece of evidence about one device.
type Record struct {
	ID          uuid.UUID       `json:"id"`
	Device      uuid.UUID       `json:"device"`
	At          time.Time       `json:"at"`
	Kind        Kind            `json:"kind"`
	Subject     string          `json:"subject,omitempty"`
	Body        json.RawMessage `json:"body"`
	HasExchange bool            `json:"has_exchange"`
}

// A Body is what a record of one kind holds. The kinds of this package are all there are.
type Body interface {
	kind() Kind
	sum(subject string) string
	failure() *diagnose.Diagnosis
}

// KindOf returns the kind of the records that hold such a body.
func KindOf(b Body) Kind { return b.kind() }

// Sum returns the record in one line, for people; of a failure, what failed; of a body that cannot be read, that and why.
func (r Record) Sum() string {
	b, err := r.Read()
	if err != nil {
		return err.Error()
	}
	if d := b.failure(); d != nil {
		return d.Summary
	}
	return b.sum(r.Subject)
}

// Diagnosis is why what the record tells of failed; nil where it did not, or where it cannot be read.
func (r Record) Diagnosis() *diagnose.Diagnosis {
	b, err := r.Read()
	if err != nil {
		return nil
	}
	return b.failure()
}

// Failed reports whether the record holds a diagnosis, or cannot be read.
func (r Record) Failed() bool {
	b, err := r.Read()
	return err != nil || b.failure() != nil
}
