package act

import (
	"fmt"
	"slices"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/outside"
)

// PutOutside keeps how a site is seen from outside: its addresses there, and which port leads to what.
type PutOutside struct {
	Site uuid.UUID
	Form outside.Form
	// Problems are what is wrong with the form, as Check has it.
	Problems []outside.Mistake
}

// About implements Act.
func (a PutOutside) About() About {
	out := About{Name: "put-outside", Right: Work, Site: a.Site}
	for _, m := range a.Form.Maps {
		if !slices.Contains(out.Devices, m.Device) {
			out.Devices = append(out.Devices, m.Device)
		}
	}
	return out
}

// Decide implements Act.
func (a PutOutside) Decide(f Facts) (Outcome, error) {
	if len(a.Problems) > 0 {
		p := a.Problems[0]
		return Outcome{}, &Refusal{Cause: "bad_outside", Detail: p.Problem, Fix: p.Fix, Count: uint64(len(a.Problems))}
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name, After: fmt.Sprintf("%d ports", len(a.Form.Maps))}}, nil
}

// ProveOutside has a worker elsewhere play what is led outside.
type ProveOutside struct {
	Site uuid.UUID
	Form outside.Form
}

// About implements Act.
func (a ProveOutside) About() About { return About{Name: "prove-outside", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a ProveOutside) Decide(f Facts) (Outcome, error) {
	if len(a.Form.Maps) == 0 || len(a.Form.Addresses) == 0 {
		return Outcome{}, refuse("no_outside", "Nothing is led outside.", "Give the site an outside address, and plan its ports.")
	}
	return Outcome{
		Work: &command.Work{Kind: "outside", Title: "Prove from outside", Steps: int64(len(a.Form.Maps)),
			Site: &command.OnSite{Outside: &command.Outside{}}},
		Line: Line{Subject: f.Site.Name},
	}, nil
}
