package bringup

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target"
)

// HeldBy records whether a target still holds the camera if that has changed, and reports whether it has. layout is what the target told
// when it was asked at the given time.
func (w *Work) HeldBy(ctx context.Context, on uuid.UUID, layout target.Layout, asked time.Time) (changed bool, err error) {
	p := w.d.Status.PlacementOn(on)
	if p == nil || !p.ShownBy(asked) {
		return false, nil
	}
	holding := layout.Holding(p.Token, w.d.Identity())
	lost := lostBefore(p)
	var why error
	switch {
	case holding == target.Holds && !lost, holding != target.Holds && p.Untaken:
		return false, nil
	case holding == target.Empties:
		why = &target.GoneSlotError{Slot: p.Slot}
	case holding == target.Others:
		why = &target.TakenError{Slot: p.Slot, By: slotName(layout, p.Token)}
	}
	body := evidence.Placed{Slot: p.Slot, Token: p.Token, Ref: p.Ref, SignIn: p.SignIn}
	for _, g := range p.Gives {
		body.Gave = append(body.Gave, evidence.Given(g))
	}
	if why != nil {
		d := diagnose.Explain(why, diagnose.Facts{Asking: p.Name, Host: p.Name})
		body.Diagnosis = &d
	}
	return true, w.Keep(ctx, Finding{Subject: on.String(), Body: body})
}

// notForWatch reports whether the error means that the watch may not ask the target at all: it was never signed in to, it has refused the
// sign-in, or its password would go out readable. Then the target was not asked, so that it is not silent either.
func notForWatch(err error) bool {
	return errors.As(err, new(*diagnose.TargetShutError)) || errors.As(err, new(*target.HandingError)) ||
		errors.As(err, new(*target.RefusedBeforeError)) || heldBack(err)
}

// lostBefore reports whether a placement is on record as lost from its slot.
func lostBefore(p *latch.Placement) bool {
	return p.Untaken && p.Diagnosis != nil && (p.Diagnosis.Cause == trouble.SlotGone || p.Diagnosis.Cause == trouble.SlotTaken)
}

func slotName(l target.Layout, token string) string {
	for _, s := range l.Slots {
		if s.Token == token {
			return s.Name
		}
	}
	return ""
}

// SlotsOf asks a target for its slots and for what it says of itself, and keeps both; only news goes on the target's record. It returns
// nil for a target that has no slots or may not be asked.
func (w *Work) SlotsOf(ctx context.Context, id uuid.UUID) (*target.Layout, error) {
	before, err := w.Record.Target(ctx, id)
	if err != nil {
		return nil, err
	}
	out := TargetSeen{}
	t, err := targetDoor{w}.connect(ctx, id)
	if err == nil {
		err = targetDoor{w}.tells(ctx, id, t, &out)
	}
	if notForWatch(err) {
		return nil, nil
	}
	if out.Diagnosis, err = Explain(ctx, err, t.facts(w.d.Title)); err != nil {
		return nil, err
	}
	out.Silent = out.Diagnosis != nil
	if out.Silent != before.Silent {
		if out.What = "answered again in the watch"; out.Silent {
			out.What = "did not answer the watch"
		}
	}
	return out.Layout, targetDoor{w}.saw(ctx, id, out)
}
