package bridge

import (
	"unlatch/core/ground/trouble"
)

// Trouble says that the bridge does not keep to the contract.
func (e *BrokenError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.BridgeBroken, Seen: e.Problem}
}

// Trouble says whether there was no sign-in to try or the one that was tried is refused.
func (e *RefusedError) Trouble() trouble.Trouble {
	if !e.Tried {
		return trouble.Trouble{Cause: trouble.NoSignIn, Form: "bridge"}
	}
	return trouble.Trouble{Cause: trouble.WrongSignIn, Form: "bridge", Facts: trouble.Facts{"scheme": e.Scheme}}
}

// causes of the problem types of the contract.
var causes = map[string]trouble.Cause{TypeFull: trouble.TargetFull, TypeTaken: trouble.SlotTaken, TypeLocked: trouble.SlotLocked,
	TypeNoSlot: trouble.SlotGone, TypeNameTaken: trouble.Misfit, TypeMisfit: trouble.Misfit, TypeBusy: trouble.Busy}

// Trouble says why the target behind the bridge turns a camera down.
func (p *Problem) Trouble() trouble.Trouble {
	cause, ok := causes[p.Type]
	if !ok {
		cause = trouble.Unfit
	}
	return trouble.Trouble{Cause: cause, Form: "bridge", Seen: p.Title}
}
