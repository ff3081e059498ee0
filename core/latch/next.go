package latch

import (
	"time"

	"unlatch/core/diagnose"
	"unlatch/core/discovery"
)

// NextStep is the one thing to do next for a device.
type NextStep struct {
	Action string `json:"action" enum:"open,add_sign_in,agree,agree_weaker,claim,change_ranges,open_recorder,place,stream_user,streams_on,take_certificate,wait,none" doc:"what the button does"`
	Label  string `json:"label"`
	Reason string `json:"reason"`
	Fix    string `json:"fix,omitempty"`
	// Until is when the wait ends; Unlatch goes on by itself then.
	Until *time.Time `json:"until,omitempty"`
	// Certificate is the one to take, SHA-256.
	Certificate string `json:"certificate,omitempty"`
}

// Next is what to do next for a device, with its reason: the fix of what is stuck, or the next latch to open.
func (s *Status) Next() NextStep {
	at := s.At()
	if s.Device.Kind == discovery.Recorder && s.Latch(SignedIn).State == Open {
		return NextStep{Action: "none", Label: "Ready", Reason: "The recorder is signed in to and takes cameras."}
	}
	if at == "" {
		return NextStep{Action: "none", Label: "Done", Reason: "Every latch is open."}
	}
	l := s.Latch(at)
	if l.Diagnosis != nil {
		step := stuckStep(l)
		for _, p := range s.Proofs {
			if step.Action == "take_certificate" && p.Diagnosis != nil && p.TLS != nil {
				step.Certificate = p.TLS.SHA256
			}
		}
		return step
	}
	if at == Placed && len(s.Placements) == 0 {
		return NextStep{Action: "place", Label: "Place on a recorder", Reason: "Its streams are proven. It is on no recorder yet."}
	}
	reason := map[Name]string{
		Reachable: "It was heard. Its device service has not been asked yet.",
		SignedIn:  "Its device service answers. No sign-in has been tried yet.",
		Located:   "It is signed in to. Its stream URLs are not known yet.",
		Proven:    "Its stream URLs are known. They have not been played yet.",
		Placed:    "Its streams are proven. It is not in its slot yet.",
		Confirmed: "It is in its slot. The recorder has not been asked for its picture yet.",
	}[at]
	if l.State == Stale {
		reason = l.Reason + "."
	}
	return NextStep{Action: "open", Label: "Open latches", Reason: reason}
}

func stuckStep(l *Latch) NextStep {
	step := NextStep{Action: "open", Label: "Try again", Reason: l.Diagnosis.Summary, Fix: l.Diagnosis.Fix, Until: l.Diagnosis.Until}
	switch l.Diagnosis.Cause {
	case diagnose.Locked, diagnose.HeldBack:
		step.Action, step.Label = "wait", "Add a sign-in"
	case diagnose.StreamRefuses, diagnose.UnfitSignIn:
		step.Action, step.Label = "stream_user", "Make a stream user"
	case diagnose.Readable:
		step.Action, step.Label = "agree", "Agree to send it"
	case diagnose.SchemeWeaker:
		step.Action, step.Label = "agree_weaker", "Agree to the weaker one"
	case diagnose.Stranger:
		step.Action, step.Label = "add_sign_in", "Add a sign-in"
	case diagnose.CertificateChanged:
		step.Action, step.Label = "take_certificate", "Take the new certificate"
	case diagnose.StreamsOff:
		step.Action, step.Label = "streams_on", "Switch it on"
	case diagnose.NoSignIn, diagnose.WrongSignIn:
		step.Action, step.Label = "add_sign_in", "Add a sign-in"
	case diagnose.FactoryFresh:
		step.Action, step.Label = "claim", "Claim it"
	case diagnose.RecorderShut:
		step.Action, step.Label = "open_recorder", "Open the recorder"
	case diagnose.OutOfScope:
		step.Action, step.Label = "change_ranges", "Change the site's ranges"
	}
	return step
}
