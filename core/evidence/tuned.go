package evidence

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"unlatch/core/diagnose"
	"unlatch/core/tuning"
)

// Tuned is that a device's streams were set to a plan by its device service, and read back. Whether what comes is what was wanted, the
// proofs tell that are made afterwards.
type Tuned struct {
	Pending     bool                      `json:"pending,omitempty" doc:"recorded before it was sent; what came of it is not known yet"`
	Undone      bool                      `json:"undone,omitempty"`
	Plan        map[string]tuning.Stream  `json:"plan" doc:"by role"`
	Before      map[string]tuning.Encoder `json:"before" doc:"by role; what undo puts back"`
	Wanted      map[string]tuning.Encoder `json:"wanted,omitempty" doc:"by role: the setting that was sent, rounded to what the device offers"`
	ReadBack    map[string]tuning.Encoder `json:"read_back,omitempty" doc:"by role"`
	Changes     []tuning.Change           `json:"changes,omitempty"`
	Refused     []tuning.Refusal          `json:"refused,omitempty"`
	SideEffects []string                  `json:"side_effects,omitempty"`
	Diagnosis   *diagnose.Diagnosis       `json:"diagnosis,omitempty"`
}

func (Tuned) kind() Kind { return KindTuned }

func (b Tuned) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Tuned) sum(_ string) string {
	roles := strings.Join(slices.Sorted(maps.Keys(b.Plan)), " and ")
	switch {
	case b.Pending:
		return "Streams are about to be set: " + roles
	case b.Undone:
		return "Stream settings put back: " + roles
	}
	text := fmt.Sprintf("Streams set: %s, %d changes", roles, len(b.Changes))
	if len(b.Refused) > 0 {
		text += fmt.Sprintf(", %d refused", len(b.Refused))
	}
	return text
}
