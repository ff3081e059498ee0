package fit

import (
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
)

// An Effect is what new settings make of a camera on one target.
type Effect struct {
	Target string   `json:"target"`
	Before []Reason `json:"before" doc:"why it takes no stream now; empty where it takes one"`
	After  []Reason `json:"after" doc:"why it would take none then; empty where it would take one"`
}

// Effects returns what settings that are about to be sent make of a camera on its targets. streams are those that are proven now; want
// are the settings as they would be, by role.
func Effects(streams map[string]Stream, want map[string]tuning.Encoder, targets []intake.Intake) []Effect {
	then := map[string]Stream{}
	for role, s := range streams {
		then[role] = s
	}
	for role, e := range want {
		s, had := then[role]
		if !had {
			s = Stream{Role: role, Audio: "none"}
		}
		then[role] = Becomes(s, e)
	}
	out := []Effect{}
	for _, x := range targets {
		c := Effect{Target: x.Name, Before: []Reason{}, After: []Reason{}}
		if r, ok := Best(streams, x); !ok {
			c.Before = r
		}
		if r, ok := Best(then, x); !ok {
			c.After = r
		}
		out = append(out, c)
	}
	return out
}
