package act

import (
	"errors"
	"fmt"

	"unlatch/core/decide/keeping"
)

// SetKeeping says how long the past is kept, on all sites.
type SetKeeping struct{ Rule keeping.KeepingRule }

// About implements Act.
func (a SetKeeping) About() About { return About{Name: "set-keeping", Right: Administer} }

// Decide implements Act.
func (a SetKeeping) Decide(Facts) (Outcome, error) {
	var wrong *keeping.RuleError
	if err := a.Rule.Check(); errors.As(err, &wrong) {
		return Outcome{}, refuse("bad_rule", sentence(wrong.Problem), "Keep what is coarser at least as long.")
	}
	w := a.Rule.Whole()
	return Outcome{Keep: []any{a}, Line: Line{Subject: "measures and records", After: fmt.Sprintf(
		"conversations %d days, repeats %d, minutes %d, quarters %d, hours %d", w.Exchanges, w.Repeats, w.Minutes, w.Quarters, w.Hours)}}, nil
}
