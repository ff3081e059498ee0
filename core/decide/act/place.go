package act

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/fit"
	"unlatch/core/decide/latch"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/hub"
)

// Place puts cameras onto targets and asks the targets for their pictures.
type Place struct {
	Site       uuid.UUID
	Placements []Placement
	Strict     bool
	Tune       bool // set cameras that a target does not take to the nearest plan first
	// Operation is the act's name where it came by another operation; "" for "place".
	Operation Name
}

// A Placement is one camera on one target.
type Placement struct {
	Device   uuid.UUID
	Target   uuid.UUID
	Slot     string    // the target's own name of it; "" for the first free one
	Role     string    // the stream, or "picture"; "" for the rule's own choice
	Replaces uuid.UUID // the camera whose slot it takes over; the nil UUID for none
	Again    bool      // also where it stands already: put it right
}

// About implements Act.
func (a Place) About() About {
	out := About{Name: cmp.Or(a.Operation, "place"), Right: Work, Site: a.Site, WithStates: a.Tune}
	if a.Tune {
		out.Doing = tuneCommand
	}
	for _, p := range a.Placements {
		out.Devices, out.Targets = append(out.Devices, p.Device), append(out.Targets, p.Target)
		out.WithWanted = out.WithWanted || p.Slot == ""
		if p.Replaces != uuid.Nil {
			out.Devices = append(out.Devices, p.Replaces)
		}
	}
	out.Devices, out.Targets = Distinct(out.Devices), Distinct(out.Targets) // a camera may be in several placements
	return out
}

// Decide implements Act. A camera that cannot be set before it is placed is left out.
func (a Place) Decide(f Facts) (Outcome, error) {
	for _, t := range f.Targets {
		if t.Closed {
			return Outcome{}, refuse("target_closed", t.Name+" is not signed in to yet.", "Open the recorder's own latches first.")
		}
	}
	devices := make([]uuid.UUID, len(a.Placements))
	for i, p := range a.Placements {
		devices[i] = p.Device
	}
	own := OwnPlans{}
	going, left, err := sift(f, Distinct(devices), a.Strict, func(d *latch.Device) *Refusal {
		if !a.Tune {
			return nil
		}
		return a.nearest(f, d, own)
	})
	if err != nil {
		return Outcome{}, err
	}
	goes := map[uuid.UUID]bool{}
	for _, d := range going {
		goes[d.ID] = true
	}
	placements, slots, full := f.planSlots(slices.DeleteFunc(slices.Clone(a.Placements), func(p Placement) bool { return !goes[p.Device] }))
	if len(full) > 0 && (a.Strict || len(placements) == 0) {
		return Outcome{}, refuse(full[0].Cause, full[0].Reason, full[0].Fix)
	}
	left = append(left, full...)
	work := &command.Work{Kind: "place"}
	var wishes Wishes
	var cameras, targets []uuid.UUID
	tuned := map[uuid.UUID]bool{}
	for _, p := range placements {
		cameras = append(cameras, p.Device)
		if !slices.Contains(targets, p.Target) {
			targets = append(targets, p.Target)
		}
		wishes = append(wishes, Wish{Device: p.Device, Target: p.Target, Slot: p.Slot, Role: p.Role})
		do := command.Place{Target: p.Target, Replaces: p.Replaces, Again: p.Again}
		if plan, wanted := own[p.Device]; wanted && !tuned[p.Device] { // once, however many targets it is put onto
			tuned[p.Device] = true
			do.Tune = &command.Tune{Plan: plan}
		}
		work.Devices = append(work.Devices, command.OnDevice{Device: p.Device, Do: command.Device{Place: &do}})
	}
	cameras = Distinct(cameras)
	out := Outcome{Work: work, Left: left, Slots: slots, Line: Line{Subject: f.names(cameras), Devices: cameras}}
	if len(own) > 0 {
		out.Keep = append(out.Keep, own)
	}
	out.Keep = append(out.Keep, wishes)
	on := f.Targets[targets[0]].Name
	out.Line.Target = targets[0]
	if len(targets) > 1 {
		on, out.Line.Target = fmt.Sprintf("%d targets", len(targets)), uuid.Nil
	}
	work.Title = fmt.Sprintf("Place %s on %s", command.Cameras(len(cameras)), on)
	out.Line.After = "on " + on
	return out, nil
}

// nearest puts into own the plan nearest to a camera's streams that all its targets take, where one of the targets of the act does not take
// them as they are. It refuses a camera of whose streams the targets want what contradicts itself, or that somebody else is setting.
func (a Place) nearest(f Facts, d *latch.Device, own OwnPlans) *Refusal {
	intakes, misfits := d.Status.WantedIntakes(), false
	for _, p := range a.Placements {
		t := f.Targets[p.Target]
		if p.Device != d.ID || t.Intake == nil {
			continue
		}
		in := *t.Intake
		in.Name = t.Name
		intakes = append(intakes, in)
		misfits = misfits || d.Status.FittingOn(t.Target).Verdict == latch.AfterTuning
	}
	if !misfits {
		return nil
	}
	plan, conflicts := fit.NearestPlan(d.Status.FitStreams(), intakes)
	if len(conflicts) > 0 {
		return refuse("conflict", fmt.Sprintf("The targets of %s contradict each other about its %s.", d.Title, conflicts[0].Field),
			"Take it off one of them, or give that one another stream.")
	}
	wanted := d.Status.Plan.With(plan)
	if r := (Tune{Plans: map[uuid.UUID]tuning.Plan{d.ID: wanted}}).tunable(f, d); r != nil {
		return r
	}
	own[d.ID] = wanted
	return nil
}

// Fill puts cameras into the free slots of a target, in order.
type Fill struct {
	Site, Target uuid.UUID
	Devices      []uuid.UUID
	Start        string // the slot to begin with; "" for the first
	Places       []int  // the cameras' places in a list, whose gaps are kept; nil for none
	Tune         bool
	Strict       bool
}

// About implements Act.
func (a Fill) About() About {
	out := About{Name: "fill", Right: Work, Site: a.Site, Devices: a.Devices, Targets: []uuid.UUID{a.Target}, WithStates: true}
	if a.Tune {
		out.Doing = tuneCommand
	}
	return out
}

// Decide implements Act.
func (a Fill) Decide(f Facts) (Outcome, error) {
	t := f.Targets[a.Target]
	if t.Layout == nil {
		return Outcome{}, refuse("not_seen", "Nobody has looked at the slots of "+t.Name+" yet.", "Look at it first.")
	}
	if a.Places != nil && len(a.Places) != len(a.Devices) {
		return Outcome{}, refuse("places", "There has to be a place for each camera.", "Send as many places as cameras, or none.")
	}
	place := Place{Site: a.Site, Tune: a.Tune, Strict: a.Strict, Operation: "fill"}
	var full []Left
	for i, slot := range target.Fill(*t.Layout, a.Start, len(a.Devices), a.Places) {
		if slot != "" {
			place.Placements = append(place.Placements, Placement{Device: a.Devices[i], Target: t.ID, Slot: slot})
			continue
		}
		full = append(full, Left{Device: a.Devices[i], Name: f.Devices[a.Devices[i]].Title, Cause: "no_free_slot",
			Reason: t.Name + " has no free slot for it.", Fix: "Take a camera off, or free a blocked slot."})
	}
	if len(place.Placements) == 0 {
		return Outcome{}, refuse("no_free_slot", t.Name+" has no free slot there.",
			"Take a camera off, free a blocked slot, or begin further up.")
	}
	out, err := place.Decide(f)
	out.Left = append(out.Left, full...)
	return out, err
}

// OnTarget is one camera that stands on a target, and the target.
type OnTarget struct{ Site, Device, Target uuid.UUID }

func (a OnTarget) aboutOne(name Name) About {
	return About{Name: name, Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}, Targets: []uuid.UUID{a.Target}}
}

func (a OnTarget) work(f Facts, title string, do command.Device, after string) Outcome {
	return Outcome{
		Work: &command.Work{Kind: "place", Title: title, Devices: command.Each([]uuid.UUID{a.Device}, do)},
		Line: Line{Subject: f.names([]uuid.UUID{a.Device}), Devices: []uuid.UUID{a.Device}, Target: a.Target, After: after},
	}
}

// Move moves a camera to another slot of its target. One that is there changes places with it.
type Move struct {
	OnTarget
	Slot string
}

// About implements Act.
func (a Move) About() About { return a.aboutOne("move-placement") }

// Decide implements Act.
func (a Move) Decide(f Facts) (Outcome, error) {
	return a.work(f, "Move a camera on "+f.Targets[a.Target].Name, command.Device{Move: &command.Move{Target: a.Target, Slot: a.Slot}},
		"slot "+a.Slot), nil
}

// Show has a target show a camera on a screen, measured.
type Show struct {
	OnTarget
	Screen string
}

// About implements Act.
func (a Show) About() About { return a.aboutOne("show-on-screen") }

// Decide implements Act.
func (a Show) Decide(f Facts) (Outcome, error) {
	return a.work(f, "Show a camera on "+a.Screen, command.Device{Show: &command.Show{Target: a.Target, Screen: a.Screen}}, a.Screen), nil
}

// SetRule has a hub show a camera on a screen when a message comes; the zero rule takes that back.
type SetRule struct {
	OnTarget
	Rule hub.Rule
}

// About implements Act.
func (a SetRule) About() About { return a.aboutOne("set-rule") }

// Decide implements Act.
func (a SetRule) Decide(f Facts) (Outcome, error) {
	after := "taken back"
	if a.Rule.Event == "" || a.Rule.Screen == "" {
		a.Rule = hub.Rule{}
	} else {
		after = a.Rule.Event + " on " + a.Rule.Screen
	}
	return a.work(f, "Set when a hub shows a camera", command.Device{Rule: &command.Rule{Target: a.Target, Rule: a.Rule}}, after), nil
}

// Remove takes cameras off a target.
type Remove struct {
	Site, Target uuid.UUID
	Devices      []uuid.UUID
}

// About implements Act.
func (a Remove) About() About {
	return About{Name: "remove-from-target", Right: Work, Site: a.Site, Devices: a.Devices, Targets: []uuid.UUID{a.Target}}
}

// Decide implements Act.
func (a Remove) Decide(f Facts) (Outcome, error) {
	title := fmt.Sprintf("Take %s off %s", command.Cameras(len(a.Devices)), f.Targets[a.Target].Name)
	return Outcome{
		Work: &command.Work{Kind: "remove", Title: title,
			Devices: command.Each(a.Devices, command.Device{Remove: &command.Remove{Target: a.Target}})},
		Line: Line{Subject: f.names(a.Devices), Devices: a.Devices, Target: a.Target},
	}, nil
}

// Attest says that somebody has looked, and that a target which cannot be asked shows the cameras.
type Attest struct {
	Site, Target uuid.UUID
	Devices      []uuid.UUID
	Strict       bool
}

// About implements Act.
func (a Attest) About() About {
	return About{Name: "attest", Right: Work, Site: a.Site, Devices: a.Devices, Targets: []uuid.UUID{a.Target}, WithStates: true}
}

// Decide implements Act.
func (a Attest) Decide(f Facts) (Outcome, error) {
	t := f.Targets[a.Target]
	stand, left, err := sift(f, a.Devices, a.Strict, func(d *latch.Device) *Refusal {
		for _, p := range d.Status.Placements {
			switch {
			case p.Target != a.Target || p.Slot == "":
			case !p.ByHand() && Asked(t.Kind):
				return refuse("can_be_asked", t.Name+" is asked for its picture itself.", "Open the camera's latches.")
			default:
				return nil
			}
		}
		return refuse("not_on_it", d.Title+" is not on "+t.Name+".", "Place it first.")
	})
	if err != nil {
		return Outcome{}, err
	}
	out := Outcome{Left: left, Line: Line{Subject: f.names(ids(stand)), Devices: ids(stand), Target: a.Target, After: "shown"}}
	for _, d := range stand {
		out.Keep = append(out.Keep, Found{Device: d.ID, Subject: a.Target.String(), Body: evidence.Confirmed{Attested: f.By.Name}})
	}
	return out, nil
}

// OrderList sets the order of a list that is made here.
type OrderList struct {
	Site, Target uuid.UUID
	Devices      []uuid.UUID
}

// About implements Act.
func (a OrderList) About() About {
	return About{Name: "order-list", Right: Work, Site: a.Site, Devices: a.Devices, Targets: []uuid.UUID{a.Target}}
}

// Decide implements Act.
func (a OrderList) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Targets[a.Target].Name, Target: a.Target, Devices: a.Devices}}, nil
}
