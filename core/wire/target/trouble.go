package target

import (
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
)

// Trouble says that no slot is free.
func (e *FullError) Trouble() trouble.Trouble {
	t := trouble.Trouble{Cause: trouble.TargetFull, Facts: trouble.Facts{"slots": e.Slots, "blocked": e.Blocked, "why": e.Why}}
	if e.Blocked > 0 {
		t.Form = "blocked"
	}
	return t
}

// Trouble says that the slot is blocked by something that could be given up.
func (e *BlockedError) Trouble() trouble.Trouble { return trouble.Trouble{Cause: trouble.SlotBlocked} }

// Trouble says that the slot cannot be changed from here.
func (e *LockedSlotError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.SlotLocked}
}

// Trouble says that another camera is in the slot.
func (e *TakenError) Trouble() trouble.Trouble { return trouble.Trouble{Cause: trouble.SlotTaken} }

// Trouble says that the slot no longer holds the camera.
func (e *GoneSlotError) Trouble() trouble.Trouble { return trouble.Trouble{Cause: trouble.SlotGone} }

// Trouble says that this kind of target cannot do what was asked.
func (e *UnableError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.Unfit, Form: "ability"}
}

// Trouble says that no template is free.
func (e *TemplatesFullError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.TargetFull, Form: "templates"}
}

// Trouble says that the camera has to be on a recorder first.
func (e *ThroughError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.NotOnRecorder}
}

// Trouble says that the sign-in was refused before.
func (e *RefusedBeforeError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.WrongSignIn, Form: "before"}
}

// Trouble says that a secret was not handed over, and who has to agree to what.
func (e *HandingError) Trouble() trouble.Trouble {
	t := trouble.Trouble{Cause: trouble.HandingUnagreed, Seen: e.Error(),
		Wanted: &trouble.Wanted{Service: string(signin.Target), Target: e.Target, Secret: string(e.Secret), Scheme: e.Scheme,
			At: e.Channel.String(), Certificate: e.Channel.Certificate}}
	if e.Secret == OwnSignIn {
		t.Cause, t.Form = trouble.Readable, "target"
		if e.Channel.Scheme == "mqtt" {
			t.Form = "mqtt"
		}
	}
	switch {
	case e.Agreed:
		t.Cause, t.Form = trouble.ReadableWaits, "target"
	case e.Changed != "":
		t.Form = "changed"
	}
	return t
}
