package evidence

import (
	"unlatch/core/diagnose"
)

// Placed is the outcome of putting the camera on a target.
type Placed struct {
	Slot      string              `json:"slot,omitempty"`
	URL       string              `json:"url,omitempty" doc:"what the target was given, without the sign-in"`
	Ref       string              `json:"ref,omitempty" doc:"the driver's own reference to the placement"`
	Removed   bool                `json:"removed,omitempty"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Placed) kind() Kind { return KindPlaced }

func (b Placed) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Placed) sum(_ string) string {
	if b.Removed {
		return "Taken off its slot"
	}
	return "Placed in " + b.Slot
}
