package act

import (
	"crypto/rand"
	"encoding/base32"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/ground/wiretext"
)

// changeable says why a device cannot be changed by its own service; nil where it can: the service has opened to a sign-in of the keyring.
// lost is what cannot be done without that.
func changeable(d *latch.Device, lost string) *Refusal {
	if in := d.Status.SignedIn; d.Via != nil || in == nil || in.Diagnosis != nil || in.StreamOnly || in.SignIn == uuid.Nil {
		return refuse("not_signed_in", d.Title+" has not been signed in to by its device service.",
			"Open its latches first; without that "+lost+".")
	}
	return nil
}

// Fix mends one thing on devices, read back, or takes that back.
type Fix struct {
	Site    uuid.UUID
	Devices []uuid.UUID
	Strict  bool
	Action  evidence.FixAction
	Undo    bool
	User    string // of a stream user: its name
	Each    bool   // a password of its own for each device; one for all otherwise
}

// About implements Act.
func (a Fix) About() About {
	return About{Name: "fix-devices", Right: Work, Site: a.Site, Devices: a.Devices, WithStates: true}
}

// fixTitles are a fix's titles: of doing it, and of taking it back.
var fixTitles = map[evidence.FixAction][2]string{
	evidence.FixStreams:    {"Switch the stream service on, %s", "Switch the stream service off again, %s"},
	evidence.FixClock:      {"Set the clock, %s", "Put the clock back, %s"},
	evidence.FixStreamUser: {"Make a stream user on %s", "Take the stream user off %s"},
}

// Decide implements Act. The passwords of stream users are kept before any device hears of them: a crash between the two locks nobody out.
func (a Fix) Decide(f Facts) (Outcome, error) {
	user := strings.TrimSpace(a.User)
	makes := a.Action == evidence.FixStreamUser && !a.Undo
	if makes && (user == "" || strings.ContainsAny(user, " :@/\\\"'<>&")) {
		return Outcome{}, refuse("bad_user", "The user name is missing, or holds a character that devices or URLs cannot take.",
			"Use letters, digits, a dash or a dot.")
	}
	fit, left, err := sift(f, a.Devices, a.Strict, func(d *latch.Device) *Refusal { return changeable(d, "nothing on it can be changed") })
	if err != nil {
		return Outcome{}, err
	}
	out := Outcome{Left: left}
	title := fixTitles[a.Action][0]
	if a.Undo {
		title = fixTitles[a.Action][1]
	}
	out.Work = &command.Work{Kind: "fix", Title: fmt.Sprintf(title, command.Cameras(len(fit)))}
	var keys NewSignIns
	for _, d := range fit {
		do := command.Fix{Action: a.Action, Undo: a.Undo}
		if makes {
			if a.Each || len(keys) == 0 {
				keys = append(keys, newPassword(user, user+" of "+d.Title, signin.Streams, d.ID))
			} else {
				keys[0].Devices = append(keys[0].Devices, d.ID) // one for all, and for nothing else
			}
			do.SignIn = keys[len(keys)-1].ID
		}
		out.Work.Devices = append(out.Work.Devices, command.OnDevice{Device: d.ID, Do: command.Device{Fix: &do}})
	}
	if makes {
		if !a.Each {
			keys[0].Label = fmt.Sprintf("%s, %s", user, command.Cameras(len(fit)))
		}
		out.Keep = append(out.Keep, keys)
	}
	out.Line = Line{Subject: f.names(ids(fit)), Devices: ids(fit), After: strings.TrimSpace(string(a.Action) + " " + user)}
	if a.Undo {
		out.Line.Before, out.Line.After = out.Line.After, "put back"
	}
	return out, nil
}

// newPassword returns a sign-in with a password made here, bound to a device.
func newPassword(user, label string, purpose signin.Purpose, device uuid.UUID) signin.New {
	return signin.New{ID: uuid.Must(uuid.NewV7()), Label: label, User: user, Secret: signin.NewSecret(password()),
		Terms: signin.For(purpose, device)}
}

// password makes one of 100 bits without characters that targets cannot take.
func password() string {
	raw := make([]byte, 13)
	rand.Read(raw)
	text := strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(raw))[:20]
	return strings.Join([]string{text[:5], text[5:10], text[10:15], text[15:]}, "-")
}

// Claim gives factory-fresh devices their first account.
type Claim struct {
	Site    uuid.UUID
	Devices []uuid.UUID
	Strict  bool
	User    string
	Secret  signin.Secret // one password for all; empty makes one of its own for each
}

// ShortestPassword is the shortest password that a device is claimed with, in bytes.
const ShortestPassword = 10

// About implements Act.
func (a Claim) About() About {
	return About{Name: "claim-devices", Right: Work, Site: a.Site, Devices: a.Devices, WithStates: true}
}

// Decide implements Act.
func (a Claim) Decide(f Facts) (Outcome, error) {
	user, given := wiretext.Line(a.User, 60), a.Secret.Reveal()
	if user == "" {
		return Outcome{}, refuse("no_user", "The account has no user name.", "Type one.")
	}
	if given != "" && len(given) < ShortestPassword {
		return Outcome{}, refuse("weak_password", fmt.Sprintf("A password of %d characters is too short.", len(given)),
			fmt.Sprintf("Use at least %d, or let Unlatch make one.", ShortestPassword))
	}
	fit, left, err := sift(f, a.Devices, a.Strict, func(d *latch.Device) *Refusal { return claimable(d, user) })
	if err != nil {
		return Outcome{}, err
	}
	var keys NewSignIns
	work := &command.Work{Kind: "claim", Title: "Claim " + command.Cameras(len(fit))}
	for _, d := range fit {
		if given != "" && len(keys) > 0 {
			keys[0].Devices = append(keys[0].Devices, d.ID) // one for all, and for nothing else
		} else {
			keys = append(keys, newPassword(user, user+" of "+d.Title, "", d.ID))
		}
		do := command.Device{Claim: &command.Claim{SignIn: keys[len(keys)-1].ID}}
		work.Devices = append(work.Devices, command.OnDevice{Device: d.ID, Do: do})
	}
	if given != "" {
		keys[0].Label, keys[0].Secret = fmt.Sprintf("%s, %s claimed", user, command.Cameras(len(fit))), a.Secret
	}
	return Outcome{Keep: []any{keys}, Work: work, Left: left,
		Line: Line{Subject: f.names(ids(fit)), Devices: ids(fit), After: "with the user " + user}}, nil
}

// claimable says why a device cannot be claimed; nil where it can.
func claimable(d *latch.Device, user string) *Refusal {
	if in := d.Status.SignedIn; in != nil && in.Factory {
		if in.User != user {
			return refuse("other_user", fmt.Sprintf("%s has the user %q from the factory.", d.Title, in.User),
				"Keep that name: it is its password that changes.")
		}
		return nil
	}
	if l := d.Status.Latch(latch.SignedIn); l.Diagnosis == nil || l.Diagnosis.Cause != trouble.FactoryFresh {
		return refuse("not_fresh", d.Title+" is not known to be factory-fresh.",
			"Open its latches first: only a device without any account is claimed.")
	}
	return nil
}

// Mark has cameras show which one they are: by a nudge, or by a label in their picture.
type Mark struct {
	Site    uuid.UUID
	Devices []uuid.UUID
	Strict  bool
	How     evidence.Mark
	Text    string // of a label; the camera's address where it is empty
	Back    bool   // put back what still stands of an earlier one, and do nothing else
}

// About implements Act.
func (a Mark) About() About {
	return About{Name: "mark-devices", Right: Work, Site: a.Site, Devices: a.Devices, WithStates: true}
}

// Decide implements Act.
func (a Mark) Decide(f Facts) (Outcome, error) {
	fit, left, err := sift(f, a.Devices, a.Strict, func(d *latch.Device) *Refusal {
		return changeable(d, "it cannot be asked to show which one it is")
	})
	if err != nil {
		return Outcome{}, err
	}
	title, after := "Nudge ", "nudged"
	switch {
	case a.Back:
		title, after = "Put back what was before on ", "put back"
	case a.How == evidence.Label:
		title, after = "Draw a label on ", strings.TrimSpace("label "+a.Text)
	}
	do := command.Device{Mark: &command.Mark{How: a.How, Text: a.Text, Back: a.Back}}
	return Outcome{Left: left,
		Work: &command.Work{Kind: "mark", Title: title + command.Cameras(len(fit)), Devices: command.Each(ids(fit), do)},
		Line: Line{Subject: f.names(ids(fit)), Devices: ids(fit), After: after}}, nil
}
