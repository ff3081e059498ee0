package evidence

import (
	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
)

// Placed is the outcome of putting the camera on a target.
type Placed struct {
	Slot      string              `json:"slot,omitempty"`
	URL       string              `json:"url,omitempty" doc:"what the target was given, without the sign-in"`
	Ref       string              `json:"ref,omitempty" doc:"the driver's own reference to the placement"`
	Token     string              `json:"token,omitempty" doc:"the target's own name of the slot"`
	Gave      []Given             `json:"gave,omitempty" doc:"the streams that it was given"`
	SignIn    uuid.UUID           `json:"sign_in,omitzero" doc:"the keyring entry that it was given with them"`
	Removed   bool                `json:"removed,omitempty"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// A Given is a stream that a target was given.
type Given struct {
	Role string `json:"role"`
	URL  string `json:"url"`
}

func (Placed) kind() Kind { return KindPlaced }

func (b Placed) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Placed) sum(_ string) string {
	if b.Removed {
		return "Taken off its slot"
	}
	return "Placed in " + b.Slot
}
