package act

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/tuning"
)

// Tune sets the streams of devices to their plans, read back and measured; or puts them back; or restarts the devices.
type Tune struct {
	Site    uuid.UUID
	Devices []uuid.UUID
	Strict  bool
	Plans   map[uuid.UUID]tuning.Plan // kept as the devices' own; what they leave out stays as it is
	Undo    bool                      // put back what was before, and take away the devices' own plans
	Restart bool                      // restart devices that have taken settings, and go on as before
}

// About implements Act.
func (a Tune) About() About {
	return About{Name: "tune-devices", Right: Work, Site: a.Site, Devices: a.Devices, WithStates: true, Doing: tuneCommand}
}

// Decide implements Act. Somebody else's run that is about to set one of the devices, or does, refuses the act; one's own next run waits
// for the last.
func (a Tune) Decide(f Facts) (Outcome, error) {
	fit, left, err := sift(f, a.Devices, a.Strict, func(d *latch.Device) *Refusal { return a.tunable(f, d) })
	if err != nil {
		return Outcome{}, err
	}
	title, after := "Set the streams of %s", ""
	switch {
	case a.Undo:
		title, after = "Put back the streams of %s", "put back"
	case a.Restart:
		title, after = "Restart %s", "restarted"
	}
	own := OwnPlans{}
	work := &command.Work{Kind: "tune", Title: fmt.Sprintf(title, command.Cameras(len(fit)))}
	for _, d := range fit {
		do := command.Tune{Undo: a.Undo, Restart: a.Restart}
		switch {
		case a.Undo:
			own[d.ID] = tuning.Plan{}
		case !a.Restart:
			do.Plan = d.Status.Plan.With(a.Plans[d.ID])
			if p, given := a.Plans[d.ID]; given {
				own[d.ID] = p
			}
			if len(fit) == 1 {
				after = planLine(do.Plan)
			}
		}
		work.Devices = append(work.Devices, command.OnDevice{Device: d.ID, Do: command.Device{Tune: &do}})
	}
	out := Outcome{Work: work, Left: left, Line: Line{Subject: f.names(ids(fit)), Devices: ids(fit), After: after}}
	if len(own) > 0 {
		out.Keep = append(out.Keep, own)
	}
	return out, nil
}

// tunable returns why a device's streams cannot be set now, or nil if they can: by its own device service, or by that of the recorder
// that it hangs on.
func (a Tune) tunable(f Facts, d *latch.Device) *Refusal {
	if b, busy := f.Busy[d.ID]; busy && b.By != f.By.Name {
		return refuse("being_tuned", fmt.Sprintf("%s is being set by %s at this moment, begun %s.", d.Title, cmp.Or(b.By, "somebody"),
			b.Since.Format("15:04")), "Wait until that has ended, or stop it in the strip below.")
	}
	if d.Via == nil || d.Status.Latch(latch.SignedIn).State != latch.Open {
		if r := changeable(d, "its streams cannot be set"); r != nil {
			return r
		}
	}
	if !a.Undo && !a.Restart && !d.Status.Plan.With(a.Plans[d.ID]).Asks() {
		return refuse("no_plan", "Nothing is wanted of any stream of "+d.Title+".", "Say what the main or the sub stream shall be.")
	}
	return nil
}

// planLine returns a plan in a line of the record.
func planLine(p tuning.Plan) string {
	texts := p.Texts()
	var out []string
	for _, part := range slices.Sorted(maps.Keys(texts)) {
		out = append(out, part+" "+texts[part])
	}
	return strings.Join(out, "; ")
}

// PlanDevices plans the streams of single devices. Nothing is sent to any device.
type PlanDevices struct {
	Site  uuid.UUID
	Plans map[uuid.UUID]tuning.Plan // an empty plan takes the device's own away
}

// About implements Act.
func (a PlanDevices) About() About {
	return About{Name: "plan-devices", Right: Work, Site: a.Site, Devices: slices.Collect(maps.Keys(a.Plans)), WithStates: true}
}

// Decide implements Act.
func (a PlanDevices) Decide(f Facts) (Outcome, error) {
	out := Outcome{Keep: []any{OwnPlans(a.Plans)}, Line: Line{Subject: f.names(f.Order), Devices: f.Order}}
	if len(f.Order) == 1 {
		out.Line.Before = planLine(f.Devices[f.Order[0]].Status.Plan)
		out.Line.After = planLine(a.Plans[f.Order[0]])
	}
	return out, nil
}

// PutPlan plans the streams of a site, a model or a selection, in place of the plan that it had. Nothing is sent to any device.
type PutPlan struct {
	Site    uuid.UUID
	ID      uuid.UUID // of the plan, where there is none of that owner and name yet
	Owner   tuning.Owner
	Name    string // of the model or the selection
	Plan    tuning.Plan
	Devices []uuid.UUID // of a selection
	// Was is the plan that the person saw before changing it, empty for none; nil keeps the plan whatever was there. Where it is another one
	// by now, the act is refused with a *ChangedError.
	Was *tuning.Plan
}

// About implements Act.
func (a PutPlan) About() About {
	return About{Name: "put-plan", Right: Work, Site: a.Site, Devices: a.Devices}
}

// Decide implements Act.
func (a PutPlan) Decide(f Facts) (Outcome, error) {
	a.Name = wiretext.Line(strings.TrimSpace(a.Name), 200)
	switch {
	case a.Plan.IsZero():
		return Outcome{}, refuse("no_plan", "The plan wants nothing.", "Say what the main or the sub stream shall be.")
	case a.Owner != tuning.Site && a.Name == "":
		return Outcome{}, refuse("no_name", fmt.Sprintf("The %s has no name.", a.Owner), "Type a name.")
	case a.Owner == tuning.Selection && len(a.Devices) == 0:
		return Outcome{}, refuse("no_devices", "The selection is empty.", "Select the cameras that the plan is for.")
	}
	if a.Owner == tuning.Site {
		a.Name = ""
	}
	subject := PlanName{a.Owner, a.Name}.String()
	out := Outcome{Keep: []any{a}, Line: Line{Subject: subject, Devices: a.Devices, After: planLine(a.Plan)}}
	if a.Was != nil {
		plan := &PlanName{Owner: a.Owner, Name: a.Name}
		out.Keep = []any{Unchanged{Plan: plan, Was: a.Was.Texts(), Then: a.Plan.Texts()}, a}
	}
	return out, nil
}

// DeletePlan takes a plan away. What is set on devices stays.
type DeletePlan struct{ Site, Plan uuid.UUID }

// About implements Act.
func (a DeletePlan) About() About {
	return About{Name: "delete-plan", Right: Work, Site: a.Site, Plans: []uuid.UUID{a.Plan}}
}

// Decide implements Act.
func (a DeletePlan) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Plans[a.Plan].String()}}, nil
}
