package act

import (
	"fmt"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/wiretext"
)

// longestReason is how many bytes of a reason are kept.
const longestReason = 500

// TakeBaseline keeps the state of devices, as it is known now, as the state that was agreed on.
type TakeBaseline struct {
	ID      uuid.UUID // of the baseline
	Site    uuid.UUID
	Devices []uuid.UUID
	Name    string
	Reason  string
	// Whole says that the devices are all of the site: what was agreed on before counts no more.
	Whole bool
	State baseline.State // set by Decide
}

// About implements Act.
func (a TakeBaseline) About() About {
	return About{Name: "take-baseline", Right: Work, Site: a.Site, Devices: a.Devices, WithStates: true, AllTargets: a.Whole}
}

// Decide implements Act. Where a device is not finished, somebody has to say why that is agreed on.
func (a TakeBaseline) Decide(f Facts) (Outcome, error) {
	a.Name, a.Reason = wiretext.Line(a.Name, longestName), strings.TrimSpace(wiretext.Line(a.Reason, longestReason))
	if a.Name == "" {
		return Outcome{}, refuse("no_name", "The agreed state has no name.", "Type a name, such as Handed over.")
	}
	if len(f.Order) == 0 {
		return Outcome{}, refuse("no_devices", "There is no device whose state could be agreed on.", "Sweep the site first.")
	}
	devices := make([]*latch.Device, len(f.Order))
	for i, id := range f.Order {
		devices[i] = f.Devices[id]
	}
	a.State = baseline.Of(devices)
	for _, id := range f.TargetOrder {
		a.State.Targets = append(a.State.Targets, f.Targets[id].State())
	}
	unfinished := a.State.Unfinished()
	if unfinished > 0 && a.Reason == "" {
		return Outcome{}, &Refusal{Cause: "no_reason", Count: uint64(unfinished),
			Detail: fmt.Sprintf("%d of %d devices are not finished.", unfinished, len(devices)),
			Fix:    "Say why their state is agreed on all the same, or finish them first."}
	}
	after := fmt.Sprintf("%s: %d devices", a.Name, len(devices))
	if unfinished > 0 {
		after += fmt.Sprintf(", %d of them not finished: %s", unfinished, a.Reason)
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name, After: after, Devices: a.Devices}}, nil
}

// State returns what is known of a target, to be agreed on.
func (t Target) State() baseline.Target {
	return baseline.TargetOf(t.ID, t.Name, !t.SilentSince.IsZero(), t.About, t.Pin)
}
