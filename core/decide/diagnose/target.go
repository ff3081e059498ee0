package diagnose

import (
	"errors"
	"fmt"

	"unlatch/core/ground/signin"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/hub"
	"unlatch/core/wire/target/live"
)

// explainTarget words what targets and bridges answer.
func explainTarget(err error, f Facts) (Diagnosis, bool) {
	var (
		full    *target.FullError
		blocked *target.BlockedError
		locked  *target.LockedSlotError
		taken   *target.TakenError
		gone    *target.GoneSlotError
		unable  *target.UnableError
		shapes  *target.TemplatesFullError
		through *target.ThroughError
		before  *target.RefusedBeforeError
		key     *live.KeyError
	)
	switch {
	case errors.As(err, &full) && full.Blocked > 0:
		return Diagnosis{Cause: TargetFull, Summary: fmt.Sprintf("%s has no free slot; %d of its %d are blocked: %s.", Capital(f.Asking),
			full.Blocked,
			full.Slots, full.Why), Fix: "Free a blocked slot in the Patch view, then place the camera again."}, true
	case errors.As(err, &full):
		return Diagnosis{Cause: TargetFull, Summary: fmt.Sprintf("All %d slots of %s are taken.", full.Slots, f.Asking),
			Fix: "Take a camera off a slot that is no longer needed, or choose another target."}, true
	case errors.As(err, &blocked):
		return Diagnosis{Cause: SlotBlocked, Summary: Capital(blocked.Error()) + ".",
			Fix: "Free it in the Patch view first, or choose another slot."}, true
	case errors.As(err, &locked):
		return Diagnosis{Cause: SlotLocked, Summary: Capital(locked.Error()) + ".",
			Fix: "It can be changed only where it was made. Choose another slot."}, true
	case errors.As(err, &taken):
		return Diagnosis{Cause: SlotTaken, Summary: Capital(taken.Error()) + ".",
			Fix: "Choose another slot, or replace that camera on purpose."}, true
	case errors.As(err, &gone):
		return Diagnosis{Cause: SlotGone, Summary: Capital(gone.Error()) + ".",
			Fix: "Somebody has changed the target since. Place the camera again: it takes the slot that it has, or a free one."}, true
	case errors.As(err, &unable):
		return Diagnosis{Cause: Unfit, Summary: Capital(unable.Error()) + ".", Fix: "Do it on the target itself."}, true
	case errors.As(err, &shapes):
		return Diagnosis{Cause: TargetFull, Summary: Capital(shapes.Error()) + ".",
			Fix: "Delete a template that no channel uses on the target itself; cameras whose URLs have one shape share one."}, true
	case errors.As(err, &through):
		return Diagnosis{Cause: NotOnRecorder, Summary: Capital(through.Error()) + ".",
			Fix: "Put the camera onto a recorder that sends its channels on, then onto this target."}, true
	}
	if handing := new(target.HandingError); errors.As(err, &handing) {
		return explainHanding(handing, f), true
	}
	if errors.As(err, &before) {
		return Diagnosis{Cause: WrongSignIn, Summary: Capital(before.Error()) + ".",
			Fix: "Choose another sign-in on the target's page, or try this one again there."}, true
	}
	if errors.As(err, &key) {
		return Diagnosis{Cause: WrongSignIn, Summary: Capital(key.Error()) + ".",
			Fix: "Copy the stream key anew from the platform's page, and put it into the target's sign-in."}, true
	}
	if refused := new(hub.RefusedError); errors.As(err, &refused) {
		return Diagnosis{Cause: WrongSignIn, Summary: fmt.Sprintf("%s: %s.", Capital(f.Asking), refused.Error()),
			Fix: "Choose another sign-in on the target's page. It is not tried again by itself."}, true
	}
	if silent := new(hub.SilentError); errors.As(err, &silent) {
		return Diagnosis{Cause: Silent, Summary: Capital(silent.Error()) + ".",
			Fix: "Start the hub, or look at what its topics begin with."}, true
	}
	return explainBridge(err, f)
}

// explainHanding words why a secret was not handed to a target.
func explainHanding(e *target.HandingError, f Facts) Diagnosis {
	d := Diagnosis{Cause: HandingUnagreed, Summary: fmt.Sprintf("%s was sent nothing: %s.", Capital(f.Asking), e.Error()), Seen: e.Error(),
		Fix: "Agree to it for this target, if you trust who answers there and the way to it; or reach it over TLS and take its certificate. A " +
			"user made for streams alone gives less away.",
		Wanted: &Wanted{Service: signin.Target, Target: e.Target, Secret: string(e.Secret), Scheme: e.Scheme, At: e.Channel.String(),
			Certificate: e.Channel.Certificate}}
	if e.Secret == target.OwnSignIn {
		d.Cause = Readable
		d.Fix = "Agree to it on the target's page, if you trust who answers there and the way to it; or reach it over TLS and take " +
			"its certificate."
	}
	switch {
	case e.Agreed:
		d.Cause, d.Fix = ReadableWaits, "Place it again by hand."
	case e.Changed != "":
		d.Fix = "Find out who answers at this address. If the target was replaced or set up anew, agree for the one that is there now."
	}
	return d
}

func explainBridge(err error, f Facts) (Diagnosis, bool) {
	var (
		broken  *bridge.BrokenError
		refused *bridge.RefusedError
		problem *bridge.Problem
	)
	switch {
	case errors.As(err, &broken):
		return Diagnosis{Cause: BridgeBroken, Summary: Capital(broken.Error()) + ".",
			Fix: "Test it with: unlatch bridge check URL. Whoever wrote the bridge has to mend it.", Seen: broken.Problem}, true
	case errors.As(err, &refused) && !refused.Tried:
		return Diagnosis{Cause: NoSignIn, Summary: Capital(f.Asking) + " wants a sign-in and it has been given none.",
			Fix: "Choose its sign-in on the target's page."}, true
	case errors.As(err, &refused):
		return Diagnosis{Cause: WrongSignIn, Summary: fmt.Sprintf("%s refuses the sign-in of %q (%s).", Capital(f.Asking), f.User,
			refused.Scheme),
			Fix: "Choose another sign-in on the target's page. It is not tried again by itself."}, true
	case !errors.As(err, &problem):
		return Diagnosis{}, false
	}
	causes := map[string]Cause{bridge.TypeFull: TargetFull, bridge.TypeTaken: SlotTaken, bridge.TypeLocked: SlotLocked,
		bridge.TypeNoSlot:    SlotGone,
		bridge.TypeNameTaken: Misfit, bridge.TypeMisfit: Misfit, bridge.TypeBusy: Busy}
	d := Diagnosis{Cause: causes[problem.Type], Summary: fmt.Sprintf("%s turns it down: %s.", Capital(f.Asking), problem.Error()),
		Seen: problem.Title,
		Fix:  "Look at the exchange below; it is the target's own word."}
	switch d.Cause {
	case "":
		d.Cause = Unfit
	case Misfit:
		d.Fix = "Change that on the camera or in its plan, then place it again."
	case Busy:
		d.Fix = "Wait a moment and place it again."
	}
	return d, true
}
