package latch

import (
	"time"

	"github.com/google/uuid"

	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/sighting"
)

// NextStep is the one thing to do next for a device.
type NextStep struct {
	Action string `json:"action" enum:"open,sweep,add_sign_in,agree,agree_weaker,agree_target,claim,change_ranges,open_recorder,place,stream_user,streams_on,take_certificate,undo_tuning,tune,nearest_plan,restart,place_again,attest,wait,none" doc:"what the button does"`
	Label  string `json:"label"`
	Reason string `json:"reason"`
	Fix    string `json:"fix,omitempty"`
	// Until is when the wait ends; Unlatch goes on by itself then.
	Until *time.Time `json:"until,omitempty"`
	// Certificate is the one to take, SHA-256.
	Certificate string `json:"certificate,omitempty"`
	// Target is the one that a person has to agree for.
	Target uuid.UUID `json:"target,omitzero"`
	// Wanted is how a sign-in was wanted that was not sent.
	Wanted *trouble.Wanted `json:"wanted,omitempty"`
}

// Next returns what to do next for a device, with its reason: the fix of what is stuck, or the next latch to open.
func (s *Status) Next() NextStep {
	at := s.At()
	if s.Device.Kind == sighting.Recorder && s.Latch(SignedIn).State == Open {
		return NextStep{Action: "none", Label: "Ready", Reason: "The recorder is signed in to and takes cameras."}
	}
	if at == "" {
		return NextStep{Action: "none", Label: "Done", Reason: "Every latch is open."}
	}
	l := s.Latch(at)
	if l.Diagnosis != nil {
		step := stuckStep(l)
		if w := l.Diagnosis.Wanted; w != nil && w.Service == string(signin.Target) {
			step.Action, step.Label, step.Target = "agree_target", "Agree for this target", w.Target
		}
		if r := s.Reached; step.Action == "take_certificate" && r != nil && r.Diagnosis != nil && r.TLS != nil {
			step.Certificate = r.TLS.SHA256
		}
		for _, p := range s.Proofs {
			if step.Action == "take_certificate" && p.Diagnosis != nil && p.TLS != nil {
				step.Certificate = p.TLS.SHA256
			}
		}
		return step
	}
	if at == Heard {
		return NextStep{Action: "sweep", Label: "Find it", Reason: l.Reason + ".",
			Fix: "A sweep knows it again by what it is, at whatever address."}
	}
	if at == Tuned {
		return NextStep{Action: "tune", Label: "Set its streams", Reason: l.Reason + ".",
			Fix: "What changes is shown before anything is sent, and can be put back."}
	}
	if at == Placed && len(s.Placements) == 0 {
		return NextStep{Action: "place", Label: "Choose a target", Reason: "Its streams are proven. It is on no target yet."}
	}
	if at == Confirmed {
		for _, p := range s.Placements {
			if p.ByHand() && !p.Confirmed {
				return NextStep{Action: "attest", Label: "It shows the picture", Reason: p.Name + " cannot be asked: look at it, and say so."}
			}
		}
		if l.State == Waiting {
			return NextStep{Action: "open", Label: "Ask again", Reason: l.Reason + ".", Fix: "Unlatch asks again by itself."}
		}
	}
	reason := map[Name]string{
		Reachable: "It was heard. Its device service has not been asked yet.",
		SignedIn:  "Its device service answers. No sign-in has been tried yet.",
		Located:   "It is signed in to. Its stream URLs are not known yet.",
		Proven:    "Its stream URLs are known. They have not been played yet.",
		Placed:    "Its streams are proven. It is not in its slot yet.",
		Confirmed: "It is in its slot. The target has not been asked for its picture yet.",
	}[at]
	if l.State == Stale {
		reason = l.Reason + "."
	}
	return NextStep{Action: "open", Label: "Open latches", Reason: reason}
}

// fixes are the buttons for what is stuck, by its cause. Whatever has none is tried again.
var fixes = map[trouble.Cause]struct{ action, label string }{
	trouble.Locked:             {"wait", "Add a sign-in"},
	trouble.HeldBack:           {"wait", "Add a sign-in"},
	trouble.StreamRefuses:      {"stream_user", "Make a stream user"},
	trouble.UnfitSignIn:        {"stream_user", "Make a stream user"},
	trouble.Readable:           {"agree", "Agree to send it"},
	trouble.SchemeWeaker:       {"agree_weaker", "Agree to the weaker one"},
	trouble.Stranger:           {"add_sign_in", "Add a sign-in"},
	trouble.NoSignIn:           {"add_sign_in", "Add a sign-in"},
	trouble.WrongSignIn:        {"add_sign_in", "Add a sign-in"},
	trouble.CertificateChanged: {"take_certificate", "Take the new certificate"},
	trouble.StreamsOff:         {"streams_on", "Switch it on"},
	trouble.FactoryFresh:       {"claim", "Claim it"},
	trouble.RecorderShut:       {"open_recorder", "Open the recorder"},
	trouble.NotTuned:           {"undo_tuning", "Put the settings back"},
	trouble.WantsRestart:       {"restart", "Restart it"},
	trouble.IntakeUnmet:        {"nearest_plan", "Set the nearest plan"},
	trouble.WrongPicture:       {"place_again", "Put it right"},
	trouble.SlotGone:           {"place_again", "Place it again"},
	trouble.OutOfScope:         {"change_ranges", "Change the site's ranges"},
}

func stuckStep(l *Latch) NextStep {
	step := NextStep{Action: "open", Label: "Try again", Reason: l.Diagnosis.Summary, Fix: l.Diagnosis.Fix, Until: l.Diagnosis.Until,
		Wanted: l.Diagnosis.Wanted}
	if r, ok := fixes[l.Diagnosis.Cause]; ok {
		step.Action, step.Label = r.action, r.label
	}
	return step
}
