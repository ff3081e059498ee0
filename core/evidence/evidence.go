// Package evidence is the append-only record that all state derives from: what was heard, reached, opened, measured and
// confirmed, each with its time. A failure is evidence too, with its diagnosis.
package evidence

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/diagnose"
	"unlatch/core/discovery"
	"unlatch/core/ladder"
	"unlatch/core/onvif"
	"unlatch/core/picture"
	"unlatch/core/prove"
	"unlatch/core/readdress"
	"unlatch/core/remedy"
	"unlatch/core/rtsp"
)

// A Kind names the body that a record holds.
type Kind string

const (
	KindHeard     Kind = "heard"      // subject: method and port; body Heard
	KindLeft      Kind = "left"       // body Left
	KindReached   Kind = "reached"    // body Reached
	KindSignedIn  Kind = "signed_in"  // body SignedIn
	KindLocated   Kind = "located"    // body Located
	KindProof     Kind = "proof"      // subject: tier; body Proof
	KindPlaced    Kind = "placed"     // subject: target device; body Placed
	KindConfirmed Kind = "confirmed"  // subject: target device; body Confirmed
	KindAddressed Kind = "addressed"  // body Addressed
	KindChannels  Kind = "channels"   // of a recorder; body Channels
	KindStreamKey Kind = "stream_key" // body StreamKey
	KindPicture   Kind = "picture"    // subject: snapshot or mjpeg; body Picture
	KindWeb       Kind = "web"        // body Web
	KindPin       Kind = "pin"        // body Pin
	KindRemedy    Kind = "remedy"     // subject: action; body Remedy
	KindScheme    Kind = "scheme"     // subject: what was signed in to (device, stream or web); body Scheme
	KindClaimed   Kind = "claimed"    // subject: address; body Claimed
)

// A Record is one piece of evidence about one device.
type Record struct {
	ID          uuid.UUID       `db:"id" json:"id"`
	Device      uuid.UUID       `db:"device_id" json:"device"`
	At          time.Time       `db:"at" json:"at"`
	Kind        Kind            `db:"kind" json:"kind"`
	Subject     string          `db:"subject" json:"subject,omitempty"`
	Body        json.RawMessage `db:"body" json:"body"`
	HasExchange bool            `db:"has_exchange" json:"has_exchange"`
}

// Heard is one sighting.
type Heard = discovery.Sighting

// Left is a device's own word that it leaves the network (WS-Discovery §4.2); when is all that it says.
type Left struct{}

// Reached is the outcome of asking the device's ports.
type Reached struct {
	Addr      netip.Addr          `json:"addr"`
	Service   string              `json:"service,omitempty" doc:"address of the device service that answered"`
	SkewMS    int64               `json:"skew_ms,omitempty" doc:"device clock minus ours"`
	Stream    string              `json:"stream,omitempty" doc:"where the stream service answers, of a device without a device service"`
	Ladder    *ladder.Server      `json:"ladder,omitempty" doc:"how that stream service judges requests"`
	Before    *netip.Addr         `json:"before,omitempty" doc:"where it was before it moved here, where that is not confirmed by what it told then"`
	Known     string              `json:"known,omitempty" doc:"by what it was known again after a move: certificate or hardware address"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// SignedIn is the outcome of trying the keyring.
type SignedIn struct {
	SignIn     uuid.UUID           `json:"sign_in"`
	Label      string              `json:"label,omitempty"`
	User       string              `json:"user,omitempty"`
	Scheme     string              `json:"scheme,omitempty"`
	Info       onvif.Info          `json:"info"`
	MAC        string              `json:"mac,omitempty"`
	Protocols  []onvif.Protocol    `json:"protocols,omitempty" doc:"the network services that the device names, with their ports"`
	Recorder   bool                `json:"recorder,omitempty" doc:"the device has receiver and recording services"`
	StreamOnly bool                `json:"stream_only,omitempty" doc:"it is the stream service that was opened: the device has no other"`
	Open       bool                `json:"open,omitempty" doc:"the device lets anyone in"`
	Level      string              `json:"level,omitempty" doc:"of that user, by the device's own word: Administrator, Operator or User"`
	Factory    bool                `json:"factory,omitempty" doc:"the sign-in is one that devices have from the factory"`
	Tried      []string            `json:"tried,omitempty" doc:"labels of the sign-ins that were tried"`
	Diagnosis  *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Located is the list of stream URLs.
type Located struct {
	Addr      netip.Addr          `json:"addr" doc:"where the device was when it named them; missing in old records"`
	Streams   []onvif.Stream      `json:"streams"`
	Shape     string              `json:"shape,omitempty" doc:"the recipe's shape, where the paths were found by trying"`
	Recipe    string              `json:"recipe,omitempty"`
	Tried     []ladder.Tried      `json:"tried,omitempty" doc:"paths that were tried"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Proof is a proof of one URL, with the stored still.
type Proof struct {
	prove.Proof
	PlainURL string     `json:"plain_url" doc:"the URL without any sign-in"`
	Still    *uuid.UUID `json:"still,omitempty"`
}

// Placed is the outcome of putting the camera on a target.
type Placed struct {
	Slot      string              `json:"slot,omitempty"`
	URL       string              `json:"url,omitempty" doc:"what the target was given, without the sign-in"`
	Receiver  string              `json:"receiver,omitempty"`
	Job       string              `json:"job,omitempty"`
	Removed   bool                `json:"removed,omitempty"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Confirmed is what the target itself reports.
type Confirmed struct {
	State     string              `json:"state,omitempty" doc:"the receiver's state"`
	Recording string              `json:"recording,omitempty" doc:"the recording job's state"`
	AfterMS   int64               `json:"after_ms,omitempty" doc:"from placing to the target's report"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Addressed is the outcome of giving the device another address.
type Addressed struct {
	Pending   bool                `json:"pending,omitempty" doc:"recorded before it was sent; what came of it is not known yet"`
	Before    readdress.Setting   `json:"before" doc:"what undo sends"`
	To        readdress.Setting   `json:"to"`
	After     readdress.Setting   `json:"after" doc:"what the device itself says since"`
	Steps     []readdress.Step    `json:"steps"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// StreamKey is a sign-in of the streams' own, where another opens the device service.
type StreamKey struct {
	SignIn  uuid.UUID `json:"sign_in"`
	Label   string    `json:"label,omitempty"`
	User    string    `json:"user,omitempty"`
	Made    bool      `json:"made,omitempty" doc:"Unlatch made the user on the device"`
	Removed bool      `json:"removed,omitempty"`
}

// Picture is a snapshot or motion JPEG stream that was asked for.
type Picture struct {
	picture.Picture
	None      bool                `json:"none,omitempty" doc:"it was looked for, and there is none at any likely address"`
	Label     string              `json:"label,omitempty" doc:"of the sign-in that opened it"`
	Still     *uuid.UUID          `json:"still,omitempty"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Web is the outcome of asking for the device's own page.
type Web struct {
	URL       string              `json:"url"`
	Scheme    string              `json:"scheme,omitempty"`
	Label     string              `json:"label,omitempty" doc:"of the sign-in that opened it"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Pin is the certificate that a device is known by: the first that it showed, or one that a person has taken since.
type Pin struct {
	Certificate rtsp.Certificate `json:"certificate"`
	Before      string           `json:"before,omitempty" doc:"SHA-256 of the one before"`
}

// Remedy is a change that was made on the device so that it can be used, read back.
type Remedy struct {
	Pending   bool                `json:"pending,omitempty" doc:"recorded before it was sent; what came of it is not known yet"`
	User      string              `json:"user,omitempty" doc:"of a stream user: its name"`
	Action    remedy.Action       `json:"action"`
	Before    string              `json:"before" doc:"what undo puts back"`
	After     string              `json:"after"`
	Undone    bool                `json:"undone,omitempty"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Channels is what a recorder tells of the channels that it sends on.
type Channels struct {
	Channels  []onvif.Channel     `json:"channels"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Scheme is the strongest scheme in which a service of the device has taken a sign-in; a weaker one is refused from then on.
type Scheme struct {
	Scheme string `json:"scheme"`
	Before string `json:"before,omitempty" doc:"of a weaker one that a person has agreed to: what it was"`
}

// Claimed is another address that says it is this device while the device still answers at its own.
type Claimed struct {
	Addr      netip.Addr `json:"addr"`
	Still     netip.Addr `json:"still" doc:"where the device itself answered at that moment"`
	Method    string     `json:"method"`
	Dismissed bool       `json:"dismissed,omitempty" doc:"a person has seen it and it is no longer shown"`
}

// Sum is a record in one line, for people.
func (r Record) Sum() string {
	switch r.Kind {
	case KindHeard:
		return summarise(r.Body, func(b Heard) (string, *diagnose.Diagnosis) {
			if len(b.Ports) > 0 {
				return fmt.Sprintf("Heard at %s: port %s", b.Addr, b.Ports[0]), nil
			}
			if b.Via != nil {
				return fmt.Sprintf("The recorder tells of it as channel %d", b.Channel), nil
			}
			return fmt.Sprintf("Heard at %s by %s", b.Addr, b.Method), nil
		})
	case KindLeft:
		return "It said goodbye: it is being switched off, restarted or given another address"
	case KindReached:
		return summarise(r.Body, func(b Reached) (string, *diagnose.Diagnosis) {
			if b.Stream != "" {
				return fmt.Sprintf("No device service; the stream service answers at %s", b.Stream), b.Diagnosis
			}
			return fmt.Sprintf("Device service answers at %s", b.Addr), b.Diagnosis
		})
	case KindSignedIn:
		return summarise(r.Body, func(b SignedIn) (string, *diagnose.Diagnosis) {
			if b.Open {
				return "The device lets anyone in", b.Diagnosis
			}
			switch {
			case b.StreamOnly && b.Label == "":
				return "The stream service wants no sign-in yet", b.Diagnosis
			case b.StreamOnly:
				return fmt.Sprintf("%q opens the stream service", b.Label), b.Diagnosis
			}
			return fmt.Sprintf("%q opens the device service (%s)", b.Label, b.Scheme), b.Diagnosis
		})
	case KindLocated:
		return summarise(r.Body, func(b Located) (string, *diagnose.Diagnosis) {
			if b.Recipe != "" {
				return fmt.Sprintf("%d paths found by the recipe %q, after %d tries", len(b.Streams), b.Recipe, len(b.Tried)), b.Diagnosis
			}
			return fmt.Sprintf("The device names %d stream URLs", len(b.Streams)), b.Diagnosis
		})
	case KindProof:
		return summarise(r.Body, func(b Proof) (string, *diagnose.Diagnosis) {
			if b.Video == nil {
				return "Played " + r.Subject, b.Diagnosis
			}
			return fmt.Sprintf("Played %s: %s %d × %d, %.4g fps, %.0f kbit/s", r.Subject, b.Video.Codec, b.Video.Width, b.Video.Height, b.Video.FPS, b.Video.BitrateKbps), b.Diagnosis
		})
	case KindPlaced:
		return summarise(r.Body, func(b Placed) (string, *diagnose.Diagnosis) {
			if b.Removed {
				return "Taken off its slot", b.Diagnosis
			}
			return "Placed in " + b.Slot, b.Diagnosis
		})
	case KindConfirmed:
		return summarise(r.Body, func(b Confirmed) (string, *diagnose.Diagnosis) {
			return fmt.Sprintf("The recorder reports %s, recording %s", b.State, b.Recording), b.Diagnosis
		})
	case KindChannels:
		return summarise(r.Body, func(b Channels) (string, *diagnose.Diagnosis) {
			return fmt.Sprintf("The recorder names %d channels of its own", len(b.Channels)), b.Diagnosis
		})
	case KindStreamKey:
		return summarise(r.Body, func(b StreamKey) (string, *diagnose.Diagnosis) {
			switch {
			case b.Removed:
				return "The stream user is gone again", nil
			case b.Made:
				return fmt.Sprintf("Stream user %q made on the device", b.User), nil
			}
			return fmt.Sprintf("%q opens the streams", b.Label), nil
		})
	case KindPicture:
		return summarise(r.Body, func(b Picture) (string, *diagnose.Diagnosis) {
			if b.None {
				return fmt.Sprintf("No %s at any likely address", b.Kind), b.Diagnosis
			}
			if b.Kind == "mjpeg" {
				return fmt.Sprintf("Motion JPEG plays: %d × %d, %.4g pictures a second", b.Width, b.Height, b.FPS), b.Diagnosis
			}
			return fmt.Sprintf("Snapshot taken: %d × %d", b.Width, b.Height), b.Diagnosis
		})
	case KindWeb:
		return summarise(r.Body, func(b Web) (string, *diagnose.Diagnosis) {
			if b.Label == "" {
				return "Its own page opens without a sign-in", b.Diagnosis
			}
			return fmt.Sprintf("%q opens its own page", b.Label), b.Diagnosis
		})
	case KindPin:
		return summarise(r.Body, func(b Pin) (string, *diagnose.Diagnosis) {
			how := "Known from now on by its certificate"
			if b.Before != "" {
				how = "A new certificate was taken"
			}
			if b.Certificate.Expired {
				how += fmt.Sprintf(", which expired on %s", b.Certificate.Until.Format("2006-01-02"))
			}
			return fmt.Sprintf("%s: SHA-256 %.16s…", how, b.Certificate.SHA256), nil
		})
	case KindRemedy:
		return summarise(r.Body, func(b Remedy) (string, *diagnose.Diagnosis) {
			what := map[remedy.Action]string{remedy.Streams: "Stream service", remedy.Clock: "Clock", remedy.StreamUser: "Stream user"}[b.Action]
			text := fmt.Sprintf("%s: %s, before %s", what, b.After, b.Before)
			if b.Pending {
				return fmt.Sprintf("%s: about to be changed, before %s", what, b.Before), b.Diagnosis
			}
			if b.Undone {
				text = fmt.Sprintf("%s put back: %s", what, b.After)
			}
			return text, b.Diagnosis
		})
	case KindScheme:
		return summarise(r.Body, func(b Scheme) (string, *diagnose.Diagnosis) {
			if b.Before != "" {
				return fmt.Sprintf("Agreed: the sign-in may go out as %s, before %s", b.Scheme, b.Before), nil
			}
			return fmt.Sprintf("It takes the sign-in as %s; nothing weaker is sent from now on", b.Scheme), nil
		})
	case KindClaimed:
		return summarise(r.Body, func(b Claimed) (string, *diagnose.Diagnosis) {
			if b.Dismissed {
				return fmt.Sprintf("The claim of %s to be this device was set aside", b.Addr), nil
			}
			return diagnose.ClaimedBy(b.Addr, b.Still, b.Method).Summary, nil
		})
	case KindAddressed:
		return summarise(r.Body, func(b Addressed) (string, *diagnose.Diagnosis) {
			how := ""
			if b.Pending {
				return fmt.Sprintf("About to be moved from %s to %s", b.Before.Addr, b.To.Addr), b.Diagnosis
			}
			if b.Before.Addr == b.After.Addr && b.Before.DHCP == b.After.DHCP && b.Diagnosis == nil {
				return "Set besides the address: " + strings.Join(b.After.Changed(b.Before.Also), ", "), nil
			}
			if b.After.DHCP {
				how = " by DHCP"
			}
			if also := b.After.Changed(b.Before.Also); len(also) > 0 {
				how += "; also set: " + strings.Join(also, ", ")
			}
			return fmt.Sprintf("Moved from %s to %s%s", b.Before.Addr, b.After.Addr, how), b.Diagnosis
		})
	}
	return string(r.Kind)
}

func summarise[T any](raw json.RawMessage, say func(T) (string, *diagnose.Diagnosis)) string {
	var body T
	if err := json.Unmarshal(raw, &body); err != nil {
		return "unreadable evidence"
	}
	text, d := say(body)
	if d != nil {
		return d.Summary
	}
	return text
}

// Failed reports whether the record holds a diagnosis.
func (r Record) Failed() bool {
	var b struct {
		Diagnosis *diagnose.Diagnosis `json:"diagnosis"`
	}
	return json.Unmarshal(r.Body, &b) == nil && b.Diagnosis != nil
}
