package act

import (
	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target"
)

// Found is evidence that an act gives: what a person says is evidence as what a device says is.
type Found struct {
	Device  uuid.UUID
	Subject string
	Body    evidence.Body
}

// NewSignIns are put on the keyring, before any device hears of them.
type NewSignIns []signin.New

// OwnPlans are plans of single devices. An empty plan takes the device's own away.
type OwnPlans map[uuid.UUID]tuning.Plan

// Wishes are where cameras shall stand on targets. Of two about the same camera on the same target, the later one holds.
type Wishes []Wish

// A Wish says that a person wants a camera on a target.
type Wish struct {
	Device uuid.UUID
	Target uuid.UUID
	Slot   string // the target's own name of it; "" for the first free one
	Role   string // the stream; "" for the rule's own choice
}

// InAnySlot returns wishes that cameras stand on a target, each in the first free slot.
func InAnySlot(target uuid.UUID, devices ...uuid.UUID) Wishes {
	out := make(Wishes, len(devices))
	for i, d := range devices {
		out[i] = Wish{Device: d, Target: target}
	}
	return out
}

// Agreed is that secrets may go to a target so that they can be read.
type Agreed struct {
	Target  uuid.UUID
	To      *target.Identity // nil for whoever answers there first
	Secrets []target.Secret
}

// NewFeed makes a new address for a feed; the one before opens nothing from then on.
type NewFeed struct{ Target uuid.UUID }
