// Package keeping says how long the past is kept: a rule that people can read and set. It is pure; package store forgets.
//
// First, last and every change of a record stay for good, and so does what a baseline, a handover, a drift or an open latch stands on. What
// goes is repetition: conversations of what went well, and the many measures that are kept thinner the older they are.
package keeping

import "fmt"

// A KeepingRule is how long the past is kept, in days. A field that is 0 has its usual value.
type KeepingRule struct {
	Exchanges int `json:"exchanges,omitempty" minimum:"0" maximum:"36500" doc:"days for the conversations of what went well; 0 for 30"`
	Repeats   int `json:"repeats,omitempty" minimum:"0" maximum:"36500" doc:"days for records that repeat the one before; 0 for 30"`
	Minutes   int `json:"minutes,omitempty" minimum:"0" maximum:"36500" doc:"days for measures by the minute; 0 for 7"`
	Quarters  int `json:"quarters,omitempty" minimum:"0" maximum:"36500" doc:"days for measures by the quarter of an hour; 0 for 92"`
	Hours     int `json:"hours,omitempty" minimum:"0" maximum:"36500" doc:"days for measures by the hour; 0 for 1,830"`
}

// Usual is the rule where nobody has set one.
var Usual = KeepingRule{Exchanges: 30, Repeats: 30, Minutes: 7, Quarters: 92, Hours: 1830}

// Whole returns the rule with the usual values where it has none.
func (r KeepingRule) Whole() KeepingRule {
	for of, usual := range map[*int]int{&r.Exchanges: Usual.Exchanges, &r.Repeats: Usual.Repeats, &r.Minutes: Usual.Minutes,
		&r.Quarters: Usual.Quarters, &r.Hours: Usual.Hours} {
		if *of == 0 {
			*of = usual
		}
	}
	return r
}

// A RuleError says what of a rule cannot be.
type RuleError struct{ Problem string }

func (e *RuleError) Error() string { return e.Problem }

// Check returns a *RuleError where coarser measures would go before the finer ones: nothing would be left to look at then.
func (r KeepingRule) Check() error {
	w := r.Whole()
	switch {
	case w.Minutes > w.Quarters:
		return &RuleError{fmt.Sprintf("measures by the minute would stay %d days, and those by the quarter of an hour only %d",
			w.Minutes, w.Quarters)}
	case w.Quarters > w.Hours:
		return &RuleError{fmt.Sprintf("measures by the quarter of an hour would stay %d days, and those by the hour only %d",
			w.Quarters, w.Hours)}
	}
	return nil
}
