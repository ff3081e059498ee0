package target

import (
	"context"
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/ground/signin"
)

// A Secret is a kind of secret that goes to a target.
type Secret string

// The target's own sign-in proves us to it. The others are handed to it, to be used elsewhere: a camera's sign-in on the camera, a
// stream key on a live platform.
const (
	OwnSignIn    Secret = "sign_in"
	CameraSignIn Secret = "camera_sign_ins"
	StreamKey    Secret = "stream_key"
)

// Words names a kind of secret for people.
func (s Secret) Words() string {
	return map[Secret]string{OwnSignIn: "its own sign-in", CameraSignIn: "the sign-ins of cameras", StreamKey: "the stream key"}[s]
}

// An Identity is all by which a target is told from another one that answers in its place. A field is empty where it is not known.
type Identity struct {
	At          string `json:"at"`                    // scheme, host and port
	Certificate string `json:"certificate,omitempty"` // SHA-256 in hex; "" without TLS
	Scheme      string `json:"scheme,omitempty"`      // in which it takes its sign-in; "none" where it asks for none
	Kind        string `json:"kind,omitempty"`
	Maker       string `json:"maker,omitempty"`
	Model       string `json:"model,omitempty"`
	Serial      string `json:"serial,omitempty"`
}

// Differs names the first field in which who answers now differs from who was agreed on: "" where they are the same. What a target says of
// itself is compared once it has said it, which it does with its kind.
func (i Identity) Differs(now Identity) string {
	fields := []struct{ name, agreed, now string }{
		{"address", i.At, now.At}, {"certificate", i.Certificate, now.Certificate}, {"sign-in scheme", i.Scheme, now.Scheme},
	}
	if now.Kind != "" {
		fields = append(fields, []struct{ name, agreed, now string }{{"kind", i.Kind, now.Kind}, {"maker", i.Maker, now.Maker},
			{"model", i.Model, now.Model}, {"serial number", i.Serial, now.Serial}}...)
	}
	for _, f := range fields {
		if f.now != f.agreed {
			return f.name
		}
	}
	return ""
}

// An Agreement records that a person lets a secret go to a target although others may read it on the way.
type Agreement struct {
	Secret Secret
	// To is who it was given for; nil while nobody has answered there since. It then holds for whoever answers first, and is bound to them.
	To *Identity
}

// A Trust is what a person has said of a target, and what it has shown.
type Trust struct {
	Agreements []Agreement
	// Certificates are those, SHA-256 in hex, whose holder is known: see signin.Policy.
	Certificates []string
	// Unattended says that nobody has begun the work: what was agreed to is for work that a person begins.
	Unattended bool
}

// A Handing is a secret that is about to go to a target.
type Handing struct {
	Secret  Secret
	Channel signin.Channel
	// Scheme is the one in which the target has asked for our sign-in and taken it; "none" where it takes whoever comes. Of the target's own
	// sign-in it is the one in which that would go out.
	Scheme string
	About  About // what it says of itself; zero where that is not known yet
}

// Identity returns who the secret would go to.
func (h Handing) Identity() Identity {
	return Identity{At: h.Channel.String(), Certificate: h.Channel.Certificate, Scheme: h.Scheme, Kind: h.About.Kind, Maker: h.About.Maker,
		Model: h.About.Model, Serial: h.About.Serial}
}

// A HandOver is called right before a secret is sent to a target. If it returns an error, nothing is sent. A nil HandOver decides as the
// zero Trust does.
type HandOver func(ctx context.Context, h Handing) error

// Ask asks for leave to hand a secret over.
func (f HandOver) Ask(ctx context.Context, h Handing) error {
	if f == nil {
		_, err := Trust{}.Check(h)
		return err
	}
	return f(ctx, h)
}

// Check decides whether a secret may go to a target. It may where nobody but the target can read it and the target has shown that it knows
// us: over TLS to a certificate whose holder is known, and having asked for our sign-in. It may as well where a person has agreed. The
// agreement that it goes by is returned, so that it can be bound to who it was used for; it is nil where none was needed. The error is a
// *HandingError.
func (t Trust) Check(h Handing) (*Agreement, error) {
	asks := h.Scheme != "none" && h.Scheme != ""
	if h.Channel.KnownBy(t.Certificates) && (h.Secret == OwnSignIn || asks) {
		return nil, nil
	}
	no := &HandingError{Secret: h.Secret, Channel: h.Channel, Scheme: h.Scheme, Asks: asks}
	for _, a := range t.Agreements {
		if a.Secret != h.Secret {
			continue
		}
		if a.To != nil {
			if no.Changed = a.To.Differs(h.Identity()); no.Changed != "" {
				continue
			}
		}
		if no.Agreed = t.Unattended; no.Agreed {
			return nil, no
		}
		return &a, nil
	}
	return nil, no
}

// A HandingError means that a secret would have to go to a target so that others can read it, or to one that nobody has vouched for, and
// that nobody has agreed to that. Nothing was sent.
type HandingError struct {
	Target  uuid.UUID // the one that a person has to agree for; the caller of Check sets it
	Secret  Secret
	Channel signin.Channel
	Scheme  string // in which the target has taken its sign-in, or wants it
	Asks    bool   // the target asks for our sign-in
	Changed string // somebody has agreed for a target that differs from this one in that; "" for nobody
	Agreed  bool   // somebody has agreed, and nobody has begun this work
}

func (e *HandingError) Error() string {
	what := e.Secret.Words()
	switch {
	case e.Agreed:
		return fmt.Sprintf("%s may go to it in work that a person begins, and this began by itself", what)
	case e.Changed != "":
		return fmt.Sprintf("another one answers there than the one that %s may go to: its %s is another", what, e.Changed)
	case !e.Channel.TLS():
		return fmt.Sprintf("%s would go to %s without TLS, where everybody on the way can read it, and nobody has agreed to that", what,
			e.Channel)
	case !e.Asks:
		return fmt.Sprintf("%s would go to %s, which asks nobody for a sign-in, and nobody has agreed to that", what, e.Channel)
	}
	return fmt.Sprintf("%s would go to %s, whose certificate nobody has vouched for, and nobody has agreed to that", what, e.Channel)
}
