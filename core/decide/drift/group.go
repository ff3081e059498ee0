package drift

import (
	"cmp"
	"slices"
	"time"

	"github.com/google/uuid"
)

// An Episode is a drift with its time: from the look that first showed it to the one that showed that it was over.
type Episode struct {
	ID uuid.UUID `json:"id"`
	Drift
	// After is the last look at which it was not so yet, the zero time where none is known; Before is the first one that showed it.
	After  time.Time `json:"after,omitzero"`
	Before time.Time `json:"before"`
	// Ended is when a look showed that it was over; the zero time while it lasts.
	Ended time.Time `json:"ended,omitzero"`
	// Flaps is how often it was over and came again within a day; 0 for one that came once.
	Flaps int `json:"flaps,omitempty"`
	// PutOff is until when nobody wants to hear of it; the zero time for now.
	PutOff   time.Time `json:"put_off,omitzero"`
	PutOffBy string    `json:"put_off_by,omitempty"`
	// Told is when it was told first; the zero time while it was not.
	Told time.Time `json:"told,omitzero"`
}

// A Finding is drifts with one cause: the first of them, and those that came with it.
type Finding struct {
	Episode
	// Under are the others, by title; none for a drift alone.
	Under []Episode `json:"under"`
}

// All returns the episodes of a finding.
func (f Finding) All() []Episode { return append([]Episode{f.Episode}, f.Under...) }

// fewest is how many drifts of one cause it takes to be one finding. Cameras go silent one at a time too.
func (c Cause) fewest() int {
	if c == Silent || c == NotPlaying || c == Slower {
		return 3
	}
	return 2
}

// Group puts episodes together that have a cause and something else in common and began within window of each other, the gravest and then
// the newest first. Episodes that concern one device only stay alone.
func Group(list []Episode, window time.Duration) []Finding {
	type key struct {
		cause  Cause
		shared string
	}
	byKey := map[key][]Episode{}
	var out []Finding
	for _, e := range list {
		if e.Shared == "" {
			out = append(out, Finding{Episode: e, Under: []Episode{}})
			continue
		}
		k := key{e.Cause, e.Shared}
		byKey[k] = append(byKey[k], e)
	}
	for _, same := range byKey {
		slices.SortFunc(same, func(a, b Episode) int { return cmp.Or(a.Before.Compare(b.Before), cmp.Compare(a.Title, b.Title)) })
		for len(same) > 0 {
			n := 1
			for n < len(same) && same[n].Before.Sub(same[n-1].Before) <= window {
				n++
			}
			out = append(out, together(same[:n])...)
			same = same[n:]
		}
	}
	slices.SortFunc(out, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(b.Cause.Severity(), a.Cause.Severity()), b.Before.Compare(a.Before), cmp.Compare(a.Title, b.Title),
			cmp.Compare(a.Subject, b.Subject))
	})
	return out
}

// together returns episodes as one finding where there are enough of them, and as one each otherwise.
func together(same []Episode) (out []Finding) {
	if len(same) < same[0].Cause.fewest() {
		for _, e := range same {
			out = append(out, Finding{Episode: e, Under: []Episode{}})
		}
		return out
	}
	f := Finding{Episode: same[0], Under: slices.Clone(same[1:])}
	slices.SortFunc(f.Under, func(a, b Episode) int { return cmp.Compare(a.Title, b.Title) })
	return []Finding{f}
}
