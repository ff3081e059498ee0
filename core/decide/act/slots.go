package act

import (
	"github.com/google/uuid"

	"unlatch/core/wire/target"
	"unlatch/core/wire/target/viabridge"
)

// A PlannedSlot is the slot that a camera goes into, as it is planned before anything is sent to the target.
type PlannedSlot struct {
	Device uuid.UUID `json:"device"`
	Target uuid.UUID `json:"target"`
	Slot   string    `json:"slot" doc:"as the target labels it"`
}

// planSlots gives each placement that names no slot one of its target: the one that the camera has there, or was planned into before, else
// the first that is free and planned for nobody, in the order of the placements. So cameras stand on a target in the order in which they
// were chosen, whichever is ready first. full are the cameras for which there is none.
//
// A target that nobody has looked at, or that names no slot before it is in use, is left to choose: the recorder by the open standard does.
func (f Facts) planSlots(placements []Placement) (going []Placement, planned []PlannedSlot, full []Left) {
	plans := map[uuid.UUID]*slotPlan{}
	for _, p := range placements {
		t := f.Targets[p.Target]
		if t.Kind != viabridge.Kind || t.Layout == nil || len(t.Layout.Slots) == 0 || p.Replaces != uuid.Nil {
			going = append(going, p)
			continue
		}
		plan := plans[t.ID]
		if plan == nil {
			plan = f.newSlotPlan(t, placements)
			plans[t.ID] = plan
		}
		slot := plan.of(p.Slot, p.Device, f.Devices[p.Device].Identity())
		if slot == nil {
			full = append(full, Left{Device: p.Device, Name: f.Devices[p.Device].Title, Cause: "no_free_slot",
				Reason: t.Name + " has no free slot for it.", Fix: "Take a camera off, or free a blocked slot."})
			continue
		}
		p.Slot = slot.Token
		going = append(going, p)
		planned = append(planned, PlannedSlot{p.Device, t.ID, slot.Called()})
	}
	return going, planned, full
}

// A slotPlan hands the slots of one target out.
type slotPlan struct {
	slots  []target.Slot
	next   int
	taken  map[string]bool      // by token: planned for somebody
	wanted map[uuid.UUID]string // the token that a camera was planned into before
}

func (f Facts) newSlotPlan(t Target, placements []Placement) *slotPlan {
	plan := &slotPlan{slots: t.Layout.Slots, taken: map[string]bool{}, wanted: map[uuid.UUID]string{}}
	for _, w := range f.Wanted {
		if w.Target == t.ID && w.Slot != "" {
			plan.taken[w.Slot], plan.wanted[w.Device] = true, w.Slot
		}
	}
	for _, p := range placements {
		if p.Target == t.ID && p.Slot != "" {
			plan.taken[p.Slot] = true
		}
	}
	return plan
}

// of returns the slot for a camera, which may be named already; nil for none.
func (p *slotPlan) of(token string, device uuid.UUID, identity string) *target.Slot {
	if token == "" {
		token = p.wanted[device]
	}
	for i := range p.slots {
		s := &p.slots[i]
		if s.Token == token && token != "" || token == "" && s.Identity != "" && s.Identity == identity {
			return s
		}
	}
	if token != "" {
		return &target.Slot{Token: token} // the target has it no more; it will say so
	}
	for ; p.next < len(p.slots); p.next++ {
		s := &p.slots[p.next]
		if s.Is == target.Free && !p.taken[s.Token] {
			p.taken[s.Token] = true
			return s
		}
	}
	return nil
}
