package drift

import (
	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
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
