package onvif

import (
	"unlatch/core/ground/trouble"
)

// Trouble says that the user may not do this, or that the device turns the request down.
func (f *Fault) Trouble() trouble.Trouble {
	t := trouble.Trouble{Cause: trouble.Unfit, Facts: trouble.Facts{"reason": f.Reason}}
	if f.HasCode("NotAuthorized") || f.HasCode("OperationProhibited") {
		t.Cause = trouble.LevelTooLow
	}
	return t
}

// Trouble says that the port answers, and not as a device service.
func (e *NotSOAPError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.NotONVIF, Facts: trouble.Facts{"problem": e.Problem}}
}

// Trouble says whether there was no sign-in to try or the one that was tried is refused.
func (e *RefusedError) Trouble() trouble.Trouble {
	if e.NoSignIn {
		return trouble.Trouble{Cause: trouble.NoSignIn}
	}
	return trouble.Trouble{Cause: trouble.WrongSignIn}
}

// Trouble says that the answer has no end.
func (e *LimitError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.Unbounded, Facts: trouble.Facts{"what": e.What}}
}

// Trouble says that the camera cannot be moved.
func (e *NoPTZError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.NoMark, Form: "nudge"}
}
