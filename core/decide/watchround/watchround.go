// Package watchround says when a watched site is looked at, and what came of it over time. It is pure: jobs carry the looks out.
//
// A round is one turn of the watch: each camera and each target of a site is looked at once in it. The looks of a round are spread evenly
// over its time by the IDs of what is looked at, so that a site of 2,000 cameras is a steady trickle and no storm.
package watchround

import (
	"fmt"
	"hash/fnv"
	"slices"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/drift"
)

// A WatchRule is how a site is watched. The zero WatchRule watches nothing.
type WatchRule struct {
	On bool `json:"on"`
	// CameraMinutes and TargetMinutes are how long a round takes; 0 means 15 for cameras and 5 for targets.
	CameraMinutes int `json:"camera_minutes,omitempty" minimum:"0" maximum:"1440" doc:"how long a round of the cameras takes; 0 for 15"`
	TargetMinutes int `json:"target_minutes,omitempty" minimum:"0" maximum:"1440" doc:"how long a round of the targets takes; 0 for 5"`
	// Quiet are the hours of maintenance, in UTC: what is found then is told after them.
	Quiet []Hours `json:"quiet,omitempty" maxItems:"20" doc:"hours of maintenance, in UTC: what is found is told after them"`
	// Mends are the repairs that the watch does by itself, at most MendsADay on one site.
	Mends     []drift.Repair `json:"mends,omitempty" maxItems:"10" doc:"what the watch puts right by itself: slot, settings"`
	MendsADay int            `json:"mends_a_day,omitempty" minimum:"0" maximum:"1000" doc:"how often at most a day; 0 for 10"`
}

// Hours are a part of a day of the week, or of every day.
type Hours struct {
	Day  string `json:"day,omitempty" enum:"mon,tue,wed,thu,fri,sat,sun" doc:"missing for every day"`
	From int    `json:"from" minimum:"0" maximum:"23"`
	To   int    `json:"to" minimum:"1" maximum:"24" doc:"the hour at which they end"`
}

// The rounds where a rule says nothing else, and how many repairs a day the watch may do.
const (
	CameraRound = 15 * time.Minute
	TargetRound = 5 * time.Minute
	MendsADay   = 10
)

// FullEvery is how long after a full look the next is due: a little less than a day, so that it comes by day and at night in turn.
const FullEvery = 23 * time.Hour

// A RuleError says what of a rule cannot be.
type RuleError struct{ Problem string }

func (e *RuleError) Error() string { return e.Problem }

// Check returns a *RuleError where the rule cannot be.
func (r WatchRule) Check() error {
	for _, h := range r.Quiet {
		if h.From >= h.To {
			return &RuleError{fmt.Sprintf("hours of maintenance from %d to %d end before they begin; write two for hours over midnight",
				h.From, h.To)}
		}
	}
	for _, m := range r.Mends {
		if !m.Unattended() {
			return &RuleError{fmt.Sprintf("%q is nothing that the watch may do by itself", m)}
		}
	}
	return nil
}

// Round returns how long a round takes, of targets or of cameras.
func (r WatchRule) Round(targets bool) time.Duration {
	minutes, usual := r.CameraMinutes, CameraRound
	if targets {
		minutes, usual = r.TargetMinutes, TargetRound
	}
	if minutes == 0 {
		return usual
	}
	return time.Duration(minutes) * time.Minute
}

// MostMends returns how many repairs a day the watch may do by itself.
func (r WatchRule) MostMends() int {
	if r.MendsADay == 0 {
		return MendsADay
	}
	return r.MendsADay
}

// Mending reports whether the watch does a repair by itself.
func (r WatchRule) Mending(x drift.Repair) bool { return x.Unattended() && slices.Contains(r.Mends, x) }

// IsQuiet reports whether a time lies in the hours of maintenance.
func (r WatchRule) IsQuiet(at time.Time) bool {
	at = at.UTC()
	day := [...]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}[at.Weekday()]
	return slices.ContainsFunc(r.Quiet, func(h Hours) bool {
		return (h.Day == "" || h.Day == day) && at.Hour() >= h.From && at.Hour() < h.To
	})
}

// First returns when something is looked at first that is watched from now on: within one round, by its ID.
func First(id uuid.UUID, now time.Time, round time.Duration) time.Time {
	h := fnv.New32a()
	h.Write(id[:])
	return now.Add(time.Duration(float64(round) * float64(h.Sum32()) / (1 << 32)))
}

// Next returns when the look after the one that was due is: a whole number of rounds later, and after now. Rounds that were missed,
// because no worker was there, are not made up for. A due time that lies more than a round ahead is of a clock that was set back: the next
// is within a round of now then.
func Next(due, now time.Time, round time.Duration) time.Time {
	late := now.Sub(due)
	if late < -round {
		return now.Add((late%round + round) % round)
	}
	return due.Add(round * (1 + max(0, late/round)))
}

// A State is how something was when it was looked at.
type State string

// The states.
const (
	Up        State = "up"         // it answers, as was agreed
	Changed   State = "changed"    // it answers, and differs from what was agreed
	Down      State = "down"       // it does not answer
	NotLooked State = "not_looked" // nobody has looked
)

// A SeenSpan is a time over which every look found the same.
type SeenSpan struct {
	State State     `json:"state" enum:"up,changed,down,not_looked"`
	From  time.Time `json:"from"`
	To    time.Time `json:"to"`
}

// patience is how many rounds may pass between two looks before nobody has looked. One may be a little late.
const patience = 2.5

// Missed reports whether the time between two looks is so long that nobody has looked in between.
func Missed(between, round time.Duration) bool {
	return between > time.Duration(patience*float64(round))
}

// Extends reports whether a look belongs to the last span.
func (s SeenSpan) Extends(is State, at time.Time, round time.Duration) bool {
	return s.State == is && !at.Before(s.To) && !Missed(at.Sub(s.To), round)
}

// Whole returns the spans between two times without gaps: what lies between two looks that found different things counts as the worse of
// them, and time without any look as not looked. spans are in order of time and do not overlap.
func Whole(spans []SeenSpan, from, to time.Time, round time.Duration) (out []SeenSpan) {
	add := func(s SeenSpan) {
		if s.From.Before(from) {
			s.From = from
		}
		if s.To.After(to) {
			s.To = to
		}
		if !s.From.Before(s.To) {
			return
		}
		if n := len(out); n > 0 && out[n-1].State == s.State && out[n-1].To.Equal(s.From) {
			out[n-1].To = s.To
			return
		}
		out = append(out, s)
	}
	at, last := from, NotLooked
	var seen time.Time
	for _, s := range spans {
		if s.From.After(at) {
			between := NotLooked
			if last != NotLooked && !Missed(s.From.Sub(seen), round) {
				between = worse(last, s.State)
			}
			add(SeenSpan{between, at, s.From})
		}
		add(s)
		at, last, seen = later(at, s.To), s.State, s.To
	}
	if last != NotLooked && !Missed(to.Sub(seen), round) { // the next look is still to come
		add(SeenSpan{last, at, to})
		at = to
	}
	add(SeenSpan{NotLooked, at, to})
	return out
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// worse returns the worse of two states.
func worse(a, b State) State {
	for _, s := range []State{Down, Changed} {
		if a == s || b == s {
			return s
		}
	}
	return Up
}

// A Share is how much of a time something was up, counting the time that was looked at.
type Share struct {
	Up        time.Duration
	Down      time.Duration
	NotLooked time.Duration
}

// Percent returns how much of the time that was looked at it was up, and reports false where nobody has looked at all.
func (s Share) Percent() (float64, bool) {
	looked := s.Up + s.Down
	if looked == 0 {
		return 0, false
	}
	return 100 * float64(s.Up) / float64(looked), true
}

// Availability adds up spans without gaps. What has changed and answers counts as up.
func Availability(whole []SeenSpan) (out Share) {
	for _, s := range whole {
		d := s.To.Sub(s.From)
		switch s.State {
		case Up, Changed:
			out.Up += d
		case Down:
			out.Down += d
		default:
			out.NotLooked += d
		}
	}
	return out
}
