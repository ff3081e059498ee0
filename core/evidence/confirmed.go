package evidence

import (
	"fmt"

	"unlatch/core/diagnose"
)

// Confirmed is what the target itself reports.
type Confirmed struct {
	State     string              `json:"state,omitempty" doc:"the receiver's state"`
	Recording string              `json:"recording,omitempty" doc:"the recording job's state"`
	AfterMS   int64               `json:"after_ms,omitempty" doc:"from placing to the target's report"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Confirmed) kind() Kind { return KindConfirmed }

func (b Confirmed) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Confirmed) sum(_ string) string {
	return fmt.Sprintf("The recorder reports %s, recording %s", b.State, b.Recording)
}
