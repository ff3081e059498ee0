package drift

import (
	"slices"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/picturematch"
)

// FindTarget returns how a target differs from what was agreed on of it; nothing where it was not agreed on.
func (a *Agreed) FindTarget(now baseline.Target) (out []Drift) {
	was, ok := a.targets[now.ID]
	if !ok {
		return nil
	}
	d := Drift{Title: now.Name, Subject: now.ID.String()}
	var other []baseline.FieldChange
	for _, c := range baseline.CompareTargets(was, now) {
		switch {
		case c.Field == baseline.Answers && c.Is == "no":
			silent := d
			silent.Cause, silent.Fields = TargetSilent, []baseline.FieldChange{c}
			return []Drift{silent}
		case c.Was != "" && c.Is != "" && c.Field != baseline.Answers:
			other = append(other, c)
		}
	}
	if len(other) > 0 {
		d.Cause, d.Fields = OtherTarget, other
		out = append(out, d)
	}
	return out
}

// Targets returns the targets that were agreed on.
func (a *Agreed) Targets() []uuid.UUID {
	out := make([]uuid.UUID, 0, len(a.targets))
	for id := range a.targets {
		out = append(out, id)
	}
	return out
}

// ofTarget reports whether a field says what a target holds of a device.
func ofTarget(f baseline.Field) bool {
	return f == baseline.Slot || f == baseline.Given || f == baseline.Shows
}

// onTargets finds what is otherwise on each target that the camera was agreed to stand on.
func (f *finder) onTargets() {
	// What did not show when it was agreed on, and shows now, is no drift; and what cannot be told may lie in the camera's own picture.
	f.take(func(c baseline.FieldChange) bool {
		return c.Field == baseline.Shows && slices.Contains([]string{"yes", string(picturematch.Same), string(picturematch.CannotTell)}, c.Is)
	})
	var targets []string
	for _, c := range f.fields {
		if ofTarget(c.Field) && !slices.Contains(targets, c.Subject) {
			targets = append(targets, c.Subject)
		}
	}
	for _, t := range targets {
		fields := f.take(func(c baseline.FieldChange) bool { return c.Subject == t && ofTarget(c.Field) })
		id, err := uuid.Parse(t)
		p := f.now.Status.PlacementOn(id)
		if err != nil || p == nil { // it is not wanted there any more, which somebody has said here
			f.add(Drift{Cause: OtherSlot, Subject: t, Of: targetName(fields), Fields: fields, Hints: []Hint{ByUs}})
			continue
		}
		f.add(Drift{Cause: onTarget(p, fields), Subject: t, Of: p.Name, Fields: fields, Shared: "target " + t})
	}
}

// notShown takes the changes that say only that targets show no picture of the camera, which what keeps it from sending one explains.
func (f *finder) notShown() []baseline.FieldChange {
	return f.take(func(c baseline.FieldChange) bool {
		id, err := uuid.Parse(c.Subject)
		if err != nil || c.Field != baseline.Shows {
			return false
		}
		p := f.now.Status.PlacementOn(id)
		return p != nil && onTarget(p, []baseline.FieldChange{c}) == NotShown
	})
}

// onTarget names why a placement differs.
func onTarget(p *latch.Placement, fields []baseline.FieldChange) Cause {
	why := trouble.Cause("")
	if p.Diagnosis != nil {
		why = p.Diagnosis.Cause
	}
	switch {
	case why == trouble.SlotTaken:
		return SlotTaken
	case why == trouble.SlotGone || p.Slot == "":
		return SlotLost
	case why == trouble.WrongPicture:
		return WrongPicture
	case slices.ContainsFunc(fields, func(c baseline.FieldChange) bool { return c.Field == baseline.Shows }) && !p.Confirmed:
		return NotShown
	}
	return OtherSlot
}

// targetName returns what people call the target of some fields: their words end with it.
func targetName(fields []baseline.FieldChange) string {
	_, name, _ := strings.Cut(fields[0].Words, ", ")
	return name
}
