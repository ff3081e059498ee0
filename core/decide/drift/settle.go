package drift

import (
	"slices"
	"time"

	"github.com/google/uuid"
)

// FlapsWithin is how soon after its end a drift that comes again is the same one, which comes and goes.
const FlapsWithin = 24 * time.Hour

// Settle says what a look changes of the episodes of a device. known are those that last, and those that have ended within FlapsWithin;
// found is what the look has found; after is the look before it, the zero time for none; at is this one. It returns the episodes to keep:
// new ones, those that came again, those whose fields have changed, and those that are over. What stays as it is is not among them.
func Settle(known []Episode, found []Drift, after, at time.Time) (put []Episode) {
	taken := map[string]bool{}
	for _, d := range found {
		if taken[d.Key()] {
			continue
		}
		taken[d.Key()] = true
		i := newest(known, d.Key())
		switch {
		case i < 0:
			put = append(put, Episode{ID: uuid.Must(uuid.NewV7()), Drift: d, After: after, Before: at})
		case !known[i].Ended.IsZero():
			e := known[i]
			e.Drift, e.Ended, e.Flaps = d, time.Time{}, e.Flaps+1
			put = append(put, e)
		case !alike(known[i].Drift, d):
			e := known[i]
			e.Drift = d
			put = append(put, e)
		}
	}
	for _, e := range known {
		if e.Ended.IsZero() && !taken[e.Key()] {
			e.Ended = at
			put = append(put, e)
		}
	}
	return put
}

// newest returns the index of the episode of a key that lasts, or else of the one that began last; -1 for none.
func newest(known []Episode, key string) int {
	best := -1
	for i, e := range known {
		if e.Key() != key || !e.Ended.IsZero() && best >= 0 && (known[best].Ended.IsZero() || known[best].Ended.After(e.Ended)) {
			continue
		}
		best = i
	}
	return best
}

func alike(a, b Drift) bool {
	return a.Title == b.Title && a.Of == b.Of && a.With == b.With && a.Shared == b.Shared && slices.Equal(a.Fields, b.Fields) &&
		slices.Equal(a.Also, b.Also) && slices.Equal(a.Hints, b.Hints)
}
