package evidence

import (
	"unlatch/core/diagnose"
)

// Confirmed is what the target itself reports.
type Confirmed struct {
	Says      string              `json:"says,omitempty" doc:"what the target says, in its own words"`
	AfterMS   int64               `json:"after_ms,omitempty" doc:"from placing to the target's report"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Confirmed) kind() Kind { return KindConfirmed }

func (b Confirmed) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Confirmed) sum(_ string) string {
	return "It reports " + b.Says
}
