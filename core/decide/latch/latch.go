// Package latch derives how far a camera is: eight latches between "somewhere on this wire" and "handed over". A latch is
// never set; Derive is a pure function of evidence and intent.
package latch

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/fit"
	"unlatch/core/decide/identity"
	"unlatch/core/decide/outside"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/conversion"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target"
)

// A Name is one of the eight latches.
type Name string

const (
	Heard     Name = "heard"
	Reachable Name = "reachable"
	SignedIn  Name = "signed_in"
	Located   Name = "located"
	Proven    Name = "proven"
	Tuned     Name = "tuned"
	Placed    Name = "placed"
	Confirmed Name = "confirmed"
)

// Names in the order in which they open.
var Names = []Name{Heard, Reachable, SignedIn, Located, Proven, Tuned, Placed, Confirmed}

// A State is how a latch stands.
type State string

const (
	Open  State = "open"
	Next  State = "next"  // the one to work on
	Stuck State = "stuck" // tried, with a diagnosis
	// Waiting is for somebody or something that the reason names; nothing stands in the way.
	Waiting State = "waiting"
	Waived  State = "waived" // passed over, with a reason
	Stale   State = "stale"  // was open; what it rested on has changed
	Closed  State = "closed" // not its turn yet
)

// A Latch is one latch's state with its reason.
type Latch struct {
	Name      Name                `json:"name"`
	State     State               `json:"state" enum:"open,next,waiting,stuck,waived,stale,closed"`
	Reason    string              `json:"reason,omitempty"`
	Since     *time.Time          `json:"since,omitempty"`
	Evidence  *uuid.UUID          `json:"evidence,omitempty"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Intent is what the person wants of a device.
type Intent struct {
	Targets []Target
	// SharedWith names the other devices that were last heard at the same address; not intent, but no evidence of one device either.
	SharedWith []string
	// Consent is until when a stray may be reached all the same; zero for no consent. Whether it has ended is the caller's to say.
	Consent time.Time
	// Agreed tells when a person last agreed that a sign-in may go out to a device of a model so that it can be read, and how far: for the
	// device, its model or its site; nil or a zero time for never.
	Agreed func(model string) (time.Time, signin.Agreement)
	// Roles are the roles that a person gave to streams, by the device's token; they go before the rule's.
	Roles map[string]string
	// Outside is how the site is seen from outside.
	Outside outside.Form
	// Recorder is the name that a person gave to the recorder that a camera is reached through.
	Recorder string
	// Plans tells the plans that the device of a model falls under: its own, that of a selection, of its model, of its site; nil for none.
	Plans func(model string) []tuning.Layer
}

// A Target is a wanted placement.
type Target struct {
	ID     uuid.UUID
	Kind   target.Kind
	Name   string
	Intake *intake.Intake // what it accepts; nil where nobody has said
	Role   string         // the stream that a person wants it to have; "" for the rule's own choice
	Slot   string         // the token of the slot that is wanted; "" for the first free one
	// Through says that it takes channels of a recorder and no cameras, Both that it takes main and sub together.
	Through, Both bool
	// Elsewhere says that it stands outside the site, and asks for streams by the site's outside address.
	Elsewhere bool
	// SilentSince is since when it cannot be asked; zero where it answered when it was last asked.
	SilentSince time.Time
	// Relay is the stream served on that it is given in place of the camera's own; nil for none.
	Relay *Relay
}

// A Relay is a stream of a camera that is served on for a target.
type Relay struct {
	ID   uuid.UUID
	Role string // of the stream
	URL  string // without the sign-in
	Form conversion.Shape
	// Key stands for its sign-in, which is on no keyring: another one has another.
	Key uuid.UUID
}

// A Given is a stream that a target has, or shall have.
type Given struct {
	Role string `json:"role"`
	URL  string `json:"url"`
}

// PlacementState is how a placement stands, in one word.
type PlacementState string

// The states of a placement.
const (
	PlacementConfirmed PlacementState = "confirmed" // the target shows the picture
	PlacementWaiting   PlacementState = "waiting"   // not placed yet, or its picture is not confirmed yet
	PlacementStale     PlacementState = "stale"     // the target has an old URL or sign-in, or cannot be asked any more
	PlacementBroken    PlacementState = "broken"    // the diagnosis says why
)

// A Placement is how one wanted target stands.
type Placement struct {
	Target    uuid.UUID      `json:"target"`
	Kind      target.Kind    `json:"kind"`
	Name      string         `json:"name"`
	Slot      string         `json:"slot,omitempty"`
	Token     string         `json:"token,omitempty" doc:"the target's own name of the slot"`
	Wanted    string         `json:"wanted,omitempty" doc:"the token of the slot that somebody wants it in"`
	Role      string         `json:"role,omitempty" doc:"the stream that somebody wants it to have; missing for the rule's own choice"`
	Ref       string         `json:"-"` // the driver's own reference
	PlacedAt  time.Time      `json:"-"` // when it was recorded last that the target took it, lost it, or did not take it
	Untaken   bool           `json:"-"` // the target did not take it when it was placed last
	Intake    *intake.Intake `json:"-"` // what the target accepts; nil where nobody has said
	Gives     []Given        `json:"gives" doc:"the streams that it shall have"`
	Whose     string         `json:"whose,omitempty" doc:"whose sign-in it is given: the camera's, its stream user's, the recorder's"`
	SignIn    uuid.UUID      `json:"-"` // that entry of the keyring
	From      uuid.UUID      `json:"from,omitzero" doc:"the target whose channel it is given, where it takes no cameras"`
	Relay     uuid.UUID      `json:"relay,omitzero" doc:"the relay through which it gets the stream"`
	As        string         `json:"as,omitempty" doc:"what the relay turns the stream into, in words"`
	Through   *fit.Stream    `json:"-"` // as the relay serves it; nil where it goes through none, or is not known
	Misfit    []fit.Reason   `json:"misfit,omitempty" doc:"why it takes none of the streams"`
	Moved     bool           `json:"moved,omitempty" doc:"the target still has a URL or a sign-in that is no longer the camera's"`
	Old       string         `json:"old,omitempty" doc:"what of it is old"`
	State     PlacementState `json:"state" enum:"confirmed,waiting,stale,broken"`
	Confirmed bool           `json:"confirmed"`
	Report    string         `json:"report,omitempty" doc:"what the target itself says"`
	Match     string         `json:"match,omitempty" doc:"the target's own picture against the camera's"`
	Still     *uuid.UUID     `json:"still,omitempty" doc:"the picture that the target shows"`
	Note      string         `json:"note,omitempty" doc:"what a person should know besides"`
	// ConfirmedAt is when the target said so last, and SilentSince since when it has not answered.
	ConfirmedAt time.Time `json:"confirmed_at,omitzero"`
	SilentSince time.Time `json:"silent_since,omitzero" doc:"the target could not be asked since then: what it said before is old"`
	// Waits is what the picture waits for, WaitsSince when that began, and WaitsUntil when the target can begin, by its own word.
	Waits      trouble.Wait        `json:"waits,omitempty" enum:"connect,fetch,screen,person" doc:"what its picture waits for, that nothing stands in the way of"`
	WaitsSince time.Time           `json:"waits_since,omitzero"`
	WaitsUntil time.Time           `json:"waits_until,omitzero"`
	SendsOn    []Given             `json:"-"`
	Diagnosis  *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Status is everything that evidence and intent say of a device.
type Status struct {
	Latches    []Latch
	Device     identity.Device
	Reached    *evidence.Reached
	SignedIn   *evidence.SignedIn
	Streams    []camera.Stream
	Located    *evidence.Located
	Outside    map[string]evidence.Outside // what came of playing each stream from elsewhere, by role
	Commanded  []evidence.Commanded        // what stands on it that it was told on its maker's own page, or was begun
	ByHand     []evidence.StreamByHand     // streams that people have given, those too that were taken away again
	Proofs     map[string]evidence.Proof   // the latest of each stream, by role; see Proves
	Placements []Placement
	HeardAt    time.Time
	LeftAt     time.Time // when it said goodbye, where nothing was heard of it since
	Addressed  *evidence.Addressed
	Channels   []camera.Channel            // that a recorder sends on
	Via        string                      // name of the recorder that it is reached through
	Consent    time.Time                   // until when a stray may be reached; zero for no consent
	StreamKey  *evidence.StreamKey         // the streams' own sign-in; nil where the device's opens them
	Pictures   map[string]evidence.Picture // snapshot and mjpeg
	Web        *evidence.Web
	Pin        *evidence.Pin                 // the certificate of its streams over TLS
	Fixes      []evidence.Fix                // that can be undone, in order of time
	PutBack    PutBack                       // the changes whose last word is that they were taken back
	Multicast  map[string]evidence.Multicast // how its streams are sent to groups, by role, as far as that was asked
	Marked     *evidence.Marked              // a nudge or a label that still stands on it; nil for none
	View       *evidence.View                // whether it shows the view that it is known by; nil where that was not judged
	Walked     *Walk                         // the last walk test in which it was seen; nil for none
	Tuning     *evidence.Tuned               // how its streams were set, where that stands; nil where nobody has
	Offers     *evidence.Offers              // what it can be set to; nil where it was not asked
	Plan       tuning.Plan                   // what is wanted of its streams, whoever's plan it is
	Whose      map[string]tuning.Layer
	Tunes      map[string]Tune  // how each stream stands to the plan, by role
	Heard      []evidence.Heard // the newest of each method and port, oldest first
	// Schemes are the strongest schemes in which its services have taken a sign-in, by purpose.
	Schemes map[string]string
	// Before is where it was before it moved, while nothing that a stranger lacks says that it is the same device; zero once it is
	// known again.
	Before netip.Addr
	// Agreed is when a person agreed that its sign-in may go out so that it can be read; zero where nobody has, or where that was
	// before it moved and it is not known again.
	Agreed time.Time
	// AgreedTo is how far that agreement goes.
	AgreedTo signin.Agreement
	// OpenedUnder are the certificates under which sign-ins have opened it in a scheme that shows the password, by the ID of the sign-in.
	OpenedUnder map[string]string
	// Claims are other addresses that say they are this device, oldest first.
	Claims []evidence.Claimed
	// Unreadable are the latest records of their kinds that this program cannot read.
	Unreadable []Unreadable
}

// PutBack are the changes on a device of which the last that is known is that they were taken back. Taking one back again is no
// mistake: the work that did it may have been killed right after.
type PutBack struct {
	Fixes    map[evidence.FixAction]bool
	Commands map[string]bool
	Tuning   bool
	Mark     bool
}

// A Walk is a walk test that a camera has passed: somebody who walked past it was seen in its picture.
type Walk struct {
	By string    `json:"by" doc:"who said so"`
	At time.Time `json:"at"`
}

// An Unreadable is a record whose body cannot be read, as something to tell the person.
type Unreadable struct {
	Record    uuid.UUID          `json:"record"`
	Kind      evidence.Kind      `json:"kind"`
	Subject   string             `json:"subject,omitempty"`
	Diagnosis diagnose.Diagnosis `json:"diagnosis"`
}

// Model is maker and model in its own words, once it was signed in to; "" until then.
func (s *Status) Model() string {
	if s.SignedIn == nil {
		return ""
	}
	return strings.TrimSpace(s.SignedIn.Info.Manufacturer + " " + s.SignedIn.Info.Model)
}

// AsTarget returns what a recorder that was signed in to says of itself as a target.
func (s *Status) AsTarget() target.About {
	out := target.About{Kind: "recorder"}
	if in := s.SignedIn; in != nil {
		out.Maker, out.Model, out.Serial = in.Info.Manufacturer, in.Info.Model, in.Info.Serial
	}
	return out
}

// Policy says in which schemes a sign-in may go out to a service of the device. A readable one goes out only in work that a person has
// begun. key is the entry of the keyring.
func (s *Status) Policy(purpose signin.Purpose, key uuid.UUID, attended bool) signin.Policy {
	p := signin.Policy{Service: purpose, Before: s.Schemes[string(purpose)], Agreed: s.AgreedTo, Unattended: !attended}
	if s.Pin != nil && s.Pin.TakenByPerson() {
		p.Certificates = append(p.Certificates, s.Pin.Certificate.SHA256)
	}
	if c := s.OpenedUnder[key.String()]; c != "" {
		p.Certificates = append(p.Certificates, c)
	}
	return p
}

// Wanted returns how the device wants a sign-in that was not sent, where the latch that it waits at is stuck for that; nil otherwise.
func (s *Status) Wanted() *trouble.Wanted {
	at := s.At()
	if at == "" {
		return nil
	}
	if d := s.Latch(at).Diagnosis; d != nil {
		return d.Wanted
	}
	return nil
}

// AgreesTo returns how far somebody agrees who agrees now that the device's sign-in may be read: over TLS where it is wanted like that.
func (s *Status) AgreesTo() signin.Agreement {
	if w := s.Wanted(); w != nil && w.Certificate != "" {
		return signin.OverTLS
	}
	return signin.InClear
}

// InScope reports whether the device may be connected to: it lies in the ranges, or a person has consented.
func (s *Status) InScope() bool { return !s.Device.Stray || !s.Consent.IsZero() }

// StreamSignIn returns the sign-in that the streams are played with: their own where they have one, else the device's. key is the nil UUID
// where there is none.
func (s *Status) StreamSignIn() (key uuid.UUID, label, user string) {
	switch {
	case s.StreamKey != nil:
		return s.StreamKey.SignIn, s.StreamKey.Label, s.StreamKey.User
	case s.SignedIn != nil:
		return s.SignedIn.SignIn, s.SignedIn.Label, s.SignedIn.User
	}
	return uuid.Nil, "", ""
}

// At returns the first latch that is neither open nor waived, or "" when all are.
func (s *Status) At() Name {
	for _, l := range s.Latches {
		if l.State != Open && l.State != Waived {
			return l.Name
		}
	}
	return ""
}

// Latch returns one latch.
func (s *Status) Latch(n Name) *Latch { return &s.Latches[slices.Index(Names, n)] }

// StandsSince returns when the device came to the latch that it stands at: when that got stuck, or when the one before opened. It is nil
// where every latch is open, or nobody knows.
func (s *Status) StandsSince() *time.Time {
	var before *time.Time
	for i := range s.Latches {
		l := &s.Latches[i]
		if l.Name != s.At() {
			if l.Since != nil {
				before = l.Since
			}
			continue
		}
		if l.State == Stuck && l.Since != nil {
			return l.Since
		}
		return before
	}
	return nil
}
