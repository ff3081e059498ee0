package evidence

import (
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/trouble"
)

// Confirmed is what the target itself reports.
type Confirmed struct {
	Says     string     `json:"says,omitempty" doc:"what the target says, in its own words"`
	AfterMS  int64      `json:"after_ms,omitempty" doc:"from placing to the target's report"`
	Match    string     `json:"match,omitempty" doc:"of the target's picture: right camera, wrong camera, cannot tell"`
	Still    *uuid.UUID `json:"still,omitempty" doc:"the picture that it shows"`
	SendsOn  []Given    `json:"sends_on,omitempty" doc:"where the target sends the picture on"`
	Note     string     `json:"note,omitempty" doc:"what a person should know besides"`
	Attested string     `json:"attested,omitempty" doc:"who has looked and said that it shows, where it cannot be asked"`
	// Waits is what the picture waits for, and Since when that began; with neither a picture nor a diagnosis.
	Waits     trouble.Wait        `json:"waits,omitempty" doc:"what its picture waits for"`
	Since     time.Time           `json:"since,omitzero" doc:"when that began"`
	Until     time.Time           `json:"until,omitzero" doc:"when the target can begin, by its own word"`
	WaitedMS  int64               `json:"waited_ms,omitempty" doc:"of a picture that has come: how long it was waited for in all"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Confirmed) kind() Kind { return KindConfirmed }

func (b Confirmed) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Confirmed) sum(_ string) string {
	if b.Attested != "" {
		return b.Attested + " has looked: it shows the picture"
	}
	if b.Match != "" {
		return "It reports " + b.Says + "; its picture: " + b.Match
	}
	return "It reports " + b.Says
}
